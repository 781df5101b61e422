// Package gateapi has the operations about rules of gates and about rehearsals: each reads a request, asks
// one service and writes the answer.
package gateapi

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/refusal"
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
	Counter    *gates.Counter
	Rehearsals *rehearsals.Rehearsals
	Signer     *rehearsals.Signer
}

// Tools are those of the API that every operation has.
type Tools struct {
	Site   func(*gin.Context) (*sites.Site, error) // that a request is about
	Who    func(*gin.Context) access.Identity
	JSON   func(c *gin.Context, status int, value any, err error)
	Note   func(c *gin.Context, what, detail string) // in the audit log
	MayAsk func(*gin.Context) bool                   // within the visitor's limit; else the answer is written
	Settle func(context.Context)                     // waits for visits that were accepted
	Now    func() time.Time
	Sites  *sites.Sites
}

// An API answers.
type API struct {
	Gates
	Tools
}

// done answers that something was done, or with the problem of an error.
func (a API) done(c *gin.Context, err error) {
	if err != nil {
		a.JSON(c, 0, nil, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// Refusal shows the page for whoever is refused, with the status that goes with it.
func (a API) Refusal(c *gin.Context) {
	if c.Header("Cache-Control", "private, no-store"); !a.MayAsk(c) {
		return
	}
	reference, err := a.Gates.Counter.Reference(c.Query("reference"))
	site := a.Sites.Of(reference.Site)
	if err == nil && site == nil {
		err = gates.ErrReference
	}
	if err != nil {
		a.JSON(c, 0, nil, invalid.Field("reference", err.Error(), "Ask /v1/gate/decide again; a reference is good for ten minutes."))
		return
	}
	if err := ShowRefusal(c, site, reference); err != nil {
		a.JSON(c, 0, nil, err)
	}
}

// ShowRefusal answers with the page for whoever is refused. Where it gives an error nothing was written.
func ShowRefusal(c *gin.Context, site *sites.Site, reference gate.Reference) error {
	how := site.Local.Gates().Refusal(reference.Gate)
	nonce := rand.Text()
	text, err := site.Refusal.Write(refusal.Subject{
		Site: site.Name, Reference: reference, Refusal: how, Accept: c.GetHeader("Accept-Language"), Default: site.Local.Languages.Default(), TimeZone: site.TimeZone,
	}, nonce)
	if err != nil {
		return err
	}
	c.Header("Vary", "Accept-Language")
	c.Header("Content-Security-Policy", fmt.Sprintf("default-src 'none'; img-src 'self'; style-src 'nonce-%s'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'", nonce))
	c.Header("X-Robots-Tag", "noindex")
	c.Data(reference.Status, "text/html; charset=utf-8", text)
	return nil
}

// UsePass gives a browser the pass that a link is for.
func (a API) UsePass(c *gin.Context) {
	if c.Header("Cache-Control", "private, no-store"); !a.MayAsk(c) {
		return
	}
	pass, host, lasts, err := a.Gates.Counter.SpendLink(c, c.Query("link"))
	if err != nil {
		if errors.Is(err, gates.ErrPass) {
			err = invalid.Field("link", gates.ErrPass.Error(), "Make another on the page Gate of the console.")
		}
		a.JSON(c, 0, nil, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{
		Name: handover.PassCookie, Value: pass, Path: "/", MaxAge: int(lasts.Seconds()), HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: c.GetHeader("X-Forwarded-Proto") == "https" || c.Request.TLS != nil,
	})
	a.Note(c, "pass taken", host)
	c.Redirect(http.StatusSeeOther, "/")
}

// MakePass makes the link of an owner's pass.
func (a API) MakePass(c *gin.Context) {
	site, err := a.Site(c)
	session := a.Who(c).Session
	if err == nil && session == nil {
		err = problem.Of(http.StatusConflict, "no-session", "No session", "A pass ends with a session of the console, and a key has none.", "Sign in to the console.")
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
		answer = api.GatePass{URL: base + "/v1/gate/pass?link=" + a.Gates.Counter.PassLink(site.Host, session.ID), Expires: session.Expires}
		a.Note(c, "pass made", site.Host)
	}
	a.JSON(c, http.StatusOK, answer, err)
}

// ofSite runs something of a site with a body, and answers with what it gives.
func ofSite[Body, Answer any](a API, c *gin.Context, do func(*sites.Site, Body) (Answer, error)) {
	site, err := a.Site(c)
	var body Body
	var answer Answer
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	if err == nil {
		answer, err = do(site, body)
	}
	a.JSON(c, http.StatusOK, answer, err)
}

// State answers with the gates of a site.
func (a API) State(c *gin.Context) {
	site, err := a.Site(c)
	var answer api.GateState
	if err == nil {
		answer, err = a.Gates.Rules.State(c, site)
	}
	c.Header("Cache-Control", "private, no-store")
	a.JSON(c, http.StatusOK, answer, err)
}

// Save puts rules in force.
func (a API) Save(c *gin.Context) {
	ofSite(a, c, func(site *sites.Site, body api.GateSave) (gate.Revision, error) {
		rev, err := a.Gates.Rules.Save(c, site, body, a.Who(c).Actor())
		if err == nil {
			a.Note(c, "gate changed", fmt.Sprintf("%s revision %d", site.Host, rev.Revision))
		}
		return rev, err
	})
}

// Check says what is wrong with rules.
func (a API) Check(c *gin.Context) {
	ofSite(a, c, func(_ *sites.Site, body api.GateCheckRequest) (api.GateChecked, error) {
		return a.Gates.Rules.Check(body), nil
	})
}

// Simulate tries rules on stored visits.
func (a API) Simulate(c *gin.Context) {
	ofSite(a, c, func(site *sites.Site, body api.GateSimulationRequest) (api.GateSimulation, error) {
		if body.Days < 0 || body.Days > 92 {
			return api.GateSimulation{}, invalid.Field("days", fmt.Sprintf("%d is not a number of days", body.Days), "Give 1 to 92.")
		}
		a.Settle(c)
		return a.Gates.Rules.Simulate(c, site, body)
	})
}

// SaveDraft keeps a draft.
func (a API) SaveDraft(c *gin.Context) {
	site, err := a.Site(c)
	var body gate.Rules
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	if err == nil {
		err = a.Gates.Rules.SaveDraft(c, site, body, a.Who(c).Actor())
	}
	a.done(c, err)
}

// DropDraft discards the draft.
func (a API) DropDraft(c *gin.Context) {
	site, err := a.Site(c)
	if err == nil {
		err = a.Gates.Rules.DropDraft(c, site)
	}
	a.done(c, err)
}

// History lists revisions.
func (a API) History(c *gin.Context) {
	site, err := a.Site(c)
	limit, wrong := request.Int(c, "limit", 50, 1, 200)
	before, wrongToo := request.Int(c, "before", 0, 0, 1<<52)
	var answer api.GateHistory
	if err = errors.Join(err, wrong, wrongToo); err == nil {
		answer, err = a.Gates.Rules.History(c, site, int64(before), limit)
	}
	c.Header("Cache-Control", "private, no-store")
	a.JSON(c, http.StatusOK, answer, err)
}

// Return puts an older revision in force again.
func (a API) Return(c *gin.Context) {
	site, err := a.Site(c)
	number, wrong := strconv.ParseInt(c.Param("revision"), 10, 64)
	if err == nil && wrong != nil {
		err = gate.ErrNoRevision
	}
	var rev gate.Revision
	if err == nil {
		if rev, err = a.Gates.Rules.Return(c, site, number, a.Who(c).Actor()); err == nil {
			a.Note(c, "gate changed", fmt.Sprintf("%s revision %d, as revision %d was", site.Host, rev.Revision, number))
		}
	}
	a.JSON(c, http.StatusOK, rev, err)
}

// Refusals counts what was refused.
func (a API) Refusals(c *gin.Context) {
	site, err := a.Site(c)
	now := a.Now()
	from, wrong := request.Time(c, "from", now.AddDate(0, 0, -7))
	to, wrongToo := request.Time(c, "to", now)
	var answer api.GateRefusals
	if err = errors.Join(err, wrong, wrongToo); err == nil {
		answer, err = a.Gates.Rules.Refusals(c, site, from, to, c.Query("reference"))
	}
	c.Header("Cache-Control", "private, no-store")
	a.JSON(c, http.StatusOK, answer, err)
}

// Rehearse tries visits from anywhere.
func (a API) Rehearse(c *gin.Context) {
	var body api.RehearsalRequest
	err := request.JSON(c, &body, false)
	var site *sites.Site
	if err == nil {
		if all := a.Sites.All(); body.Site == "" && len(all) == 1 {
			site = all[0]
		} else {
			site, err = a.Sites.Find(body.Site)
		}
	}
	var answer api.Rehearsal
	if err == nil {
		if key := a.Who(c).Key; key != nil && !key.MayUse(site.Host) {
			err = &access.SiteError{Site: site.Host}
		} else {
			answer, err = a.Gates.Rehearsals.Run(c, site, body)
		}
	}
	c.Header("Cache-Control", "private, no-store")
	a.JSON(c, http.StatusOK, answer, err)
}

// Admit answers a proxy that the visitor is admitted.
func Admit(c *gin.Context) {
	c.Header(handover.GateField, handover.Admitted)
	c.Status(http.StatusNoContent)
}

// Refuse answers a proxy that the visitor is refused: with a reference, and the status that the page has.
func Refuse(c *gin.Context, reference string, status int) {
	c.Header(handover.GateField, string(gate.Refuse))
	c.Header("Porch-Gate-Reference", reference)
	c.Header("Porch-Gate-Status", strconv.Itoa(status))
	c.Status(http.StatusForbidden)
}
