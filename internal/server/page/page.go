// Package page has the script that pages of the owner's sites include, porch.js, and its
// types for TypeScript, porch.d.ts. Both are served as they stand here.
package page

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
)

// Script is porch.js.
//
//go:embed porch.js
var Script []byte

// Types is porch.d.ts.
//
//go:embed porch.d.ts
var Types []byte

// Zipped gives a text compressed (RFC 1952) as well as can be.
func Zipped(text []byte) []byte {
	var out bytes.Buffer
	w, _ := gzip.NewWriterLevel(&out, gzip.BestCompression) // which is a level
	_, _ = w.Write(text)                                    // a buffer takes everything
	_ = w.Close()
	return out.Bytes()
}

// Tag is the entity tag of a text (RFC 9110, section 8.8.3).
func Tag(text []byte) string {
	sum := sha256.Sum256(text)
	return `"` + hex.EncodeToString(sum[:8]) + `"`
}
