package httpapi

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/locale"
	"eastporch/internal/flags"
)

// factsLast is how long facts and flags of countries may be kept, which change with
// the version of the service only.
const factsLast = "public, max-age=86400"

// forAll marks what is nobody's secret: on the public listener any page may read it.
func (a *api) forAll(c *gin.Context, lasts string) {
	c.Header("Cache-Control", lasts)
	if a.listener == PublicListener {
		c.Header("Access-Control-Allow-Origin", "*")
		c.Header("Cross-Origin-Resource-Policy", "cross-origin")
	}
}

// mayAsk holds whoever asks without a key to the visitor's limit, on the public listener:
// lists take longer than pictures. Where it gives false the answer is written.
func (a *api) mayAsk(c *gin.Context) bool {
	return a.listener != PublicListener || a.within(c, "visitor", a.Limits.Visitors, a.from(c))
}

func (a *api) listCountries(c *gin.Context) {
	if !a.mayAsk(c) {
		return
	}
	tag, err := languageOf(c, "en")
	group, continent := c.Query("group"), c.Query("continent_code")
	switch {
	case err != nil:
	case group != "" && !a.Known.Groups.Known(group):
		err = invalidField("group", fmt.Sprintf("%.40q is not a group of countries", group), "Known are "+strings.Join(a.Known.Groups.Names(), ", ")+".")
	case continent != "" && almanac.Continent(continent) == "":
		err = invalidField("continent_code", fmt.Sprintf("%.10q is not a continent", continent), "Give AF, AN, AS, EU, NA, OC or SA.")
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	var of []almanac.Country
	for _, country := range almanac.All() {
		if (group == "" || a.Known.Groups.Has(group, &country)) && (continent == "" || country.Continent == continent) {
			of = append(of, country)
		}
	}
	a.forAll(c, factsLast)
	a.answerList(c, "countries", gin.H{"language": tag, "countries": almanac.Choices(tag, of)})
}

// countryOf reads the code in the path, in capitals or not.
func countryOf(c *gin.Context) (*almanac.Country, error) {
	code := c.Param("code")
	country, ok := almanac.ByCode(strings.ToUpper(code))
	if ok {
		return country, nil
	}
	p := badRequest("no-such-country", "No such country", upperFirst(almanac.CheckCode(code).Error()), "GET /v1/countries lists them.")
	p.Status = http.StatusNotFound
	return nil, p
}

func (a *api) getCountry(c *gin.Context) {
	if !a.mayAsk(c) {
		return
	}
	country, err := countryOf(c)
	tag := ""
	if err == nil {
		tag, err = languageOf(c, "en")
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	type region struct {
		RegionCode string `json:"region_code"`
		Name       string `json:"name"`
	}
	regions := []region{}
	for _, code := range almanac.RegionsOf(country.Code) {
		name, _ := almanac.Region(code)
		regions = append(regions, region{code, name})
	}
	own := country.Code
	if len(country.Languages) > 0 {
		own = country.Languages[0] + "-" + country.Code
	}
	a.forAll(c, factsLast)
	a.answer(c, struct {
		almanac.Facts
		Habits      locale.Sample `json:"habits"`
		Regions     []region      `json:"regions"`
		DataVersion string        `json:"data_version"`
	}{almanac.FactsOf(country, tag, a.Known.Groups), locale.SampleOf(own, country.Currency), regions, almanac.DataVersion})
}

func (a *api) getFlag(c *gin.Context) {
	country, err := countryOf(c)
	tag, shape := "", c.DefaultQuery("shape", "wide")
	if err == nil {
		tag, err = languageOf(c, "en")
	}
	if err == nil && !slices.Contains(flags.Shapes, shape) {
		err = invalidField("shape", fmt.Sprintf("%.20q is not a shape of a flag", shape), "Give wide, square or round.")
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	svg, _ := flags.SVG(country.Code, shape, almanac.FlagAlt(country.Code, tag))
	a.forAll(c, factsLast)
	c.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	c.Data(http.StatusOK, "image/svg+xml", []byte(svg))
}
