package httpapi

import (
	"context"
	"encoding/json"
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
	"eastporch/internal/server/access"
	"eastporch/internal/server/guard"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/request"
)

// answerCard writes a card; as whole JSON, which most ask for, it takes the short way.
func (h *handlers) answerCard(c *gin.Context, card *card.Card) {
	if c.Request.URL.RawQuery == "" && plainJSON(c.GetHeader("Accept")) {
		c.Writer.Header().Add("Vary", "Accept")
		buffer := buffers.Get().(*[]byte)
		*buffer = card.AppendJSON((*buffer)[:0])
		c.Data(http.StatusOK, "application/json; charset=utf-8", *buffer)
		buffers.Put(buffer)
		return
	}
	h.write(c, "", card)
}

// buffers are where cards are written before they are sent.
var buffers = sync.Pool{New: func() any { buffer := make([]byte, 0, 4096); return &buffer }}

// plainJSON says whether an Accept header leaves JSON as the answer without being read.
func plainJSON(accept string) bool {
	return accept == "" || accept == "*/*" || accept == "application/json"
}

// reply writes one thing in the format and with the fields that are asked for, or the problem
// of an error.
func (h *handlers) reply(c *gin.Context, value any, err error) {
	h.replyList(c, "", value, err)
}

// replyList is reply for an object whose list under key has the things that fields and formats
// of rows are about.
func (h *handlers) replyList(c *gin.Context, key string, value any, err error) {
	if err != nil {
		h.fail(c, err)
		return
	}
	h.write(c, key, value)
}

// replyJSON writes one thing as JSON, not to be kept by anybody, or the problem of an error.
func (h *handlers) replyJSON(c *gin.Context, status int, value any, err error) {
	if err != nil {
		h.fail(c, err)
		return
	}
	if c.Writer.Header().Get("Cache-Control") == "" {
		noStore(c)
	}
	c.JSON(status, value)
}

// done answers that something was done, or with the problem of an error.
func (h *handlers) done(c *gin.Context, err error) {
	if err != nil {
		h.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (h *handlers) write(c *gin.Context, key string, value any) {
	format, err := request.Format(c)
	if err != nil {
		h.fail(c, err)
		return
	}
	c.Writer.Header().Add("Vary", "Accept")
	paths := answers.Paths(c.Query("fields"))
	if format == "json" && len(paths) == 0 {
		c.JSON(http.StatusOK, value)
		return
	}
	text, err := answers.Render(format, value, key, paths)
	if errors.Is(err, answers.ErrPath) {
		hint := "Paths go by the keys of the answer, such as location.city or clock."
		if key != "" {
			hint = fmt.Sprintf("Paths go by the keys of one of the %s in the answer; ask without fields to see them.", key)
		}
		err = invalid.Field("fields", err.Error(), hint)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	kind := answers.Types[format]
	if strings.HasPrefix(kind, "text/") {
		kind += "; charset=utf-8"
	}
	c.Data(http.StatusOK, kind, text)
}

// private marks an answer about the calling visitor.
func private(c *gin.Context) {
	c.Header("Cache-Control", "private, no-store")
	c.Writer.Header().Add("Vary", "Accept-Language, Cookie, X-Forwarded-For")
}

// own marks an answer that is for whoever asked.
func own(c *gin.Context) { c.Header("Cache-Control", "private, no-store") }

func noStore(c *gin.Context) { c.Header("Cache-Control", "no-store") }

// forAll marks what is nobody's secret: on the public listener any page may read it.
func (h *handlers) forAll(c *gin.Context, lasts string) {
	c.Header("Cache-Control", lasts)
	if h.listener == PublicListener {
		c.Header("Access-Control-Allow-Origin", "*")
		c.Header("Cross-Origin-Resource-Policy", "cross-origin")
	}
}

// note writes a line into the audit log; what was done stands where that fails.
func (h *handlers) note(c *gin.Context, what, detail string) {
	event, err := access.NewEvent(h.Service.Now(), what, callerOf(c).Actor(), detail)
	if err == nil {
		err = h.Access.Audit.AddEvent(c, event)
	}
	if err != nil {
		h.Service.Log.Warn("not in the audit log", "what", what, "request_id", guard.RequestID(c), "error", err)
	}
}

// streamWithin bounds one write of an answer that takes as long as it takes.
const streamWithin = 30 * time.Second

// steady writes an answer that takes as long as it takes, as long as it is read.
func steady(c *gin.Context) io.Writer {
	return steadyWriter{c.Writer, http.NewResponseController(c.Writer)}
}

type steadyWriter struct {
	io.Writer
	out *http.ResponseController
}

func (w steadyWriter) Write(p []byte) (int, error) {
	_ = w.out.SetWriteDeadline(time.Now().Add(streamWithin)) // the write says what is wrong
	return w.Writer.Write(p)
}

// breakOff ends an answer whose head has gone out: only a broken connection can say that a
// file is not whole.
func (h *handlers) breakOff(c *gin.Context, err error) {
	h.Service.Log.Warn("an export broke off", "request_id", guard.RequestID(c), "error", err)
	panic(http.ErrAbortHandler)
}

// attachment names an answer as a file.
func attachment(c *gin.Context, kind, name string) {
	c.Header("Content-Type", kind)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
}

// statusClientGone stands in the log for a client that hung up; nobody gets it.
const statusClientGone = 499

// fail answers with the problem of an error and ends the request.
func (h *handlers) fail(c *gin.Context, err error) {
	p := problem.From(err)
	p.RequestID = guard.RequestID(c)
	if p.Status == http.StatusForbidden && asksForAnother(c.FullPath()) {
		p.Status = http.StatusUnauthorized // 403 says there that the visitor is refused
	}
	if errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil {
		c.AbortWithStatus(statusClientGone) // nobody reads an answer
		return
	}
	if p.Status >= http.StatusInternalServerError {
		h.Service.Log.Error("request failed", "request_id", p.RequestID, "route", c.FullPath(), "error", err)
	}
	if p.Status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", "Bearer")
	}
	if p.Status == http.StatusServiceUnavailable {
		c.Header("Retry-After", "5")
	}
	text, _ := json.Marshal(p.Problem) // strings and numbers always marshal
	c.Abort()
	c.Header("Cache-Control", "no-store")
	c.Data(p.Status, "application/problem+json", text)
}
