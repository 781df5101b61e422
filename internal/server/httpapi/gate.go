package httpapi

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/refusal"
	"eastporch/internal/core/rehearsal"
	"eastporch/internal/server/access"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/rehearsals"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// Gates is what decisions are made and shown with. Every field is required.
type Gates struct {
	Rules      *gates.Rulebook
	Keeper     *gates.Keeper
	Rehearsals *rehearsals.Rehearsals
	Signer     *rehearsals.Signer
}

// Fields of a question about another request, which the owner's proxy sets.
const (
	originalTarget = "Porch-Original-Target"
	originalMethod = "Porch-Original-Method"
	originalScheme = "Porch-Original-Scheme"
	originalHost   = "Porch-Original-Host"
)

// asksForAnother says whether a route is asked about another request, by the owner's proxy: what it
// says of the key must not look like what it says of the visitor.
func asksForAnother(route string) bool { return route == "/v1/gate/decide" || route == "/v1/handover" }

// decided asks the gates about another request. Where it gives false the answer is written.
func (h *handlers) decided(c *gin.Context) (card.Card, bool) {
	made, site, target, rehearsed, err := h.askedAbout(c)
	if err != nil {
		h.fail(c, err)
		return made, false
	}
	private(c)
	if rehearsed {
		c.Header(rehearsal.Header, "1")
	}
	d, country := made.Gate, plain.Value(made.Location.CountryCode)
	status := site.Local.Gates().Refusal(plain.Value(d.Gate)).Status
	reference := ""
	if rehearsed {
		reference = h.Content.Gates.Keeper.Refer(site.Host, d, status, country)
	} else {
		reference = h.Content.Gates.Keeper.Count(site.Host, gate.AskedRequest, d, status, country, target)
	}
	if d.Outcome != gate.Refuse {
		return made, true
	}
	c.Header(handover.GateField, string(gate.Refuse))
	c.Header("Porch-Gate-Reference", reference)
	c.Header("Porch-Gate-Status", strconv.Itoa(status))
	c.Status(http.StatusForbidden)
	return made, false
}

