package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/visit"
	"eastporch/internal/editions"
	"eastporch/internal/server/access"
	"eastporch/internal/server/intake"
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

	cause error // for callers here that tell problems apart
}

func (p problem) Error() string { return p.Detail }

func (p problem) Unwrap() error { return p.cause }

func badRequest(kind, title, detail, hint string) problem {
	return problem{Type: "/problems/" + kind, Title: title, Status: http.StatusBadRequest, Detail: detail, Hint: hint}
}

func invalidField(field, reason, hint string) problem {
	if !strings.HasSuffix(reason, "?") {
		reason += "."
	}
	p := badRequest("invalid-field", "Invalid field", field+": "+reason, hint)
	p.Status = http.StatusUnprocessableEntity
	return p
}

func forbidden(kind, title, detail, hint string) problem {
	p := badRequest(kind, title, detail, hint)
	p.Status = http.StatusForbidden
	return p
}

// lacks is only said to those who have a valid key.
func lacks(has, wants access.Scope) problem {
	return forbidden("scope", "Insufficient scope", fmt.Sprintf("It has the scope %s; this wants %s.", has, wants), "Ask the owner for a key with that scope.")
}

func unauthorized(kind, title, detail, hint string) problem {
	p := badRequest(kind, title, detail, hint)
	p.Status = http.StatusUnauthorized
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
		return badRequest("invalid-address", "Not a valid IP address", reasonOf(err)+".", "Give one IPv4 or IPv6 address, such as 198.18.3.40 or 2001:db8::1.")
	case errors.Is(err, access.ErrNoKey):
		return unauthorized("authentication-required", "Authentication required", "No key and no session came with the request.", "Send Authorization: Bearer KEY; eastporch keys create makes one.")
	case errors.Is(err, access.ErrBadKey):
		return unauthorized("invalid-key", "Invalid key", "It is not known here, or was revoked.", "Check that it is whole, or make another with eastporch keys create.")
	case errors.Is(err, access.ErrBadSession):
		return unauthorized("session-expired", "Session expired", "It was signed out, or idle for too long.", "Sign in again.")
	case errors.Is(err, access.ErrBadLink):
		return unauthorized("invalid-link", "Invalid link", "It was used before, has expired or was never given.", "Sign in with an admin key, or start the service with --sign-in-link for another.")
	case errors.Is(err, access.ErrNoSuch):
		p = badRequest("no-such-id", "No such id", "It was never there, or has ended.", "List them first.")
		p.Status = http.StatusNotFound
	case errors.Is(err, editions.ErrNoEdition):
		p = badRequest("no-such-edition", "No such edition", without(err, editions.ErrNoEdition)+" is not on the shelf.", "List them with GET /v1/atlas/editions.")
		p.Status = http.StatusNotFound
	case errors.Is(err, editions.ErrNoBack), errors.Is(err, editions.ErrBusy):
		p = badRequest("conflict", "Not possible right now", upperFirst(err.Error())+".", "GET /v1/atlas/editions says how things stand.")
		p.Status = http.StatusConflict
	case errors.Is(err, atlas.ErrEdition):
		p = badRequest("invalid-edition", "Invalid edition", upperFirst(err.Error())+".", "Build it again from its sources; the edition in use stays.")
		p.Status = http.StatusConflict
	case errors.As(err, &tooLarge):
		p = badRequest("too-large", "Request body too large", fmt.Sprintf("At most %d bytes are read.", tooLarge.Limit), "Send less at once.")
		p.Status = http.StatusRequestEntityTooLarge
	case errors.Is(err, errBody) && errors.Is(err, os.ErrDeadlineExceeded):
		p = badRequest("request-timeout", "Request body too slow", "It was not whole when the time for a request was over.", "Send it faster, or in parts.")
		p.Status = http.StatusRequestTimeout
	case errors.Is(err, errBody):
		return badRequest("unreadable-body", "Unreadable request body", "It broke off, or its transfer coding is broken.", "Send it whole, with its length or well-formed chunks.")
	case errors.Is(err, visit.ErrNoVisit):
		p = badRequest("no-such-visit", "No such visit", err.Error()+".", "It may be of another database, or erased. List visits with GET /v1/visits.")
		p.Status = http.StatusNotFound
	case errors.Is(err, intake.ErrFull):
		p = badRequest("queue-full", "Queue is full", "The visits were not taken in.", "Send them again when Retry-After has passed; the database has to take what waits first.")
		p.Status = http.StatusServiceUnavailable
	case errors.Is(err, intake.ErrStopped):
		p = badRequest("stopping", "Service is stopping", "The visits were not taken in.", "Send them again in a moment.")
		p.Status = http.StatusServiceUnavailable
	case errors.Is(err, locale.ErrRates):
		return noRate(err)
	case errors.Is(err, visit.ErrAway):
		p = badRequest("database-unavailable", "Database unavailable", "The request was not carried out, and nothing was stored.", "Try again in a moment; /readyz says when the service is ready.")
		p.Status = http.StatusServiceUnavailable
	default:
		p = badRequest("internal", "Internal error", "The request was not carried out.", "Look for the request's id in the service's log.")
		p.Status = http.StatusInternalServerError
	}
	return p
}

// without gives the reason of an error of the core, without the sentinel that it begins
// with.
func without(err, sentinel error) string {
	return strings.TrimPrefix(err.Error(), sentinel.Error()+": ")
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// statusClientGone stands in the log for a client that hung up; nobody gets it.
const statusClientGone = 499

// fail answers with the problem of an error and ends the request.
func (a *api) fail(c *gin.Context, err error) {
	p := toProblem(err)
	p.RequestID = requestID(c)
	if errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil {
		c.AbortWithStatus(statusClientGone) // nobody reads an answer
		return
	}
	if p.Status >= http.StatusInternalServerError {
		a.Log.Error("request failed", "request_id", p.RequestID, "route", c.FullPath(), "error", err)
	}
	if p.Status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", "Bearer")
	}
	if p.Status == http.StatusServiceUnavailable {
		c.Header("Retry-After", "5")
	}
	text, _ := json.Marshal(p) // strings and numbers always marshal
	c.Abort()
	c.Header("Cache-Control", "no-store")
	c.Data(p.Status, "application/problem+json", text)
}
