package httpapi

import (
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/files/answers"
	"eastporch/internal/server/access"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
	"eastporch/internal/server/sites"
)

// trailKey is where a request carries how its sender was found.
const trailKey = "trail"

// foundBefore is how the sender of a request was found; nil where nobody has looked yet.
func foundBefore(c *gin.Context) *caller.Trail {
	known, _ := c.Get(trailKey)
	trail, _ := known.(*caller.Trail)
	return trail
}

// trail finds who sends a request, once.
func (h *handlers) trail(c *gin.Context) *caller.Trail {
	if trail := foundBefore(c); trail != nil {
		return trail
	}
	trail := h.Public.Proxies.Finder.Find(peer(c.Request), c.Request.Header)
	c.Set(trailKey, &trail)
	return &trail
}

// visitorCard makes the card of whoever sends a request; with ask the companions that it shows are asked.
func (h *handlers) visitorCard(c *gin.Context, ask bool) (card.Card, error) {
	site, err := request.Site(c, h.Public.Sites)
	if err != nil {
		return card.Card{}, err
	}
	header, trail := c.Request.Header, h.trail(c)
	req := h.requestContext(c, header, site)
	if path := pageOf(c, site); path != "" {
		target := gate.ReadPath(path)
		req.Target = &target
	}
	wait, err := companions.Wait(c)
	if err != nil {
		return card.Card{}, err
	}
	req.Ask = ask && companions.Asks(site, answers.Paths(c.Query("fields")))
	made := h.Public.Cards.Found(trail, header, req, h.Service.Now())
	if wait > 0 && made.Companions.Pending() {
		made.Companions.Wait(wait, c.Done())
		made = h.Public.Cards.Found(trail, header, req, h.Service.Now())
	}
	h.seen(&made, peer(c.Request), header, trail)
	if !callerOf(c).Scope.Includes(access.Server) {
		made = made.Public()
	}
	return made.In(made.Locale.Language), nil
}

// pageOf is the path that a visitor is at: what the request says, or the page of the site that asks. "" is
// for none.
func pageOf(c *gin.Context, site *sites.Site) string {
	if path := c.Query("path"); path != "" || site == nil {
		return path
	}
	if u, err := url.Parse(c.GetHeader("Referer")); err == nil && u.Hostname() == site.Host {
		return u.EscapedPath()
	}
	return ""
}

// seen counts a visitor, and has the checkup look at how it was found; trail is nil where it was
// not searched for.
func (h *handlers) seen(made *card.Card, from netip.Addr, header map[string][]string, trail *caller.Trail) {
	h.Service.Metrics.Visitor(made)
	if trail != nil {
		h.Public.Watch.Observe(from, header, *trail)
	}
}

func (h *handlers) getVisitor(c *gin.Context) {
	made, err := h.visitorCard(c, true)
	if err == nil {
		err = device(c, &made)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	respond.Private(c)
	h.answerCard(c, &made)
}

func (h *handlers) getVisitorAddress(c *gin.Context) {
	header, trail := c.Request.Header, h.trail(c)
	made := h.Public.Cards.Found(trail, header, card.RequestContext{}, h.Service.Now())
	h.seen(&made, peer(c.Request), header, trail)
	if !trail.Visitor.IsValid() {
		h.fail(c, problem.NotFound("visitor-not-found", "Visitor not found", trail.Reason, "POST /v1/trails on the admin listener explains every hop."))
		return
	}
	respond.Private(c)
	c.String(http.StatusOK, "%s\n", trail.Visitor)
}

// device reads where the visitor's device says that it is.
func device(c *gin.Context, card *card.Card) error {
	p, given, err := request.Point(c)
	if err != nil || !given {
		return err
	}
	var accuracy *float64
	if text := c.Query("accuracy_km"); text != "" {
		km, err := strconv.ParseFloat(text, 64)
		if err != nil || !(km >= 0 && km <= 20_100) {
			return invalid.Field("accuracy_km", fmt.Sprintf("%.20q is not a number of kilometres", text), "Leave it out, or give 0 to 20100.")
		}
		accuracy = &km
	}
	card.Locate(p, accuracy)
	return nil
}
