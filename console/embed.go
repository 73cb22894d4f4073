// Package console holds the built web console. Its sources are beside this file;
// `make build` builds them into dist.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files is the built console, or nil when the program was built without it.
func Files() fs.FS {
	app, err := fs.Sub(dist, "dist/app")
	if err != nil {
		return nil
	}
	if _, err := fs.Stat(app, "index.html"); err != nil {
		return nil
	}
	return app
}
