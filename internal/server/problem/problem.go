// Package problem has the problem documents (RFC 9457) that outsiders get for errors.
package problem

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/link"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
	"eastporch/internal/editions"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/intake"
)

// A Problem is a problem document of RFC 9457, with a hint and the request's
// id as extension members. Its type is a relative reference that
// docs/problems.md explains.
type Problem struct {
	api.Problem
	Cause error     // for callers here that tell problems apart
	Until time.Time // when it is over; zero where that is not known
}

func (p Problem) Error() string { return p.Detail }

func (p Problem) Unwrap() error { return p.Cause }

// ErrBody marks an error of reading a request's body, which is the client's or its
// connection's, and not ours.
var ErrBody = errors.New("the body could not be read")

// Of makes a problem of a status and a kind, which is the end of its type.
func Of(status int, kind, title, detail, hint string) Problem {
	return Problem{Problem: api.Problem{Type: "/problems/" + kind, Title: title, Status: status, Detail: detail, Hint: hint}}
}

// BadRequest makes one of a request that is wrong.
func BadRequest(kind, title, detail, hint string) Problem {
	return Of(http.StatusBadRequest, kind, title, detail, hint)
}

// Forbidden makes one of something that the asker may not do.
func Forbidden(kind, title, detail, hint string) Problem {
	return Of(http.StatusForbidden, kind, title, detail, hint)
}

func unauthorized(kind, title, detail, hint string) Problem {
	return Of(http.StatusUnauthorized, kind, title, detail, hint)
}

func conflict(detail, hint string) Problem {
	return Of(http.StatusConflict, "conflict", "Not possible right now", detail, hint)
}

func unavailable(kind, title, detail, hint string) Problem {
	return Of(http.StatusServiceUnavailable, kind, title, detail, hint)
}

// NotFound makes one of something that is not there.
func NotFound(kind, title, detail, hint string) Problem {
	return Of(http.StatusNotFound, kind, title, detail, hint)
}

