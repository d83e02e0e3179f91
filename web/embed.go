// Package web holds the console as it was built into dist, or nothing.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files gives the console's files.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the name is fixed above
	}
	return sub
}
