// Package webui serves the built console, which is embedded in the binary.
//
// The build writes into the folder dist; a fresh clone holds only a placeholder
// there, and then a page that says how to build the console is served. Assets
// are named by their contents and never change; the page itself is never
// stored, and its content-security policy allows nothing from elsewhere.
package webui

import (
	"crypto/rand"
	"embed"
	"fmt"
	"io/fs"
	"mime"
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

// noncePlace is where the build leaves room for the nonce of each answer.
const noncePlace = "__NONCE__"

// policy allows the page's own files and, with the nonce, the styles that its
// components make at run time.
const policy = "default-src 'none'; script-src 'self' 'nonce-%[1]s'; style-src 'self' 'nonce-%[1]s'; img-src 'self'; " +
	"font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

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
		h.asset(w, r, name)
		return
	}
	h.page(w)
}

// asset serves a file, in the shortest form that the browser reads.
func (h handler) asset(w http.ResponseWriter, r *http.Request, name string) {
	info, err := fs.Stat(h.files, name)
	if err != nil || info.IsDir() || strings.HasSuffix(name, ".br") || strings.HasSuffix(name, ".gz") {
		w.Header().Set("Cache-Control", "no-store")
		http.NotFound(w, r)
		return
	}
	header := w.Header()
	header.Set("Cache-Control", "public, max-age=31536000, immutable")
	header.Add("Vary", "Accept-Encoding")
	if kind := mime.TypeByExtension(path.Ext(name)); kind != "" {
		header.Set("Content-Type", kind)
	}
	for _, form := range []struct{ coding, ending string }{{"br", ".br"}, {"gzip", ".gz"}} {
		if accepts(r, form.coding) {
			if _, err := fs.Stat(h.files, name+form.ending); err == nil {
				header.Set("Content-Encoding", form.coding)
				http.ServeFileFS(w, r, h.files, name+form.ending)
				return
			}
		}
	}
	http.ServeFileFS(w, r, h.files, name)
}

// accepts says whether a browser reads a coding; one that weighs it with q=0
// is none that we serve.
func accepts(r *http.Request, coding string) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, weight, _ := strings.Cut(part, ";")
		if strings.TrimSpace(name) == coding && !strings.HasSuffix(strings.TrimRight(weight, ".0"), "q=") {
			return true
		}
	}
	return false
}

func (h handler) page(w http.ResponseWriter) {
	text, err := fs.ReadFile(h.files, "index.html")
	if err != nil {
		text = []byte(notBuilt)
	}
	nonce := rand.Text()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Security-Policy", fmt.Sprintf(policy, nonce))
	w.WriteHeader(http.StatusOK) // whatever a router around us presumed
	_, _ = w.Write([]byte(strings.ReplaceAll(string(text), noncePlace, nonce)))
}
