package links

import (
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/link"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// cards say who a visitor is.
type cards interface {
	Found(trail *caller.Trail, header map[string][]string, req card.RequestContext, now time.Time) card.Card
	Subject(a netip.Addr) (gate.Subject, []atlas.Evidence)
}

// ask says what the gates say of somebody who wants a target of a site, and in which country that is; nil where
// the site has none.
func (a *API) ask(c *gin.Context, site *sites.Site, target string) (*gate.Decision, string) {
	set := site.Local.Gates
	if set == nil {
		return nil, ""
	}
	sub, evidence := a.Cards.Subject(a.Trail(c).Visitor.Addr)
	sub.Pass = a.Gates.Passes(c, request.Cookie(c.Request.Header, handover.PassCookie), site.Host)
	verdict := set.Decide(&sub, &gate.Request{Target: gate.ReadTarget(target), Time: a.Now()})
	d, country := set.Explain(&verdict, &sub, evidence), ""
	if sub.Country != nil {
		country = sub.Country.Code
	}
	return &d, country
}

// refuse answers whom the gates refuse, and counts it.
func (a *API) refuse(c *gin.Context, site *sites.Site, d *gate.Decision, country, target string) {
	status := site.Local.Gates.Refusal(plain.Value(d.Gate)).Status
	reference, err := a.Gates.Reference(a.Gates.Count(site.Host, gate.AskedRequest, d, status, country, target))
	if err == nil {
		err = gates.ShowRefusal(c, site, reference)
	}
	if err != nil {
		a.JSON(c, 0, nil, err)
	}
}

// visitor is who follows a link, as far as its destination depends on it.
func (a *API) visitor(r *http.Request, trail *caller.Trail, of *link.Compiled, site *sites.Site) link.Visitor {
	v := link.Visitor{Accept: r.Header.Get("Accept-Language"), Choice: request.Cookie(r.Header, handover.ChoiceCookie)}
	if of.WantsPlace() {
		made := a.Cards.Found(trail, r.Header, card.RequestContext{At: site.Local, Choice: v.Choice}, a.Now())
		v.CountryCode, v.Variants = plain.Value(made.Location.CountryCode), made.Variants
	}
	return v
}

// IsLink says whether a request is for a link, also for one that cannot be.
func IsLink(r *http.Request) bool {
	return strings.HasPrefix(r.URL.Path, link.Path("")) && (r.Method == http.MethodGet || r.Method == http.MethodHead)
}
