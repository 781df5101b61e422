package contentapi

import (
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/card"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/invalid"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// cards say where made-up visitors are.
type cards interface {
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
	Localize(country *almanac.Country, zone string, req card.RequestContext, now time.Time) card.Card
}

// ListCompanions lists the companions of a site.
func (a *API) ListCompanions(c *gin.Context) {
	site, err := a.Site(c)
	var list companion.List
	if err == nil {
		list = a.Companions.List(site)
	}
	a.JSON(c, http.StatusOK, list, err)
}

// GetCompanion gives a companion.
func (a *API) GetCompanion(c *gin.Context) {
	site, err := a.Site(c)
	var state companion.State
	if err == nil {
		state, err = a.Companions.Get(site, c.Param("name"))
	}
	a.JSON(c, http.StatusOK, state, err)
}

// SaveCompanion saves a companion.
func (a *API) SaveCompanion(c *gin.Context) {
	site, err := a.Site(c)
	var body companion.Save
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	var state companion.State
	if err == nil {
		if state, err = a.Companions.Save(c, site, c.Param("name"), body, a.Who(c).Actor()); err == nil {
			a.Note(c, "companion saved", site.Host+" "+state.Name)
		}
	}
	a.JSON(c, http.StatusOK, state, err)
}

// DropCompanion drops a companion.
func (a *API) DropCompanion(c *gin.Context) {
	site, err := a.Site(c)
	if err == nil {
		if err = a.Companions.Drop(c, site, c.Param("name")); err == nil {
			a.Note(c, "companion dropped", site.Host+" "+c.Param("name"))
		}
	}
	a.Done(c, err)
}

// TryCompanion tries a companion with made-up visitors.
func (a *API) TryCompanion(c *gin.Context) {
	site, err := a.Site(c)
	var body companion.Try
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	var tries companion.Tries
	if err == nil {
		tries, err = a.Companions.Try(c, a.Cards, site, body)
	}
	a.JSON(c, http.StatusOK, tries, err)
}

// AskCompanion asks a companion again.
func (a *API) AskCompanion(c *gin.Context) {
	site, err := a.Site(c)
	var state companion.State
	if err == nil {
		state, err = a.Companions.AskAgain(c, site, c.Param("name"))
	}
	a.JSON(c, http.StatusOK, state, err)
}

// longestWait bounds how long a card waits for companions.
const longestWait = 5 * time.Second

// Wait is how long a card waits for companions that are being asked: wait:300ms. 0 is not at all.
func Wait(c *gin.Context) (time.Duration, error) {
	text := c.Query("companions")
	if text == "" {
		return 0, nil
	}
	words, ok := strings.CutPrefix(text, "wait:")
	wait, err := time.ParseDuration(words)
	if !ok || err != nil || wait < 0 || wait > longestWait {
		return 0, invalid.Field("companions", fmt.Sprintf("%.40q is not a time to wait", text), "Write it like wait:300ms, up to wait:5s, or leave it out.")
	}
	return wait, nil
}

// Asks says whether a card with some fields, none for all, wants companions asked.
func Asks(site *sites.Site, fields []string) bool {
	if site == nil {
		return false
	}
	for _, path := range fields {
		if first, _, _ := strings.Cut(path, "."); first == "companions" || first == "variants" && site.Local.Variants().Asks() {
			return true
		}
	}
	return len(fields) == 0
}
