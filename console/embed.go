// Package console holds the built web console, which the service serves.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console. Without a build it is empty, and the service says so.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("the embedded console has no folder dist: " + err.Error())
	}
	return sub
}
