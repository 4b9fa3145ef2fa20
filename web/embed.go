// Package web holds the built front end and serves it.
package web

import (
	"embed"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// policy allows what the front end needs and nothing else. Styles are inline
// because the styling library puts them into the page as it runs.
const policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// Handler serves the built files, compressed where the build made a .gz beside
// one, and the index for every path of the application.
func Handler() http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is compiled in
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "only GET is served here", http.StatusMethodNotAllowed)
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); err != nil || info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				http.NotFound(w, r) // of another build; the page offers to reload
				return
			}
			name = "index.html"
		}
		h := w.Header()
		h.Set("Content-Security-Policy", policy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if strings.HasPrefix(name, "assets/") {
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			h.Set("Cache-Control", "no-cache")
		}
		serve(w, r, files, name)
	})
}

func serve(w http.ResponseWriter, r *http.Request, files fs.FS, name string) {
	h := w.Header()
	if t := mime.TypeByExtension(path.Ext(name)); t != "" {
		h.Set("Content-Type", t)
	}
	if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		if f, err := files.Open(name + ".gz"); err == nil {
			defer f.Close()
			h.Set("Content-Encoding", "gzip")
			h.Set("Vary", "Accept-Encoding")
			io.Copy(w, f)
			return
		}
	}
	f, err := files.Open(name)
	if err != nil {
		http.Error(w, "the front end is not built: run make build", http.StatusNotFound)
		return
	}
	defer f.Close()
	io.Copy(w, f)
}
