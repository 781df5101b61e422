package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	contract "eastporch/api"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

func (a *api) getVisitor(c *gin.Context) {
	card, err := a.visitorCard(c)
	if err == nil {
		err = device(c, &card)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	private(c)
	a.answerCard(c, &card)
}

func (a *api) getVisitorAddress(c *gin.Context) {
	from, header := peer(c.Request), c.Request.Header
	card, trail := a.Enrich.Visitor(from, header, card.RequestContext{}, a.Now())
	a.countVisitor(card)
	a.Watch.Observe(from, header, trail)
	if !trail.Visitor.IsValid() {
		a.fail(c, problem{
			Type: "/problems/visitor-not-found", Title: "Visitor not found", Status: http.StatusNotFound,
			Detail: trail.Reason, Hint: "POST /v1/trails on the admin listener explains every hop.",
		})
		return
	}
	private(c)
	c.String(http.StatusOK, "%s\n", trail.Visitor)
}

// seen is a request as somebody reports it.
type seen struct {
	Peer    *string             `json:"peer"`
	Headers map[string][]string `json:"headers"`
}

func (a *api) explainTrail(c *gin.Context) {
	var body struct {
		seen
		Text     *string        `json:"text"`
		Settings *ProxySettings `json:"settings"`
	}
	if err := readJSON(c, &body, true); err != nil {
		a.fail(c, err)
		return
	}
	if body.Text != nil {
		pasted, err := caller.ParsePasted(*body.Text)
		if err != nil {
			a.fail(c, invalidField("text", err.Error(), "Paste header lines, the output of curl -v, or a HAR file."))
			return
		}
		body.Headers = pasted
	}
	from, header, err := body.request(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	finder := a.Finder
	if body.Settings != nil {
		if finder, err = a.TryProxies(*body.Settings); err != nil {
			a.fail(c, invalidField("settings", err.Error(), "Write them as under proxies in the configuration."))
			return
		}
	}
	c.JSON(http.StatusOK, finder.Find(from, header))
}

func (a *api) getCheckup(c *gin.Context) {
	report := a.Watch.Result()
	if f, ok := a.ratesFinding(); ok {
		report.Add(f)
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, struct {
		checkup.Result
		Settings ProxySettings `json:"settings"`
	}{report, a.Proxies})
}

// ratesFinding judges the exchange rates; ok is false where there are to be none.
func (a *api) ratesFinding() (f checkup.Diagnostic, ok bool) {
	state, now := a.Rates.State(), a.Now()
	f = checkup.Diagnostic{Name: "rates", State: checkup.OK, Title: "The exchange rates are recent."}
	switch {
	case state.Rates.Base == "" && state.Problem == "":
		return f, false
	case state.Rates.Base == "":
		f.State, f.Title, f.Text = checkup.Attention, "The exchange rates could not be read.", upperFirst(state.Problem)+"."
	case a.Rates.Stale(now):
		f.State, f.Title = checkup.Attention, fmt.Sprintf("The exchange rates are %d days old.", state.Rates.AgeDays(now))
		f.Text = fmt.Sprintf("They are dated %s, and rates.stale_days in the configuration allows less. Prices are shown by them all the same.", state.Rates.Dated.Format(time.DateOnly))
		if state.Problem != "" {
			f.Text += " The last reading failed: " + state.Problem + "."
		}
	case state.Problem != "":
		f.State, f.Title = checkup.Attention, "The exchange rates could not be read again."
		f.Text = fmt.Sprintf("Those of %s stand. %s.", state.Rates.Dated.Format(time.DateOnly), upperFirst(state.Problem))
	}
	return f, true
}

func (a *api) listSites(c *gin.Context) {
	type site struct {
		Host     string `json:"host"`
		Name     string `json:"name"`
		Privacy  string `json:"privacy"`
		TimeZone string `json:"time_zone"`
	}
	sites := []site{}
	for _, s := range a.Sites {
		sites = append(sites, site{s.Host, s.Name, s.Privacy.String(), s.TimeZone})
	}
	c.JSON(http.StatusOK, gin.H{"sites": sites, "map_link": plain.Optional(a.MapLink)})
}

type health struct {
	Status   string       `json:"status"`
	Version  string       `json:"version"`
	Edition  string       `json:"edition"`
	Database string       `json:"database"`
	Intake   *visit.Queue `json:"intake"`
}

func (a *api) getLiveness(c *gin.Context) {
	a.answerHealth(c, http.StatusOK, health{"alive", a.Version, a.edition().Name(), "not asked", nil})
}

// readyWithin bounds how long readiness waits for the database.
const readyWithin = 2 * time.Second

// getReadiness says whether visits can be accepted, which a database that is
// away does not prevent for a while.
func (a *api) getReadiness(c *gin.Context) {
	state := a.Intake.State()
	if state.Away != nil { // the reason may name hosts, and nobody has to sign in here
		state.Away = plain.Optional("the database takes nothing now")
	}
	h := health{"ready", a.Version, a.edition().Name(), "answers", &state}
	if a.listener == AdminListener { // whose answer alone says so
		ctx, cancel := context.WithTimeout(c, readyWithin)
		defer cancel()
		if a.Store.Ping(ctx) != nil {
			h.Database = "does not answer"
		}
	}
	status := http.StatusOK
	if !a.Intake.Room() {
		h.Status, status = "not ready", http.StatusServiceUnavailable
	}
	a.answerHealth(c, status, h)
}

// answerHealth tells strangers one word, and the admin listener the rest.
func (a *api) answerHealth(c *gin.Context, status int, h health) {
	c.Header("Cache-Control", "no-store")
	if a.listener != AdminListener {
		c.String(status, "%s\n", strings.ReplaceAll(h.Status, " ", "-"))
		return
	}
	c.JSON(status, h)
}

func (a *api) getOpenAPI(c *gin.Context) {
	c.Data(http.StatusOK, "application/json", contract.JSON())
}