// From is the one place where errors become what outsiders see.
func From(err error) Problem {
	var p Problem
	var field *invalid.FieldError
	var scope *access.ScopeError
	var site *access.SiteError
	var tooLarge *http.MaxBytesError
	var tooMany *notice.TooMany
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &field):
		detail := field.Error()
		if !strings.HasSuffix(detail, "?") {
			detail += "."
		}
		return Of(http.StatusUnprocessableEntity, "invalid-field", "Invalid field", detail, field.Hint)
	case errors.Is(err, addr.ErrSyntax):
		return BadRequest("invalid-address", "Not a valid IP address", addr.Reason(err)+".", "Give one IPv4 or IPv6 address, such as 198.18.3.40 or 2001:db8::1.")
	case errors.Is(err, access.ErrNoKey):
		return unauthorized("authentication-required", "Authentication required", "No key and no session came with the request.", "Send Authorization: Bearer KEY; eastporch keys create makes one.")
	case errors.Is(err, access.ErrBadKey):
		return unauthorized("invalid-key", "Invalid key", "It is not known here, or was revoked.", "Check that it is whole, or make another with eastporch keys create.")
	case errors.Is(err, access.ErrBadSession):
		return unauthorized("session-expired", "Session expired", "It was signed out, or idle for too long.", "Sign in again.")
	case errors.Is(err, access.ErrBadLink):
		return unauthorized("invalid-link", "Invalid link", "It was used before, has expired or was never given.", "Sign in with an admin key, or start the service with --sign-in-link for another.")
	case errors.As(err, &scope):
		return Forbidden("scope", "Insufficient scope", scope.Error(), "Ask the owner for a key with that scope.")
	case errors.As(err, &site):
		return Forbidden("site", "Key not valid for this site", site.Error(), "Use a key that is bound to this site.")
	case errors.Is(err, access.ErrNoSuch), errors.Is(err, variant.ErrNoSet):
		return NotFound("no-such-id", "No such id", "It was never there, or has ended.", "List them first.")
	case errors.Is(err, gate.ErrNoRevision), errors.Is(err, document.ErrRevision):
		return NotFound("no-such-revision", "No such revision", "It was never there.", "The history lists those that there are.")
	case errors.Is(err, document.ErrNone):
		return NotFound("no-such-document", "No such document", "There is none with this name.", "List them first.")
	case errors.Is(err, document.ErrChanged):
		return conflict(plain.UpperFirst(err.Error())+".", "Read it again, and make your change to what is in use now.")
	case errors.Is(err, companion.ErrNone):
		return NotFound("no-such-companion", "No such companion", "The site has none with this name.", "GET /v1/companions lists those that there are.")
	case errors.Is(err, companion.ErrChanged):
		return conflict(plain.UpperFirst(err.Error())+".", "Read it again, and make your change to what is in use now.")
	case errors.Is(err, notice.ErrNone):
		return NotFound("no-such-notice", "No such notice", "The site has none with this name, or it does not answer whoever asks.", "GET /v1/notices lists those that there are.")
	case errors.Is(err, notice.ErrNoChannel):
		return NotFound("no-such-channel", "No such channel", "The site has none with this name.", "GET /v1/notices lists those that there are.")
	case errors.Is(err, notice.ErrNoMessage):
		return NotFound("no-such-message", "No such message", "It was never there, or is older than 7 days.", "GET /v1/messages lists those that there are.")
	case errors.Is(err, notice.ErrChanged), errors.Is(err, notice.ErrFinished):
		return conflict(plain.UpperFirst(err.Error())+".", "Read it again; it is not as it was.")
	case errors.As(err, &tooMany):
		p := Of(http.StatusTooManyRequests, "too-many-mails", "Too many mails", plain.UpperFirst(tooMany.Limit)+".",
			"Ask again after "+tooMany.Until.UTC().Format(time.RFC3339)+". If a mail to confirm the address came, open its link first.")
		p.Until = tooMany.Until
		return p
	case errors.Is(err, link.ErrNoLink):
		return NotFound("no-such-link", "No such link", "No link has this code.", "GET /v1/links lists those that there are.")
	case errors.Is(err, link.ErrTaken):
		return conflict(plain.UpperFirst(err.Error())+".", "Choose another, or change that link.")
	case errors.Is(err, gate.ErrChanged):
		return conflict(plain.UpperFirst(err.Error())+".", "Read them again, and make your change to what is in force now.")
	case errors.Is(err, atlases.ErrNoCorrection):
		return NotFound("no-such-id", "No such id", "It was never there, or was dropped.", "List them first.")
	case errors.Is(err, atlases.ErrNoTestPoints):
		return NotFound("no-test-points", "No test points", "An edition is held against points whose true place you know.", "Name their file with atlas.test_points, or send them with POST.")
	case errors.Is(err, variant.ErrConfigured):
		return conflict(plain.UpperFirst(err.Error())+".", "Change them there, or take another name.")
	case errors.Is(err, editions.ErrNoEdition):
		return NotFound("no-such-edition", "No such edition", without(err, editions.ErrNoEdition)+" is not on the shelf.", "List them with GET /v1/atlas/editions.")
	case errors.Is(err, editions.ErrNoBack), errors.Is(err, editions.ErrBusy):
		return conflict(plain.UpperFirst(err.Error())+".", "GET /v1/atlas/editions says how things stand.")
	case errors.Is(err, atlas.ErrEdition):
		return Of(http.StatusConflict, "invalid-edition", "Invalid edition", plain.UpperFirst(err.Error())+".", "Build it again from its sources; the edition in use stays.")
	case errors.As(err, &tooLarge):
		return Of(http.StatusRequestEntityTooLarge, "too-large", "Request body too large", fmt.Sprintf("At most %d bytes are read.", tooLarge.Limit), "Send less at once.")
	case errors.Is(err, ErrBody) && errors.Is(err, os.ErrDeadlineExceeded):
		return Of(http.StatusRequestTimeout, "request-timeout", "Request body too slow", "It was not whole when the time for a request was over.", "Send it faster, or in parts.")
	case errors.Is(err, ErrBody):
		return BadRequest("unreadable-body", "Unreadable request body", "It broke off, or its transfer coding is broken.", "Send it whole, with its length or well-formed chunks.")
	case errors.Is(err, visit.ErrNoVisit):
		return NotFound("no-such-visit", "No such visit", err.Error()+".", "It may be of another database, or erased. List visits with GET /v1/visits.")
	case errors.Is(err, intake.ErrFull):
		return unavailable("queue-full", "Queue is full", "The visits were not taken in.", "Send them again when Retry-After has passed; the database has to take what waits first.")
	case errors.Is(err, intake.ErrDisk):
		return unavailable("disk-full", "Disk takes nothing", "The visits were not taken in: what holds them until the database has them could not be written.", "Send them again when Retry-After has passed; the owner has to make room in the data directory.")
	case errors.Is(err, intake.ErrStopped):
		return unavailable("stopping", "Service is stopping", "The visits were not taken in.", "Send them again in a moment.")
	case errors.Is(err, locale.ErrRates):
		return Of(http.StatusUnprocessableEntity, "no-rate", "No exchange rate", plain.UpperFirst(without(err, locale.ErrRates))+".", "GET /v1/rates lists those that there are; rates in the configuration says where they come from.")
	case errors.Is(err, visit.ErrAway):
		return unavailable("database-unavailable", "Database unavailable", "The request was not carried out, and nothing was stored.", "Try again in a moment; /readyz says when the service is ready.")
	}
	return Of(http.StatusInternalServerError, "internal", "Internal error", "The request was not carried out.", "Look for the request's id in the service's log.")
}

// without gives the reason of an error of the core, without the sentinel that it begins
// with.
func without(err, sentinel error) string {
	return strings.TrimPrefix(err.Error(), sentinel.Error()+": ")
}

// WrongOrigin is the problem of a page whose origin no key allows.
func WrongOrigin() Problem {
	return Forbidden("origin", "Origin not allowed", "No key allows the origin of the page.", "Add the origin to a key of scope page: eastporch keys create --origin.")
}

// CrossSite is the problem of a request that changes something and comes from another origin.
func CrossSite() Problem {
	return Forbidden("cross-site", "Cross-site request refused", "The request changes something, and came from another origin than the console's.", "Do it in the console, or with a key. Behind a proxy that speaks TLS, name the console's origin under admin.origins.")
}
