// Package console holds the built console's files. "make build" makes them in web/ and puts them into dist/.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var files embed.FS

// Files are the console's files; without index.html where the program was built without the console.
func Files() fs.FS {
	sub, err := fs.Sub(files, "dist")
	if err != nil {
		panic(err) // the directory is embedded above
	}
	return sub
}
