package gates

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/refusal"
	"eastporch/internal/server/operation"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/rehearsals"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// Services is what decisions are made and shown with. Every field is required.
type Services struct {
	Rules      *Rulebook
	Counter    *Counter
	Rehearsals *rehearsals.Rehearsals
	Signer     *rehearsals.Signer
}

// An API has the operations about rules of gates and about rehearsals.
type API struct {
	Services
	operation.Tools
}

// Refusal shows the page for whoever is refused, with the status that goes with it.
func (a *API) Refusal(c *gin.Context) {
	if c.Header("Cache-Control", "private, no-store"); !a.MayAsk(c) {
		return
	}
	reference, err := a.Counter.Reference(c.Query("reference"))
	site := a.Sites.Of(reference.Site)
	if err == nil && site == nil {
		err = ErrReference
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
	how := site.Local.Gates.Refusal(reference.Gate)
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
func (a *API) UsePass(c *gin.Context) {
	if c.Header("Cache-Control", "private, no-store"); !a.MayAsk(c) {
		return
	}
	pass, host, lasts, err := a.Counter.SpendLink(c, c.Query("link"))
	if err != nil {
		if errors.Is(err, ErrPass) {
			err = invalid.Field("link", ErrPass.Error(), "Make another on the page Gate of the console.")
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
func (a *API) MakePass(c *gin.Context) {
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
		answer = api.GatePass{URL: base + "/v1/gate/pass?link=" + a.Counter.PassLink(site.Host, session.ID), Expires: session.Expires}
		a.Note(c, "pass made", site.Host)
	}
	a.JSON(c, http.StatusOK, answer, err)
}

// State answers with the gates of a site.
func (a *API) State(c *gin.Context) {
	c.Header("Cache-Control", "private, no-store")
	operation.Of(&a.Tools, c, func(site *sites.Site) (api.GateState, error) { return a.Rules.State(c, site) })
}

// Save puts rules in force.
func (a *API) Save(c *gin.Context) {
	operation.With(&a.Tools, c, http.StatusOK, func(site *sites.Site, body api.GateSave) (gate.Revision, error) {
		rev, err := a.Rules.Save(c, site, body, a.Who(c).Actor())
		if err == nil {
			a.Note(c, "gate changed", fmt.Sprintf("%s revision %d", site.Host, rev.Revision))
		}
		return rev, err
	})
}

// Check says what is wrong with rules.
func (a *API) Check(c *gin.Context) {
	operation.With(&a.Tools, c, http.StatusOK, func(_ *sites.Site, body api.GateCheckRequest) (api.GateChecked, error) {
		return a.Rules.Check(body), nil
	})
}

// Simulate tries rules on stored visits.
func (a *API) Simulate(c *gin.Context) {
	operation.With(&a.Tools, c, http.StatusOK, func(site *sites.Site, body api.GateSimulationRequest) (api.GateSimulation, error) {
		if body.Days < 0 || body.Days > 92 {
			return api.GateSimulation{}, invalid.Field("days", fmt.Sprintf("%d is not a number of days", body.Days), "Give 1 to 92.")
		}
		a.Settle(c)
		return a.Rules.Simulate(c, site, body)
	})
}

// SaveDraft keeps a draft.
func (a *API) SaveDraft(c *gin.Context) {
	a.Do(c, "", "", func(site *sites.Site) error {
		var body gate.Rules
		if err := request.JSON(c, &body, false); err != nil {
			return err
		}
		return a.Rules.SaveDraft(c, site, body, a.Who(c).Actor())
	})
}

// DropDraft discards the draft.
func (a *API) DropDraft(c *gin.Context) {
	a.Do(c, "", "", func(site *sites.Site) error { return a.Rules.DropDraft(c, site, a.Who(c).Actor()) })
}

// History lists revisions.
func (a *API) History(c *gin.Context) {
	c.Header("Cache-Control", "private, no-store")
	operation.Of(&a.Tools, c, func(site *sites.Site) (api.GateHistory, error) {
		limit, err := request.Int(c, "limit", 50, 1, 200)
		before, wrong := request.Int(c, "before", 0, 0, 1<<52)
		if err = errors.Join(err, wrong); err != nil {
			return api.GateHistory{}, err
		}
		return a.Rules.History(c, site, int64(before), limit)
	})
}

// Return puts an older revision in force again.
func (a *API) Return(c *gin.Context) {
	operation.Of(&a.Tools, c, func(site *sites.Site) (gate.Revision, error) {
		number, err := strconv.ParseInt(c.Param("revision"), 10, 64)
		if err != nil {
			return gate.Revision{}, gate.ErrNoRevision
		}
		rev, err := a.Rules.Return(c, site, number, a.Who(c).Actor())
		if err == nil {
			a.Note(c, "gate changed", fmt.Sprintf("%s revision %d, as revision %d was", site.Host, rev.Revision, number))
		}
		return rev, err
	})
}

// Refusals counts what was refused.
func (a *API) Refusals(c *gin.Context) {
	c.Header("Cache-Control", "private, no-store")
	operation.Of(&a.Tools, c, func(site *sites.Site) (api.GateRefusals, error) {
		now := a.Now()
		from, err := request.Time(c, "from", now.AddDate(0, 0, -7))
		to, wrong := request.Time(c, "to", now)
		if err = errors.Join(err, wrong); err != nil {
			return api.GateRefusals{}, err
		}
		return a.Rules.Refusals(c, site, from, to, c.Query("reference"))
	})
}

// Rehearse tries visits from anywhere.
func (a *API) Rehearse(c *gin.Context) {
	var body api.RehearsalRequest
	err := request.JSON(c, &body, false)
	var site *sites.Site
	if err == nil {
		site, err = a.PickSite(body.Site)
	}
	if err == nil {
		err = a.MayUse(c, site.Host)
	}
	var answer api.Rehearsal
	if err == nil {
		answer, err = a.Rehearsals.Run(c, site, body)
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
