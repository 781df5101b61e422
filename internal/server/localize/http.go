package localize

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/snippet"
	"eastporch/internal/core/variant"
	"eastporch/internal/files/answers"
	"eastporch/internal/server/operation"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// An API has the operations about content variants and snippets.
type API struct {
	operation.Tools
	Variants *Variants
	// VisitorURL is where the public listener is, as this machine sees it.
	VisitorURL func() string
}

// ListVariants lists the content variants of a site.
func (a *API) ListVariants(c *gin.Context) { operation.Of(&a.Tools, c, a.Variants.List) }

// SaveVariants saves a set of variants.
func (a *API) SaveVariants(c *gin.Context) {
	a.Do(c, "variants saved", c.Param("name"), func(site *sites.Site) error {
		var set variant.Set
		if err := request.JSON(c, &set, false); err != nil {
			return err
		}
		if set.Name != c.Param("name") {
			return invalid.Field("name", "it is not that of the path", "Give the same name in both.")
		}
		return a.Variants.Save(c, site, set, a.Who(c).Actor())
	})
}

// DropVariants drops a set of variants.
func (a *API) DropVariants(c *gin.Context) {
	a.Do(c, "variants dropped", c.Param("name"), func(site *sites.Site) error {
		return a.Variants.Drop(c, site, c.Param("name"), a.Who(c).Actor())
	})
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
