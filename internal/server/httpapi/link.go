package httpapi

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/link"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/gateapi"
	"eastporch/internal/server/linkapi"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// ofLinks is a route about links.
func ofLinks(do func(*linkapi.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(h.links, c) }
}

func (h *handlers) ofLinks() *linkapi.API {
	return &linkapi.API{
		Links:     h.Content.Links,
		Tools:     linkapi.Tools{Site: h.oneSite, Who: callerOf, JSON: h.replyJSON, Note: h.note, Settle: h.Visits.Settle, Now: h.Service.Now},
		Following: linkapi.Following{Visits: h.Visits.Service, Sites: h.Public.Sites, Ask: h.askForLink, Admit: h.admitToLink, Refuse: h.refuseLink, Visitor: h.linkVisitor, Peer: peer},
	}
}

// askForLink asks the gates about whoever follows a link.
func (h *handlers) askForLink(c *gin.Context, site *sites.Site, target string) (*gate.Decision, *gate.Subject) {
	set := site.Local.Gates()
	if set == nil {
		return nil, nil
	}
	visitor, _ := h.Public.Proxies.Finder.Address(peer(c.Request), c.Request.Header)
	sub, evidence := h.Public.Cards.Subject(visitor)
	sub.Pass = h.Content.Gates.Counter.Passes(c, request.Cookie(c.Request.Header, handover.PassCookie), site.Host)
	verdict := set.Decide(&sub, &gate.Request{Target: gate.ReadTarget(target), Time: h.Service.Now()})
	d := set.Explain(&verdict, &sub, evidence)
	return &d, &sub
}

func (h *handlers) admitToLink(site *sites.Site, d *gate.Decision, country, target string) {
	h.Content.Gates.Counter.Count(site.Host, gate.AskedRequest, d, 0, country, target)
}

func (h *handlers) refuseLink(c *gin.Context, site *sites.Site, d *gate.Decision, country, target string) {
	status := site.Local.Gates().Refusal(plain.Value(d.Gate)).Status
	reference, err := h.Content.Gates.Counter.Reference(h.Content.Gates.Counter.Count(site.Host, gate.AskedRequest, d, status, country, target))
	if err == nil {
		err = gateapi.ShowRefusal(c, site, reference)
	}
	if err != nil {
		h.fail(c, err)
	}
}

// linkVisitor is who follows a link, as far as its destinations may depend on it.
func (h *handlers) linkVisitor(c *gin.Context, site *sites.Site) link.Visitor {
	choice := request.Cookie(c.Request.Header, handover.ChoiceCookie)
	made := h.Public.Cards.Found(h.trail(c), c.Request.Header, card.RequestContext{At: site.Local, Choice: choice}, h.Service.Now())
	return link.Visitor{CountryCode: plain.Value(made.Location.CountryCode), Choice: choice, Accept: c.GetHeader("Accept-Language"), Variants: made.Variants}
}

// isLink says whether a path without a route is one of a link that cannot be.
func isLink(r *http.Request) bool {
	return len(r.URL.Path) >= len(link.Path("")) && r.URL.Path[:len(link.Path(""))] == link.Path("") && (r.Method == http.MethodGet || r.Method == http.MethodHead)
}
