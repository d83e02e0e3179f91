// Command shots takes pictures of the console: shots LINK DIR WIDTHxHEIGHT THEME NAME=PATH...
// LINK is a one-time address. A path may end in !WORDS to press a button there.
package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crosstwin/test/browser"
)

func main() {
	if err := run(os.Args[1], os.Args[2], os.Args[3], os.Args[4], os.Args[5:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(link, dir, size, theme string, shots []string) error {
	u, err := url.Parse(link)
	if err != nil {
		return err
	}
	var width, height int
	if _, err := fmt.Sscanf(size, "%dx%d", &width, &height); err != nil {
		return err
	}
	p, stop, err := browser.Open(context.Background(), u.Scheme+"://"+u.Host, width, height)
	if err != nil {
		return err
	}
	defer stop()
	if err := p.Go("/enter#"+u.Fragment, "Fleet", "servers"); err != nil {
		return err
	}
	if err := p.Theme(theme); err != nil {
		return err
	}
	for _, s := range shots {
		name, path, _ := strings.Cut(s, "=")
		path, press, pressed := strings.Cut(path, "!")
		if err := p.Go(path); err != nil {
			return err
		}
		time.Sleep(2500 * time.Millisecond)
		if pressed {
			if err := p.Press(press); err != nil {
				return err
			}
			time.Sleep(2 * time.Second)
		}
		if err := p.Picture(filepath.Join(dir, name+".png")); err != nil {
			return err
		}
		for _, e := range p.Errors() {
			fmt.Println(name, e)
		}
	}
	return nil
}
