package httpapi

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/visit"
)

func (a *api) reportCountries(c *gin.Context) {
	f, count, ok := a.counted(c)
	if !ok {
		return
	}
	list, err := a.Store.Countries(c, f)
	if err != nil {
		a.fail(c, err)
		return
	}
	type row struct {
		visit.CountryCount
		Name  *string `json:"name"`
		Share float64 `json:"share"`
	}
	rows := []row{}
	for _, r := range list {
		line := row{CountryCount: r, Share: float64(r.Visits) / float64(max(1, count.Matching))}
		if r.CountryCode != nil {
			if country, ok := almanac.ByCode(*r.CountryCode); ok {
				line.Name = &country.Name
			}
		}
		rows = append(rows, line)
	}
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, gin.H{"site": f.Site, "count": count, "rows": rows})
}

func (a *api) reportPlaces(c *gin.Context) {
	f, count, ok := a.counted(c)
	if !ok {
		return
	}
	places, pointless, err := a.Store.Places(c, f)
	if err != nil {
		a.fail(c, err)
		return
	}
	type names struct {
		Country string  `json:"country"`
		Region  *string `json:"region"`
	}
	type row struct {
		visit.PlaceCount
		Names names `json:"names"`
	}
	rows := []row{}
	for _, p := range places {
		line := row{PlaceCount: p}
		if country, ok := almanac.ByCode(p.CountryCode); ok {
			line.Names.Country = country.Name
		}
		if p.RegionCode != nil {
			if name, ok := almanac.Region(*p.RegionCode); ok {
				line.Names.Region = &name
			}
		}
		rows = append(rows, line)
	}
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, gin.H{"site": f.Site, "count": count, "rows": rows, "no_point": pointless})
}
