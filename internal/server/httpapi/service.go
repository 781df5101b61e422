package httpapi

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/respond"
)

func (h *handlers) getCheckup(c *gin.Context) {
	result := h.Public.Watch.Result()
	if f, ok := h.Public.Localize.CheckRates(); ok {
		result.Add(f)
	}
	for _, f := range append(h.Service.Findings(), h.Access.Refused.Findings(c, h.Access.Held)...) {
		result.Add(f)
	}
	for _, f := range h.Content.Notices.Check(c) {
		result.Add(f)
	}
	h.replyJSON(c, http.StatusOK, api.Checkup{Result: result, Settings: h.Public.Proxies.Settings}, nil)
}

func (h *handlers) reload(c *gin.Context) {
	answer, err := h.Service.Reload(c, c.Query("force") == "1")
	h.replyJSON(c, http.StatusOK, answer, err)
}

func (h *handlers) getMetrics(c *gin.Context) {
	h.Service.Metrics.ServeHTTP(c.Writer, c.Request)
}

func (h *handlers) listSites(c *gin.Context) {
	answer := api.Sites{Sites: []api.Site{}, MapLink: plain.Optional(h.Content.MapLink)}
	for _, s := range h.Public.Sites.All() {
		answer.Sites = append(answer.Sites, api.Site{Host: s.Host, Name: s.Name, Privacy: s.Privacy.String(), TimeZone: s.TimeZone})
	}
	c.JSON(http.StatusOK, answer)
}

// health says how the service is.
func (h *handlers) health(status, database string) api.Health {
	return api.Health{Status: status, Version: h.Service.Version, Edition: h.Atlas.Service.Shelf.Current().Name(), Database: database}
}

func (h *handlers) getLiveness(c *gin.Context) {
	h.answerHealth(c, http.StatusOK, h.health("alive", "not asked"))
}

// readyWithin bounds how long readiness waits for the database.
const readyWithin = 2 * time.Second

// getReadiness says whether visits can be accepted, which a database that is
// away does not prevent for a while.
func (h *handlers) getReadiness(c *gin.Context) {
	state := h.Service.Queue.State()
	if state.Away != nil { // the reason may name hosts, and nobody has to sign in here
		state.Away = plain.Optional("the database takes nothing now")
	}
	answer := h.health("ready", "answers")
	answer.Intake = &state
	if h.listener == AdminListener { // whose answer alone says so
		ctx, cancel := context.WithTimeout(c, readyWithin)
		defer cancel()
		if h.Service.Ping(ctx) != nil {
			answer.Database = "does not answer"
		}
	}
	status := http.StatusOK
	if !h.Service.Queue.Room() {
		answer.Status, status = "not ready", http.StatusServiceUnavailable
	}
	h.answerHealth(c, status, answer)
}

// answerHealth tells strangers one word, and the admin listener the rest.
func (h *handlers) answerHealth(c *gin.Context, status int, answer api.Health) {
	respond.NoStore(c)
	if h.listener != AdminListener {
		c.String(status, "%s\n", strings.ReplaceAll(answer.Status, " ", "-"))
		return
	}
	c.JSON(status, answer)
}

func (h *handlers) getOpenAPI(c *gin.Context) {
	c.Data(http.StatusOK, "application/json", api.JSON())
}
