package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/plain"
	"eastporch/internal/core/variant"
	"eastporch/internal/server/access"
)

// variantStore keeps the content variants that are made in the console.
type variantStore interface {
	VariantSets(ctx context.Context) (map[string][]variant.Set, error)
	SaveVariantSet(ctx context.Context, site string, set variant.Set, by string, at time.Time) error
	DropVariantSet(ctx context.Context, site, name string) (ok bool, err error)
}

// Origins of a set of variants.
const (
	fromConfiguration = "configuration"
	fromConsole       = "console"
)

func (a *api) listVariants(c *gin.Context) {
	site, err := a.oneSite(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	stored, err := a.Variants.VariantSets(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	type set struct {
		variant.Set
		From string `json:"from"`
	}
	sets := []set{}
	for _, s := range site.Sets {
		sets = append(sets, set{s, fromConfiguration})
	}
	for _, s := range stored[site.Host] {
		sets = append(sets, set{s, fromConsole})
	}
	var areas []string
	for _, area := range a.Areas {
		areas = append(areas, area.Name)
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{
		"site": site.Host, "sets": sets, "groups": a.Known.Groups.Names(), "areas": append([]string{}, areas...), "labels": append([]string{}, a.LabelNames...),
		"languages": append([]string{}, site.Local.Languages.Offered()...), "default_language": site.Local.Languages.Default(), "currency": plain.Optional(site.Local.Currency),
		"business_hours": site.Local.Hours.String(),
	})
}

func (a *api) saveVariants(c *gin.Context) {
	site, err := a.oneSite(c)
	var set variant.Set
	if err == nil {
		err = readJSON(c, &set, false)
	}
	if err == nil && set.Name != c.Param("name") {
		err = invalidField("name", "it is not that of the path", "Give the same name in both.")
	}
	if err == nil {
		if set.Rules == nil {
			set.Rules = []variant.Rule{}
		}
		if field, wrong := set.Check(a.Known); wrong != nil {
			err = invalidField(field, without(wrong, variant.ErrSet), "docs/localization.md says what stands here.")
		}
	}
	if err == nil {
		err = a.mayChange(c, site, set.Name, true)
	}
	if err == nil {
		err = a.Variants.SaveVariantSet(c, site.Host, set, callerOf(c).actor(), a.Now())
	}
	if err == nil {
		err = a.variantsChanged(c, "variants saved", site.Host+" "+set.Name)
	}
	a.done(c, err)
}

func (a *api) dropVariants(c *gin.Context) {
	site, err := a.oneSite(c)
	name := c.Param("name")
	if err == nil {
		err = a.mayChange(c, site, name, false)
	}
	if err == nil {
		var ok bool
		if ok, err = a.Variants.DropVariantSet(c, site.Host, name); err == nil && !ok {
			err = access.ErrNoSuch
		}
	}
	if err == nil {
		err = a.variantsChanged(c, "variants dropped", site.Host+" "+name)
	}
	a.done(c, err)
}

// mayChange refuses sets that the configuration has, and more than there may be.
func (a *api) mayChange(ctx context.Context, site *Site, name string, adds bool) error {
	if slices.ContainsFunc(site.Sets, func(s variant.Set) bool { return s.Name == name }) {
		p := badRequest("conflict", "Not possible right now", fmt.Sprintf("The configuration has the variants %s.", name), "Change them there, or take another name.")
		p.Status = http.StatusConflict
		return p
	}
	stored, err := a.Variants.VariantSets(ctx)
	if err == nil && adds && len(stored[site.Host])+len(site.Sets) >= variant.MaxSets && !slices.ContainsFunc(stored[site.Host], func(s variant.Set) bool { return s.Name == name }) {
		err = invalidField("name", fmt.Sprintf("the site has %d sets already", variant.MaxSets), "Drop one first.")
	}
	return err
}

func (a *api) variantsChanged(c *gin.Context, what, detail string) error {
	if err := a.Revary(c); err != nil {
		return err
	}
	event, err := access.NewEvent(a.Now(), what, callerOf(c).actor(), detail)
	if err == nil {
		err = a.Audit.AddEvent(c, event)
	}
	return err
}
