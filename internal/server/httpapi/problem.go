package httpapi

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/editions"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/intake"
	"eastporch/internal/server/localize"
)

// A problem is a problem document of RFC 9457, with a hint and the request's
// id as extension members. Its type is a relative reference that
// docs/problems.md explains.
type problem struct {
	api.Problem
	cause error // for callers here that tell problems apart
}

func (p problem) Error() string { return p.Detail }

func (p problem) Unwrap() error { return p.cause }

func problemOf(status int, kind, title, detail, hint string) problem {
	return problem{Problem: api.Problem{Type: "/problems/" + kind, Title: title, Status: status, Detail: detail, Hint: hint}}
}

func badRequest(kind, title, detail, hint string) problem {
	return problemOf(http.StatusBadRequest, kind, title, detail, hint)
}

func forbidden(kind, title, detail, hint string) problem {
	return problemOf(http.StatusForbidden, kind, title, detail, hint)
}

func unauthorized(kind, title, detail, hint string) problem {
	return problemOf(http.StatusUnauthorized, kind, title, detail, hint)
}

func conflict(detail, hint string) problem {
	return problemOf(http.StatusConflict, "conflict", "Not possible right now", detail, hint)
}

func unavailable(kind, title, detail, hint string) problem {
	return problemOf(http.StatusServiceUnavailable, kind, title, detail, hint)
}

func notFound(kind, title, detail, hint string) problem {
	return problemOf(http.StatusNotFound, kind, title, detail, hint)
}

// toProblem is the one place where errors become what outsiders see.
func toProblem(err error) problem {
	var p problem
	var field *invalid.FieldError
	var scope *access.ScopeError
	var site *access.SiteError
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &field):
		detail := field.Error()
		if !strings.HasSuffix(detail, "?") {
			detail += "."
		}
		return problemOf(http.StatusUnprocessableEntity, "invalid-field", "Invalid field", detail, field.Hint)
	case errors.Is(err, addr.ErrSyntax):
		return badRequest("invalid-address", "Not a valid IP address", addr.Reason(err)+".", "Give one IPv4 or IPv6 address, such as 198.18.3.40 or 2001:db8::1.")
	case errors.Is(err, access.ErrNoKey):
		return unauthorized("authentication-required", "Authentication required", "No key and no session came with the request.", "Send Authorization: Bearer KEY; eastporch keys create makes one.")
	case errors.Is(err, access.ErrBadKey):
		return unauthorized("invalid-key", "Invalid key", "It is not known here, or was revoked.", "Check that it is whole, or make another with eastporch keys create.")
	case errors.Is(err, access.ErrBadSession):
		return unauthorized("session-expired", "Session expired", "It was signed out, or idle for too long.", "Sign in again.")
	case errors.Is(err, access.ErrBadLink):
		return unauthorized("invalid-link", "Invalid link", "It was used before, has expired or was never given.", "Sign in with an admin key, or start the service with --sign-in-link for another.")
	case errors.As(err, &scope):
		return forbidden("scope", "Insufficient scope", scope.Error(), "Ask the owner for a key with that scope.")
	case errors.As(err, &site):
		return forbidden("site", "Key not valid for this site", site.Error(), "Use a key that is bound to this site.")
	case errors.Is(err, access.ErrNoSuch), errors.Is(err, localize.ErrNoSet):
		return notFound("no-such-id", "No such id", "It was never there, or has ended.", "List them first.")
	case errors.Is(err, atlases.ErrNoCorrection):
		return notFound("no-such-id", "No such id", "It was never there, or was dropped.", "List them first.")
	case errors.Is(err, atlases.ErrNoTestPoints):
		return notFound("no-test-points", "No test points", "An edition is held against points whose true place you know.", "Name their file with atlas.test_points, or send them with POST.")
	case errors.Is(err, localize.ErrConfigured):
		return conflict(plain.UpperFirst(err.Error())+".", "Change them there, or take another name.")
	case errors.Is(err, editions.ErrNoEdition):
		return notFound("no-such-edition", "No such edition", without(err, editions.ErrNoEdition)+" is not on the shelf.", "List them with GET /v1/atlas/editions.")
	case errors.Is(err, editions.ErrNoBack), errors.Is(err, editions.ErrBusy):
		return conflict(plain.UpperFirst(err.Error())+".", "GET /v1/atlas/editions says how things stand.")
	case errors.Is(err, atlas.ErrEdition):
		return problemOf(http.StatusConflict, "invalid-edition", "Invalid edition", plain.UpperFirst(err.Error())+".", "Build it again from its sources; the edition in use stays.")
	case errors.As(err, &tooLarge):
		return problemOf(http.StatusRequestEntityTooLarge, "too-large", "Request body too large", fmt.Sprintf("At most %d bytes are read.", tooLarge.Limit), "Send less at once.")
	case errors.Is(err, errBody) && errors.Is(err, os.ErrDeadlineExceeded):
		return problemOf(http.StatusRequestTimeout, "request-timeout", "Request body too slow", "It was not whole when the time for a request was over.", "Send it faster, or in parts.")
	case errors.Is(err, errBody):
		return badRequest("unreadable-body", "Unreadable request body", "It broke off, or its transfer coding is broken.", "Send it whole, with its length or well-formed chunks.")
	case errors.Is(err, visit.ErrNoVisit):
		return notFound("no-such-visit", "No such visit", err.Error()+".", "It may be of another database, or erased. List visits with GET /v1/visits.")
	case errors.Is(err, intake.ErrFull):
		return unavailable("queue-full", "Queue is full", "The visits were not taken in.", "Send them again when Retry-After has passed; the database has to take what waits first.")
	case errors.Is(err, intake.ErrStopped):
		return unavailable("stopping", "Service is stopping", "The visits were not taken in.", "Send them again in a moment.")
	case errors.Is(err, locale.ErrRates):
		return problemOf(http.StatusUnprocessableEntity, "no-rate", "No exchange rate", plain.UpperFirst(without(err, locale.ErrRates))+".", "GET /v1/rates lists those that there are; rates in the configuration says where they come from.")
	case errors.Is(err, visit.ErrAway):
		return unavailable("database-unavailable", "Database unavailable", "The request was not carried out, and nothing was stored.", "Try again in a moment; /readyz says when the service is ready.")
	}
	return problemOf(http.StatusInternalServerError, "internal", "Internal error", "The request was not carried out.", "Look for the request's id in the service's log.")
}

// without gives the reason of an error of the core, without the sentinel that it begins
// with.
func without(err, sentinel error) string {
	return strings.TrimPrefix(err.Error(), sentinel.Error()+": ")
}

func wrongOrigin() problem {
	return forbidden("origin", "Origin not allowed", "No key allows the origin of the page.", "Add the origin to a key of scope page: eastporch keys create --origin.")
}

func crossSite() problem {
	return forbidden("cross-site", "Cross-site request refused", "The request changes something, and came from another origin than the console's.", "Do it in the console, or with a key. Behind a proxy that speaks TLS, name the console's origin under admin.origins.")
}
