// Package flags has the flags of the countries of ISO 3166-1 as SVG documents, in three
// shapes. They come from an openly licensed package, by way of tools/gendata; NOTICE
// names it. It is safe for concurrent use.
package flags

import (
	_ "embed"
	"html"
	"strings"
	"sync"

	"eastporch/internal/core/packed"
)

//go:embed wide.gz
var wideFile []byte

//go:embed square.gz
var squareFile []byte

// Shapes are the shapes that flags come in: 4 by 3, 1 by 1, and 1 by 1 cut to a circle.
var Shapes = []string{"wide", "square", "round"}

var (
	wide   = sync.OnceValue(func() map[string]string { return read(wideFile) })
	square = sync.OnceValue(func() map[string]string { return read(squareFile) })
)

func read(file []byte) map[string]string {
	found := map[string]string{}
	for line := range strings.Lines(packed.Text(file)) {
		code, svg, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		found[code] = svg
	}
	return found
}

// SVG gives the flag of a country, by its alpha-2 code in capitals, in one of [Shapes].
// alt is its name for those who do not see it, "" for none. ok is false for another
// code or shape.
func SVG(code, shape, alt string) (svg string, ok bool) {
	switch shape {
	case "wide":
		svg, ok = wide()[code]
	case "square", "round":
		svg, ok = square()[code]
	}
	start := strings.IndexByte(svg, '>')
	if !ok || start < 0 {
		return "", false
	}
	head, body := svg[:start], strings.TrimSuffix(svg[start+1:], "</svg>")
	title := ""
	if alt != "" {
		head += ` role="img" aria-label="` + html.EscapeString(alt) + `"`
		title = "<title>" + html.EscapeString(alt) + "</title>"
	}
	if shape == "round" {
		body = `<clipPath id="round"><circle cx="256" cy="256" r="256"/></clipPath><g clip-path="url(#round)">` + body + `</g>`
	}
	return head + ">" + title + body + "</svg>", true
}
