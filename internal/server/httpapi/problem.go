package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/visit"
)

// A problem is a problem document of RFC 9457, with a hint and the request's
// id as extension members. Its type is a relative reference that
// docs/problems.md explains.
type problem struct {
	Type      string `json:"type"`
	Title     string `json:"title"`
	Status    int    `json:"status"`
	Detail    string `json:"detail"`
	Hint      string `json:"hint"`
	RequestID string `json:"request_id"`
}

func (p problem) Error() string { return p.Detail }

func badRequest(kind, title, detail, hint string) problem {
	return problem{Type: "/problems/" + kind, Title: title, Status: http.StatusBadRequest, Detail: detail, Hint: hint}
}

func badField(field, reason, hint string) problem {
	p := badRequest("bad-field", "A field is not usable", fmt.Sprintf("%s: %s.", field, reason), hint)
	p.Status = http.StatusUnprocessableEntity
	return p
}

// toProblem is the one place where errors become what outsiders see.
func toProblem(err error) problem {
	var p problem
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &p):
		return p
	case errors.Is(err, addr.ErrSyntax):
		return badRequest("bad-address", "This is no IP address", strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": ")+".", "Give one IPv4 or IPv6 address, such as 198.18.3.40 or 2001:db8::1.")
	case errors.As(err, &tooLarge):
		p = badRequest("too-large", "The body is too large", fmt.Sprintf("At most %d bytes are read.", tooLarge.Limit), "Send less at once.")
		p.Status = http.StatusRequestEntityTooLarge
	case errors.Is(err, visit.ErrNoVisit):
		p = badRequest("no-such-visit", "There is no such visit", err.Error()+".", "It may be of another database, or erased. List visits with GET /v1/visits.")
		p.Status = http.StatusNotFound
	case errors.Is(err, visit.ErrAway):
		p = badRequest("database-away", "The database does not answer", "The request was not carried out, and nothing was stored.", "Try again in a moment; /readyz says when the service is ready.")
		p.Status = http.StatusServiceUnavailable
	default:
		p = badRequest("internal", "Something went wrong here", "The request was not carried out.", "Look for the request's id in the service's log.")
		p.Status = http.StatusInternalServerError
	}
	return p
}

// fail answers with the problem of an error and ends the request.
func (a *api) fail(c *gin.Context, err error) {
	p := toProblem(err)
	p.RequestID = requestID(c)
	if p.Status >= http.StatusInternalServerError {
		a.Log.Error("request failed", "request_id", p.RequestID, "route", c.FullPath(), "error", err)
	}
	if p.Status == http.StatusServiceUnavailable {
		c.Header("Retry-After", "5")
	}
	text, _ := json.Marshal(p) // strings and numbers always marshal
	c.Abort()
	c.Header("Cache-Control", "no-store")
	c.Data(p.Status, "application/problem+json", text)
}
