// Package web holds the console's build.
package web

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// Handler serves the console: files as they are, every other address as the
// page that routes in the browser. Built files carry a hash in their name and
// may be kept for ever.
func Handler() http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded at build time
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if _, err := fs.Stat(files, name); err != nil || name == "" || name == "." {
			if strings.HasPrefix(name, "assets/") { // of a version that is served no longer
				http.NotFound(w, r)
				return
			}
			page, err := fs.ReadFile(files, "index.html")
			if err != nil {
				http.Error(w, "the console is not built into this program: run 'make build'", http.StatusNotFound)
				return
			}
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Cache-Control", "no-cache")
			w.Write(page)
			return
		}
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		server.ServeHTTP(w, r)
	})
}