// askedAbout makes the card of another request's visitor, with what the gates say of what was asked
// for.
func (h *handlers) askedAbout(c *gin.Context) (made card.Card, site *sites.Site, raw string, rehearsed bool, err error) {
	if site, err = h.oneSite(c); err != nil {
		return made, nil, "", false, err
	}
	if key := callerOf(c).Key; key != nil && !key.MayUse(site.Host) {
		return made, nil, "", false, &access.SiteError{Site: site.Host}
	}
	raw = c.GetHeader(originalTarget)
	target := gate.ReadTarget(raw)
	header, now := c.Request.Header, h.Service.Now()
	req := h.requestContext(c, header, site)
	req.Target = &target
	if token := c.GetHeader(rehearsal.Header); token != "" {
		as, err := h.Content.Gates.Signer.Open(c, token, rehearsals.Request{
			Site: site.Host, Scheme: c.GetHeader(originalScheme), Host: c.GetHeader(originalHost), Method: c.GetHeader(originalMethod), Target: raw,
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

func (h *handlers) decideGate(c *gin.Context) {
	if _, ok := h.decided(c); ok {
		c.Header(handover.GateField, handover.Admitted)
		c.Status(http.StatusNoContent)
	}
}

// getGateRefusal shows the page for whoever is refused, with the status that goes with it.
func (h *handlers) getGateRefusal(c *gin.Context) {
	if own(c); !h.mayAsk(c) {
		return
	}
	reference, err := h.Content.Gates.Keeper.Reference(c.Query("reference"))
	site := h.Public.Sites.Of(reference.Site)
	if err == nil && site == nil {
		err = gates.ErrReference
	}
	if err != nil {
		h.fail(c, invalid.Field("reference", err.Error(), "Ask /v1/gate/decide again; a reference is good for ten minutes."))
		return
	}
	how := site.Local.Gates().Refusal(reference.Gate)
	nonce := rand.Text()
	text, err := site.Refusal.Write(refusal.Subject{
		Site: site.Name, Reference: reference, Refusal: how, Accept: c.GetHeader("Accept-Language"), Default: site.Local.Languages.Default(), TimeZone: site.TimeZone,
	}, nonce)
	if err != nil {
		h.fail(c, err)
		return
	}
	c.Header("Vary", "Accept-Language")
	c.Header("Content-Security-Policy", fmt.Sprintf("default-src 'none'; img-src 'self'; style-src 'nonce-%s'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'", nonce))
	c.Header("X-Robots-Tag", "noindex")
	c.Data(reference.Status, "text/html; charset=utf-8", text)
}

// useGatePass gives a browser the pass that a link is for.
func (h *handlers) useGatePass(c *gin.Context) {
	if own(c); !h.mayAsk(c) {
		return
	}
	pass, host, lasts, err := h.Content.Gates.Keeper.SpendLink(c, c.Query("link"))
	if err != nil {
		if errors.Is(err, gates.ErrPass) {
			err = invalid.Field("link", gates.ErrPass.Error(), "Make another on the page Gate of the console.")
		}
		h.fail(c, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{
		Name: handover.PassCookie, Value: pass, Path: "/", MaxAge: int(lasts.Seconds()), HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: c.GetHeader("X-Forwarded-Proto") == "https" || c.Request.TLS != nil,
	})
	h.Service.Log.Info("an owner's pass was taken", "site", host)
	c.Redirect(http.StatusSeeOther, "/")
}

func (h *handlers) makeGatePass(c *gin.Context) {
	site, err := h.oneSite(c)
	session := callerOf(c).Session
	if err == nil && session == nil {
		err = problem.Forbidden("no-session", "No session", "A pass ends with a session of the console, and a key has none.", "Sign in to the console.")
	}
	base := c.Query("base")
	if u, wrong := url.Parse(base); err == nil && base != "" && (wrong != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "") {
		err = invalid.Field("base", fmt.Sprintf("%.80q is not an address", base), "Give one such as https://heronlake.example/porch.")
	}
	var answer api.GatePass
	if err == nil {
		if base == "" {
			base = site.Origin + "/porch"
		}
		answer = api.GatePass{URL: base + "/v1/gate/pass?link=" + h.Content.Gates.Keeper.PassLink(site.Host, session.ID), Expires: session.Expires}
		h.note(c, "pass made", site.Host)
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}

// ofSite runs something of a site with a body, and answers with what it gives.
func ofSite[Body, Answer any](h *handlers, c *gin.Context, do func(*sites.Site, Body) (Answer, error)) {
	site, err := h.oneSite(c)
	var body Body
	var answer Answer
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	if err == nil {
		answer, err = do(site, body)
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}

func (h *handlers) getGate(c *gin.Context) {
	site, err := h.oneSite(c)
	var answer api.GateState
	if err == nil {
		answer, err = h.Content.Gates.Rules.State(c, site)
	}
	own(c)
	h.replyList(c, "hits", answer, err)
}

func (h *handlers) saveGate(c *gin.Context) {
	ofSite(h, c, func(site *sites.Site, body api.GateSave) (gate.Revision, error) {
		rev, err := h.Content.Gates.Rules.Save(c, site, body, callerOf(c).Actor())
		if err == nil {
			h.note(c, "gate changed", fmt.Sprintf("%s revision %d", site.Host, rev.Revision))
		}
		return rev, err
	})
}

func (h *handlers) checkGate(c *gin.Context) {
	ofSite(h, c, func(_ *sites.Site, body api.GateCheckRequest) (api.GateChecked, error) {
		return h.Content.Gates.Rules.Check(body), nil
	})
}

func (h *handlers) simulateGate(c *gin.Context) {
	ofSite(h, c, func(site *sites.Site, body api.GateSimulationRequest) (api.GateSimulation, error) {
		if body.Days < 0 || body.Days > 92 {
			return api.GateSimulation{}, invalid.Field("days", fmt.Sprintf("%d is not a number of days", body.Days), "Give 1 to 92.")
		}
		h.Visits.Settle(c)
		return h.Content.Gates.Rules.Simulate(c, site, body)
	})
}

func (h *handlers) saveGateDraft(c *gin.Context) {
	site, err := h.oneSite(c)
	var body gate.Rules
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	if err == nil {
		err = h.Content.Gates.Rules.SaveDraft(c, site, body, callerOf(c).Actor())
	}
	h.done(c, err)
}

func (h *handlers) dropGateDraft(c *gin.Context) {
	site, err := h.oneSite(c)
	if err == nil {
		err = h.Content.Gates.Rules.DropDraft(c, site)
	}
	h.done(c, err)
}

func (h *handlers) listGateHistory(c *gin.Context) {
	site, err := h.oneSite(c)
	limit, wrong := request.Int(c, "limit", 50, 1, 200)
	before, wrongToo := request.Int(c, "before", 0, 0, 1<<52)
	var answer api.GateHistory
	if err = errors.Join(err, wrong, wrongToo); err == nil {
		answer, err = h.Content.Gates.Rules.History(c, site, int64(before), limit)
	}
	own(c)
	h.replyList(c, "revisions", answer, err)
}

func (h *handlers) returnGate(c *gin.Context) {
	site, err := h.oneSite(c)
	number, wrong := strconv.ParseInt(c.Param("revision"), 10, 64)
	if err == nil && wrong != nil {
		err = gate.ErrNoRevision
	}
	var rev gate.Revision
	if err == nil {
		if rev, err = h.Content.Gates.Rules.Return(c, site, number, callerOf(c).Actor()); err == nil {
			h.note(c, "gate changed", fmt.Sprintf("%s revision %d, as revision %d was", site.Host, rev.Revision, number))
		}
	}
	h.replyJSON(c, http.StatusOK, rev, err)
}

func (h *handlers) getGateRefusals(c *gin.Context) {
	site, err := h.oneSite(c)
	now := h.Service.Now()
	from, wrong := request.Time(c, "from", now.AddDate(0, 0, -7))
	to, wrongToo := request.Time(c, "to", now)
	var answer api.GateRefusals
	if err = errors.Join(err, wrong, wrongToo); err == nil {
		answer, err = h.Content.Gates.Rules.Refusals(c, site, from, to, c.Query("reference"))
	}
	own(c)
	h.replyList(c, "countries", answer, err)
}

func (h *handlers) rehearse(c *gin.Context) {
	var body api.RehearsalRequest
	err := request.JSON(c, &body, false)
	var site *sites.Site
	if err == nil {
		if all := h.Public.Sites.All(); body.Site == "" && len(all) == 1 {
			site = all[0]
		} else {
			site, err = h.Public.Sites.Find(body.Site)
		}
	}
	var answer api.Rehearsal
	if err == nil {
		if key := callerOf(c).Key; key != nil && !key.MayUse(site.Host) {
			err = &access.SiteError{Site: site.Host}
		} else {
			answer, err = h.Content.Gates.Rehearsals.Run(c, site, body)
		}
	}
	own(c)
	h.replyList(c, "results", answer, err)
}
