package companions

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/companion"
	"eastporch/internal/core/invalid"
	"eastporch/internal/server/operation"
	"eastporch/internal/server/sites"
)

// An API has the operations about companions.
type API struct {
	operation.Tools
	Companions *Companions
	Cards      cards
}

// Documents are the operations about companions as documents.
func (a *API) Documents() operation.Documents[companion.List, companion.State, companion.Save] {
	return operation.Documents[companion.List, companion.State, companion.Save]{Word: "companion", List: a.Companions.List, State: a.Companions.Get, Save: a.Companions.Save, Drop: a.Companions.Drop}
}

// Try tries a companion with made-up visitors.
func (a *API) Try(c *gin.Context) {
	operation.With(&a.Tools, c, http.StatusOK, func(site *sites.Site, body companion.Try) (companion.Tries, error) {
		return a.Companions.Try(c, a.Cards, site, body)
	})
}

// Ask asks a companion again.
func (a *API) Ask(c *gin.Context) {
	operation.Of(&a.Tools, c, func(site *sites.Site) (companion.State, error) {
		return a.Companions.AskAgain(c, site, c.Param("name"))
	})
}

// longestCardWait bounds how long a card waits for companions.
const longestCardWait = 5 * time.Second

// Wait is how long a card waits for companions that are being asked: wait:300ms. 0 is not at all.
func Wait(c *gin.Context) (time.Duration, error) {
	text := c.Query("companions")
	if text == "" {
		return 0, nil
	}
	words, ok := strings.CutPrefix(text, "wait:")
	wait, err := time.ParseDuration(words)
	if !ok || err != nil || wait < 0 || wait > longestCardWait {
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
		if first, _, _ := strings.Cut(path, "."); first == "companions" || first == "variants" && site.Local.Variants.Asks() {
			return true
		}
	}
	return len(fields) == 0
}
