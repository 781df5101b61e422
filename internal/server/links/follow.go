package links

import (
	"cmp"
	"crypto/rand"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/gate"
	"eastporch/internal/core/link"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/visits"
)

// Follow redirects whoever follows a link, within the limit of one visitor, and has the click recorded.
func (a *API) Follow(c *gin.Context) {
	trail := a.Trail(c) // for the limit as well as for the click
	if c.Header("Cache-Control", "no-store"); !a.MayAsk(c) {
		return
	}
	code := c.Param("code")
	entry := a.Links.Running().Find(code)
	var of *link.Compiled
	var site *sites.Site
	if entry != nil {
		of = entry.Compiled
		site = a.Sites.Of(of.Site) // nil where the configuration has it no more
	}
	if site == nil {
		a.Unknown(c, code)
		return
	}
	now, r := a.Now(), c.Request
	preview := link.IsPreview(r.Method, r.Header)
	if state, _ := of.Stand(now, 0); state != link.Active { // by all but the limit, for which only redirects count
		a.missing(c, site, http.StatusGone)
		return
	}
	target := r.URL.EscapedPath()
	decision, country := a.ask(c, site, target)
	if refused(decision) {
		a.refuse(c, site, decision, country, target)
		return
	}
	visitor := a.visitor(r, trail, of, site)
	destination, address := of.Choose(visitor, site.Origin, r.URL.RawQuery)
	judged := site // whose gates decided
	if at, there := a.ours(entry, site, address); at != nil {
		if of, in := a.ask(c, at, there); of != nil && of.By != gate.ByNothing {
			if judged, decision, country, target = at, of, in, there; refused(decision) {
				a.refuse(c, at, decision, country, target)
				return
			}
		}
	}
	counts := of.Limit != nil && !preview && len(a.Visits.Marker.OfClick(false, agent(r), nil)) == 0 // else afterwards
	if entry.Take(counts, now) != link.Active {
		a.missing(c, site, http.StatusGone)
		return
	}
	if decision != nil {
		a.Gates.Count(judged.Host, gate.AskedRequest, decision, 0, country, target)
	}
	c.Header("Location", address)
	c.Status(of.Status)
	a.Links.Record(entry, a.Visits, visits.Click{
		Time: now, Site: site, Code: of.Code, Destination: destination, Trail: trail, Header: r.Header,
		Choice: visitor.Choice, Gate: decision, Preview: preview,
	}, of.Limit != nil)
}

// ours gives the site and the request target that an address leads to, where it is one of the owner's, however
// the address is spelled; nil for anybody else's. What was found last of a link is remembered with it.
func (a *API) ours(entry *Entry, site *sites.Site, address string) (at *sites.Site, target string) {
	if last := entry.led.Load(); last != nil && last.address == address && last.from == site {
		return last.at, last.target
	}
	at, target = a.leads(site, address)
	entry.led.Store(&led{from: site, address: address, at: at, target: target})
	return at, target
}

func (a *API) leads(site *sites.Site, address string) (at *sites.Site, target string) {
	to, err := url.Parse(address)
	if err != nil {
		return nil, ""
	}
	if origin, err := url.Parse(site.Origin); err == nil && strings.EqualFold(to.Host, origin.Host) {
		return site, cmp.Or(to.EscapedPath(), "/")
	}
	return a.Sites.Of(strings.ToLower(strings.TrimSuffix(to.Hostname(), "."))), cmp.Or(to.EscapedPath(), "/")
}

func refused(d *gate.Decision) bool { return d != nil && d.Outcome == gate.Refuse }

func agent(r *http.Request) *string {
	if name := r.Header.Get("User-Agent"); name != "" {
		return &name
	}
	return nil
}

// Unknown answers whoever asks for a code that no link has.
func (a *API) Unknown(c *gin.Context, code string) {
	c.Header("Cache-Control", "no-store")
	host := c.Request.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	site := a.Sites.Of(host)
	if site == nil {
		site = a.Sites.All()[0]
	}
	a.Links.Ask(site.Host, code)
	a.missing(c, site, http.StatusNotFound)
}

// missing shows the page for an unknown link, or one that has ended.
func (a *API) missing(c *gin.Context, site *sites.Site, status int) {
	nonce := rand.Text()
	text, err := site.Missing.Write(link.Missing{
		Site: site.Name, Home: site.Origin + "/", Ended: status == http.StatusGone, Accept: c.GetHeader("Accept-Language"), Default: site.Local.Languages.Default(),
	}, nonce)
	if err != nil {
		a.JSON(c, 0, nil, err)
		return
	}
	c.Header("Vary", "Accept-Language")
	c.Header("Content-Security-Policy", fmt.Sprintf("default-src 'none'; img-src 'self'; style-src 'nonce-%s'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'", nonce))
	c.Header("X-Robots-Tag", "noindex")
	c.Data(status, "text/html; charset=utf-8", text)
}
