// Package contentapi has the operations about what owners put on their pages: content variants, snippets and
// companions.
package contentapi

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/snippet"
	"eastporch/internal/core/variant"
	"eastporch/internal/files/answers"
	"eastporch/internal/server/access"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// Tools are what every operation has.
type Tools struct {
	Site func(*gin.Context) (*sites.Site, error) // that a request is about
	Who  func(*gin.Context) access.Identity
	JSON func(c *gin.Context, status int, value any, err error)
	Done func(c *gin.Context, err error)           // answers that something was done
	Note func(c *gin.Context, what, detail string) // in the audit log
}

// Services are what the operations ask.
type Services struct {
	Variants   *localize.Variants
	Companions *companions.Companions
	Cards      cards
}

// An API answers.
type API struct {
	Services
	Tools
	Sites *sites.Sites
	// VisitorURL is where the public listener is, as this machine sees it.
	VisitorURL func() string
}

// ListVariants lists the content variants of a site.
func (a *API) ListVariants(c *gin.Context) {
	site, err := a.Site(c)
	var answer api.Variants
	if err == nil {
		answer, err = a.Variants.List(c, site)
	}
	a.JSON(c, http.StatusOK, answer, err)
}

// SaveVariants saves a set of variants.
func (a *API) SaveVariants(c *gin.Context) {
	site, err := a.Site(c)
	var set variant.Set
	if err == nil {
		err = request.JSON(c, &set, false)
	}
	if err == nil && set.Name != c.Param("name") {
		err = invalid.Field("name", "it is not that of the path", "Give the same name in both.")
	}
	if err == nil {
		if err = a.Variants.Save(c, site, set, a.Who(c).Actor()); err == nil {
			a.Note(c, "variants saved", site.Host+" "+set.Name)
		}
	}
	a.Done(c, err)
}

// DropVariants drops a set of variants.
func (a *API) DropVariants(c *gin.Context) {
	site, err := a.Site(c)
	if err == nil {
		if err = a.Variants.Drop(c, site, c.Param("name")); err == nil {
			a.Note(c, "variants dropped", site.Host+" "+c.Param("name"))
		}
	}
	a.Done(c, err)
}

// Snippets writes code to paste for a choice of fields.
func (a *API) Snippets(c *gin.Context) {
	want := snippet.Want{Base: c.Query("base"), Key: c.DefaultQuery("key", "KEY"), Site: c.Query("site"), Fields: answers.Paths(c.Query("fields"))}
	if want.Base == "" {
		want.Base = a.VisitorURL()
	}
	if all := a.Sites.All(); want.Site == "" && len(all) > 0 {
		want.Site = all[0].Host
	}
	list, err := snippet.All(want)
	if err != nil {
		err = invalid.Field("base, key, site, fields", err.Error(), "What is given stands in code as it is.")
	}
	a.JSON(c, http.StatusOK, api.Snippets{Base: want.Base, Snippets: list}, err)
}
