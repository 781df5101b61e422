// Package webui serves the built console, which is embedded in the binary.
//
// The build writes into the folder dist; a fresh clone holds only a placeholder
// there, and then a page that says how to build the console is served.
package webui

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var built embed.FS

// notBuilt is what a fresh clone serves.
const notBuilt = `<!doctype html><html lang="en"><meta charset="utf-8"><title>East Porch</title>
<p>This binary was built without the console. Run <code>make build</code> and start it again.</p></html>
`

// Handler serves the console: its files, and the page itself for every other
// path, since the console's routes are its own.
func Handler() http.Handler {
	files, err := fs.Sub(built, "dist")
	if err != nil {
		panic("webui: " + err.Error()) // the embedded folder is named dist
	}
	return handler{files: files}
}

type handler struct{ files fs.FS }

func (h handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(path.Clean("/"+r.URL.Path), "/")
	if strings.HasPrefix(name, "assets/") {
		if info, err := fs.Stat(h.files, name); err == nil && !info.IsDir() {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			http.ServeFileFS(w, r, h.files, name)
			return
		}
		http.NotFound(w, r)
		return
	}
	h.page(w)
}

func (h handler) page(w http.ResponseWriter) {
	text, err := fs.ReadFile(h.files, "index.html")
	if err != nil {
		text = []byte(notBuilt)
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK) // whatever a router around us presumed
	_, _ = w.Write(text)         // a client that hung up is no concern of ours
}
