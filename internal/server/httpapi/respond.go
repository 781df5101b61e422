package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/card"
	"eastporch/internal/server/access"
	"eastporch/internal/server/guard"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/respond"
)

// answerCard writes a card, or the problem of an error.
func (h *handlers) answerCard(c *gin.Context, card *card.Card) {
	if err := respond.Card(c, card); err != nil {
		h.fail(c, err)
	}
}

// reply writes one thing in the format and with the fields that are asked for, or the problem
// of an error.
func (h *handlers) reply(c *gin.Context, value any, err error) {
	h.replyList(c, "", value, err)
}

// replyList is reply for an object whose list under key has the things that fields and formats
// of rows are about.
func (h *handlers) replyList(c *gin.Context, key string, value any, err error) {
	if err == nil {
		err = respond.Value(c, key, value)
	}
	if err != nil {
		h.fail(c, err)
	}
}

// replyJSON writes one thing as JSON, not to be kept by anybody, or the problem of an error.
func (h *handlers) replyJSON(c *gin.Context, status int, value any, err error) {
	if err != nil {
		h.fail(c, err)
		return
	}
	if c.Writer.Header().Get("Cache-Control") == "" {
		respond.NoStore(c)
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

// breakOff ends an answer whose head has gone out: only a broken connection can say that a
// file is not whole.
func (h *handlers) breakOff(c *gin.Context, err error) {
	h.Service.Log.Warn("an export broke off", "request_id", guard.RequestID(c), "error", err)
	panic(http.ErrAbortHandler)
}

// statusClientGone stands in the log for a client that hung up; nobody gets it.
const statusClientGone = 499

// fail answers with the problem of an error and ends the request.
func (h *handlers) fail(c *gin.Context, err error) {
	p := problem.From(err)
	p.RequestID = guard.RequestID(c)
	if asksForAnother(c.FullPath()) {
		h.undecided(c)
		if p.Status == http.StatusForbidden { // which says there that the visitor is refused
			p.Status = http.StatusUnauthorized
		}
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
	switch {
	case !p.Until.IsZero():
		c.Header("Retry-After", strconv.Itoa(max(1, seconds(p.Until.Sub(h.Service.Now())))))
	case p.Status == http.StatusServiceUnavailable:
		c.Header("Retry-After", "5")
	}
	h.noteRefused(c, &p)
	text, _ := json.Marshal(p.Problem) // strings and numbers always marshal
	c.Abort()
	c.Header("Cache-Control", "no-store")
	c.Data(p.Status, "application/problem+json", text)
}
