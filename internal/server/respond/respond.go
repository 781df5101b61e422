// Package respond writes the bodies of answers: in the format that is asked for, with the fields that
// are asked for, or as files that take as long as they take.
package respond

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/card"
	"eastporch/internal/core/invalid"
	"eastporch/internal/files/answers"
	"eastporch/internal/server/request"
)

// Card writes a card; as whole JSON, which most ask for, it takes the short way. Where it gives an
// error nothing was written.
func Card(c *gin.Context, card *card.Card) error {
	if c.Request.URL.RawQuery != "" && (c.Query("fields") != "" || c.Query("format") != "") || !plainJSON(c.GetHeader("Accept")) {
		return Value(c, "", card)
	}
	c.Writer.Header().Add("Vary", "Accept")
	JSON(c, http.StatusOK, card)
	return nil
}

// JSON writes what appends itself as JSON, without reflection.
func JSON(c *gin.Context, status int, of interface{ AppendJSON([]byte) []byte }) {
	buffer := buffers.Get().(*[]byte)
	*buffer = of.AppendJSON((*buffer)[:0])
	c.Data(status, "application/json; charset=utf-8", *buffer)
	buffers.Put(buffer)
}

// buffers are where answers are written before they are sent.
var buffers = sync.Pool{New: func() any { buffer := make([]byte, 0, 4096); return &buffer }}

// plainJSON says whether an Accept header leaves JSON as the answer without being read.
func plainJSON(accept string) bool {
	return accept == "" || accept == "*/*" || accept == "application/json"
}

// Value writes one thing in the format and with the fields that are asked for; key is its list that
// these are about, if it is not the thing itself. Where it gives an error nothing was written.
func Value(c *gin.Context, key string, value any) error {
	format, err := request.Format(c)
	if err != nil {
		return err
	}
	c.Writer.Header().Add("Vary", "Accept")
	paths := answers.Paths(c.Query("fields"))
	if format == "json" && len(paths) == 0 {
		c.JSON(http.StatusOK, value)
		return nil
	}
	text, err := answers.Render(format, value, key, paths)
	if err != nil {
		return Wrong(err, key)
	}
	kind := answers.Types[format]
	if strings.HasPrefix(kind, "text/") {
		kind += "; charset=utf-8"
	}
	c.Data(http.StatusOK, kind, text)
	return nil
}

// Wrong says what is wrong with the fields that were asked for, of an answer whose list is key, "" for none.
func Wrong(err error, key string) error {
	hint := "Paths go by the keys of the answer, such as location.city or clock."
	switch {
	case !errors.Is(err, answers.ErrPath):
		return err
	case key == "addresses":
		hint = "Paths go by the keys of one of the addresses in the answer, such as input, card.location.city or problem."
	case key != "":
		hint = fmt.Sprintf("Paths go by the keys of one of the %s in the answer; ask without fields to see them.", key)
	}
	return invalid.Field("fields", err.Error(), hint)
}

// WriteWithin bounds one write of an answer that takes as long as it takes.
const WriteWithin = 30 * time.Second

// Steady writes an answer that takes as long as it takes, as long as it is read.
func Steady(c *gin.Context) io.Writer {
	return steady{c.Writer, http.NewResponseController(c.Writer)}
}

type steady struct {
	io.Writer
	out *http.ResponseController
}

func (w steady) Write(p []byte) (int, error) {
	_ = w.out.SetWriteDeadline(time.Now().Add(WriteWithin)) // the write says what is wrong
	return w.Writer.Write(p)
}

// Attachment names an answer as a file.
func Attachment(c *gin.Context, kind, name string) {
	c.Header("Content-Type", kind)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
}

// Private marks an answer about the calling visitor.
func Private(c *gin.Context) {
	c.Header("Cache-Control", "private, no-store")
	c.Writer.Header().Add("Vary", "Accept-Language, Cookie, X-Forwarded-For")
}

// Own marks an answer that is for whoever asked.
func Own(c *gin.Context) { c.Header("Cache-Control", "private, no-store") }

// NoStore marks an answer that nobody keeps.
func NoStore(c *gin.Context) { c.Header("Cache-Control", "no-store") }
