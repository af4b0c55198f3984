// Package web holds the console as scripts/build made it.
package web

import (
	"embed"
	"html"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var files embed.FS

const notBuilt = `<!doctype html><meta charset="utf-8"><title>Domicile</title>
<p>The service runs, but its console was not built into it. Run <code>scripts/build</code> and start the service again.
<p>The command line works as it is: <code>domicile login -server %s</code>`

// Handler serves the console. Paths that are no files are the console's own places.
func Handler() http.Handler {
	dist, err := fs.Sub(files, "dist")
	if err != nil { // "dist" is a valid path
		panic(err)
	}
	index, err := fs.ReadFile(dist, "index.html")
	built := err == nil
	static := http.FileServerFS(dist)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !built {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte(strings.Replace(notBuilt, "%s", "http://"+html.EscapeString(r.Host), 1)))
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(dist, name); err == nil && info.Mode().IsRegular() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") { // their names change with their content
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			static.ServeHTTP(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		_, _ = w.Write(index)
	})
}
