package httpapi

import (
	"cmp"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/refused"
	"eastporch/internal/server/request"
)

// limitKey is where a request carries the name of the limit that it met.
const limitKey = "limit"

// kinds are the kinds of refused requests by the problems that they are answered with.
var kinds = map[string]refused.Kind{
	"origin": refused.Origin, "invalid-key": refused.BadKey, "authentication-required": refused.NoKey, "wrong-host": refused.Host, "too-many-requests": refused.Visitor, "scope": refused.Scope, "site": refused.Site,
}

// noteRefused counts a request that is refused before anything is made of it.
func (h *handlers) noteRefused(c *gin.Context, p *problem.Problem) {
	kind, is := kinds[strings.TrimPrefix(p.Type, "/problems/")]
	if !is || c.FullPath() == "" && kind != refused.Host {
		return
	}
	r := c.Request
	e := refused.Example{Method: r.Method, Route: c.FullPath(), Host: r.Host, Origin: r.Header.Get("Origin"), Status: p.Status}
	if _, secret, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok {
		e.Start = refused.Start(strings.TrimSpace(secret))
	} else if secret := c.Query("key"); secret != "" {
		e.Start = refused.Start(secret)
	}
	of := refused.Key{Kind: kind, Site: h.refusedAt(c, e.Origin)}
	switch kind {
	case refused.Origin:
		of.Detail = e.Origin
	case refused.BadKey:
		of.Detail = cmp.Or(e.Start, refused.NotWhole)
	case refused.NoKey:
		if h.listener != PublicListener { // where the console asks before anybody has signed in
			return
		}
		of.Detail = e.Route
	case refused.Host:
		of.Detail = r.Host
		if i := strings.LastIndexByte(of.Detail, ':'); i > 0 && !strings.HasSuffix(of.Detail, "]") {
			of.Detail = of.Detail[:i]
		}
	case refused.Visitor:
		switch c.GetString(limitKey) {
		case "key":
			of.Kind, of.Detail = refused.Busy, e.Start
		case "visitor":
			of.Detail = "limits.visitor_per_second"
		default:
			return // whoever tries to sign in
		}
	case refused.Scope:
		of.Detail = strings.TrimSuffix(p.Detail, ".") + ", at " + e.Route
	case refused.Site:
		of.Detail = e.Start
	}
	h.Access.Refused.Note(of, e, refused.Mend(of, e, h.Access.Held))
}

// refusedAt is the site that a refused request was about, as far as it says so itself: "" where it does not, or
// the site is none of ours.
func (h *handlers) refusedAt(c *gin.Context, origin string) string {
	if site := h.Public.Sites.Of(c.Query("site")); site != nil {
		return site.Host
	}
	_, host, _ := strings.Cut(origin, "://")
	for _, site := range h.Public.Sites.All() {
		if host == site.Host || strings.HasSuffix(host, "."+site.Host) {
			return site.Host
		}
	}
	if all := h.Public.Sites.All(); len(all) == 1 {
		return all[0].Host
	}
	return ""
}

func (h *handlers) getRefused(c *gin.Context) {
	site, err := request.Site(c, h.Public.Sites)
	var answer api.RefusedRequests
	if err == nil {
		host := ""
		if site != nil && c.Query("site") != "" {
			host = site.Host
		}
		answer, err = h.Access.Refused.Report(c, h.Access.Held, host)
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}
