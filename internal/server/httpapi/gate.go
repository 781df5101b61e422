package httpapi

import (
	"net/netip"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/rehearsal"
	"eastporch/internal/server/access"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/rehearsals"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
	"eastporch/internal/server/sites"
)

// asksForAnother says whether a route is asked about another request, by the owner's proxy: what it
// says of the key must not look like what it says of the visitor.
func asksForAnother(route string) bool { return route == "/v1/gate/decide" || route == "/v1/handover" }

// undecided says, in an answer that decides nothing, whether a gate stands where the request goes that it is
// asked about: a proxy can serve the rest of the site while a key or a site is not known.
func (h *handlers) undecided(c *gin.Context) {
	word := handover.Undecided
	target := gate.ReadTarget(c.GetHeader(handover.OriginalTarget))
	if site, err := h.oneSite(c); err == nil && !site.Local.Gates.Stands(&target) {
		word = handover.NoGate
	}
	c.Header(handover.GateField, word)
}

// decided asks the gates about another request. Where it gives false the answer is written.
func (h *handlers) decided(c *gin.Context) (card.Card, bool) {
	made, site, target, rehearsed, err := h.askedAbout(c)
	if err != nil {
		h.fail(c, err)
		return made, false
	}
	respond.Private(c)
	if rehearsed {
		c.Header(rehearsal.Header, "1")
	}
	d, country, reference := made.Gate, plain.Value(made.Location.CountryCode), ""
	status := site.Local.Gates.Refusal(plain.Value(d.Gate)).Status
	if rehearsed {
		reference = h.Content.Gates.Counter.Refer(site.Host, d, status, country)
	} else {
		reference = h.Content.Gates.Counter.Count(site.Host, gate.AskedRequest, d, status, country, target)
	}
	if d.Outcome != gate.Refuse {
		return made, true
	}
	gates.Refuse(c, reference, status)
	return made, false
}

// askedAbout makes the card of another request's visitor, with what the gates say of what was asked
// for.
func (h *handlers) askedAbout(c *gin.Context) (made card.Card, site *sites.Site, raw string, rehearsed bool, err error) {
	if site, err = h.ownSite(c); err != nil {
		return made, nil, "", false, err
	}
	raw, target := c.GetHeader(handover.OriginalTarget), gate.ReadTarget(c.GetHeader(handover.OriginalTarget))
	header, now := c.Request.Header, h.Service.Now()
	req := h.requestContext(c, header, site)
	req.Ask = site != nil && site.Local.Variants.Asks()
	req.Target = &target
	if token := c.GetHeader(rehearsal.Header); token != "" {
		as, err := h.Content.Gates.Signer.Open(c, token, rehearsals.Request{
			Site: site.Host, Scheme: c.GetHeader(handover.OriginalScheme), Host: c.GetHeader(handover.OriginalHost), Method: c.GetHeader(handover.OriginalMethod), Target: raw,
		})
		if err == nil {
			made = h.rehearsedCard(as, req, now)
			return made.In(made.Locale.Language), site, raw, true, nil
		}
		h.Service.Log.Info("a rehearsal was not believed", "site", site.Host, "reason", err)
	}
	trail := h.trail(c)
	made = h.Public.Cards.Found(trail, header, req, now)
	h.seen(&made, peer(c.Request), header, trail)
	return made.In(made.Locale.Language), site, raw, false, nil
}

// rehearsedCard makes the card of whoever is supposed to ask.
func (h *handlers) rehearsedCard(as rehearsal.Persona, req card.RequestContext, now time.Time) card.Card {
	var ip netip.Addr
	if as.Address != "" {
		ip, _ = addr.Parse(as.Address) // which we wrote
	}
	if as.At > 0 {
		now = time.Unix(as.At, 0)
	}
	req.Choice, req.Pass = as.Choice, false
	trail := h.Public.Proxies.Finder.Given(ip)
	trail.Obtained = caller.ObtainedRehearsed
	return h.Public.Cards.Found(&trail, map[string][]string{"Accept-Language": {as.Languages}}, req, now)
}

// decideGate answers without making a card, since a proxy asks about every request.
func (h *handlers) decideGate(c *gin.Context) {
	if len(c.Request.Header[rehearsal.Header]) > 0 {
		if _, ok := h.decided(c); ok {
			gates.Admit(c)
		}
		return
	}
	site, err := h.ownSite(c)
	if err != nil {
		h.fail(c, err)
		return
	}
	now, raw := h.Service.Now(), c.GetHeader(handover.OriginalTarget)
	visitor := h.visitorAddress(c)
	sub, evidence := h.Public.Cards.Subject(visitor)
	sub.Pass = h.Content.Gates.Counter.Passes(c, request.Cookie(c.Request.Header, handover.PassCookie), site.Host)
	set := site.Local.Gates
	verdict := set.Decide(&sub, &gate.Request{Target: gate.ReadTarget(raw), Time: now})
	d := set.Brief(&verdict)
	if verdict.Refused {
		d = set.Explain(&verdict, &sub, evidence)
	}
	kind := ""
	if visitor.IsValid() {
		kind = addr.KindOf(visitor).String()
	}
	h.Service.Metrics.Address(kind, sub.Skipped)
	country := ""
	if sub.Country != nil {
		country = sub.Country.Code
	}
	status := 0
	if verdict.Refused {
		status = set.Refusal(plain.Value(d.Gate)).Status
	}
	reference := h.Content.Gates.Counter.Count(site.Host, gate.AskedRequest, &d, status, country, raw)
	if respond.Own(c); verdict.Refused {
		gates.Refuse(c, reference, status)
		return
	}
	gates.Admit(c)
}

// ownSite is the site that a request is about, which its key must be for.
func (h *handlers) ownSite(c *gin.Context) (*sites.Site, error) {
	site, err := h.oneSite(c)
	if err != nil {
		return nil, err
	}
	if key := callerOf(c).Key; key != nil && !key.MayUse(site.Host) {
		return nil, &access.SiteError{Site: site.Host}
	}
	return site, nil
}

// watched is how often the checkup looks at a request that a proxy asks about: one of so many.
const watched = 64

// visitorAddress finds who is asked about; the checkup sees some of them.
func (h *handlers) visitorAddress(c *gin.Context) netip.Addr {
	if h.asked.Add(1)%watched == 1 {
		trail := h.trail(c)
		h.Public.Watch.Observe(peer(c.Request), c.Request.Header, *trail)
		return trail.Visitor.Addr
	}
	visitor, _ := h.Public.Proxies.Finder.Address(peer(c.Request), c.Request.Header)
	return visitor
}
