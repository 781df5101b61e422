// Package page has the script that pages of the owner's sites include, porch.js, and its
// types for TypeScript, porch.d.ts. The script is served
// as porch.min.js has it.
package page

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"net/http"
	"strings"
	"sync"
)

// Script is porch.js as it is served: made smaller from the source beside it by make generate.
//
//go:embed porch.min.js
var Script []byte

// Types is porch.d.ts.
//
//go:embed porch.d.ts
var Types []byte

// A File is a text that is served as it stands, compressed where the browser takes that.
type File struct {
	kind, tag     string
	plain, zipped []byte
}

// ScriptFile and TypesFile are what is served.
var (
	ScriptFile = sync.OnceValue(func() *File { return newFile("text/javascript; charset=utf-8", Script) })
	TypesFile  = sync.OnceValue(func() *File { return newFile("text/plain; charset=utf-8", Types) })
)

func newFile(kind string, text []byte) *File {
	sum := sha256.Sum256(text)
	return &File{kind, `"` + hex.EncodeToString(sum[:8]) + `"`, text, Zipped(text)}
}

// ServeHTTP writes the file, or 304 to whoever has it (RFC 9110, section 13.1.2).
func (f *File) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	out := w.Header()
	out.Set("ETag", f.tag)
	out.Set("Vary", "Accept-Encoding")
	if r.Header.Get("If-None-Match") == f.tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	out.Set("Content-Type", f.kind)
	text := f.plain
	if strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		out.Set("Content-Encoding", "gzip")
		text = f.zipped
	}
	_, _ = w.Write(text) // who hung up does not read it
}

// Zipped gives a text compressed (RFC 1952) as well as can be.
func Zipped(text []byte) []byte {
	var out bytes.Buffer
	w, _ := gzip.NewWriterLevel(&out, gzip.BestCompression) // which is a level
	_, _ = w.Write(text)                                    // a buffer takes everything
	_ = w.Close()
	return out.Bytes()
}
