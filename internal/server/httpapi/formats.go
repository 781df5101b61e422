package httpapi

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/card"
	"eastporch/internal/formats"
)

// formatOf gives the format that a request asks for: by format=, or else by its
// Accept header; JSON where it does not say.
func formatOf(c *gin.Context) (string, error) {
	if word := c.Query("format"); word != "" {
		if formats.Types[word] == "" {
			return "", invalidField("format", fmt.Sprintf("%.20q is not a format", word), "Give one of "+strings.Join(slices.Sorted(maps.Keys(formats.Types)), ", ")+".")
		}
		return word, nil
	}
	if c.GetHeader("Accept") == "" {
		return "json", nil
	}
	offered := []string{"application/json", "application/geo+json", "application/xml", "application/yaml", "text/csv", "application/x-ndjson", "text/plain"}
	accepted := c.NegotiateFormat(offered...)
	for word, kind := range formats.Types {
		if kind == accepted {
			return word, nil
		}
	}
	p := badRequest("not-acceptable", "Not acceptable", "None of the media types of the Accept header is offered.", "Offered are "+strings.Join(offered, ", ")+".")
	p.Status = http.StatusNotAcceptable
	return "", p
}

// answerCard writes a card; as whole JSON, which most ask for, it takes the short way.
func (a *api) answerCard(c *gin.Context, card *card.Card) {
	if c.Request.URL.RawQuery == "" && plainJSON(c.GetHeader("Accept")) {
		c.Writer.Header().Add("Vary", "Accept")
		buffer := buffers.Get().(*[]byte)
		*buffer = card.AppendJSON((*buffer)[:0])
		c.Data(http.StatusOK, "application/json; charset=utf-8", *buffer)
		buffers.Put(buffer)
		return
	}
	a.write(c, "", card)
}

// buffers are where cards are written before they are sent.
var buffers = sync.Pool{New: func() any { buffer := make([]byte, 0, 4096); return &buffer }}

// plainJSON says whether an Accept header leaves JSON as the answer without being read.
func plainJSON(accept string) bool {
	return accept == "" || accept == "*/*" || accept == "application/json"
}

// answer writes one thing in the format and with the fields that are asked for.
func (a *api) answer(c *gin.Context, value any) {
	a.write(c, "", value)
}

// answerList writes an object whose list under key has the things that fields
// and formats of rows are about.
func (a *api) answerList(c *gin.Context, key string, value any) {
	a.write(c, key, value)
}

func (a *api) write(c *gin.Context, key string, value any) {
	format, err := formatOf(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Writer.Header().Add("Vary", "Accept")
	paths := formats.Paths(c.Query("fields"))
	if format == "json" && len(paths) == 0 {
		c.JSON(http.StatusOK, value)
		return
	}
	text, err := formats.Render(format, value, key, paths)
	if errors.Is(err, formats.ErrPath) {
		hint := "Paths go by the keys of the answer, such as location.city or clock."
		if key != "" {
			hint = fmt.Sprintf("Paths go by the keys of one of the %s in the answer; ask without fields to see them.", key)
		}
		err = invalidField("fields", err.Error(), hint)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	kind := formats.Types[format]
	if strings.HasPrefix(kind, "text/") {
		kind += "; charset=utf-8"
	}
	c.Data(http.StatusOK, kind, text)
}
