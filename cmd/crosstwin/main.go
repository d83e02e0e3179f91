// Crosstwin keeps a database primary and its replicas identical. One binary is
// service, agent and command line.
package main

import (
	"os"

	"crosstwin/internal/cli"
)

func main() { os.Exit(cli.Main()) }
