package request

import (
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/files/answers"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/sites"
)

// Site finds the site that a request is about: the one it names, that of the page it
// comes from, that of the host it was sent to, or the only one there is.
func Site(c *gin.Context, known *sites.Sites) (*sites.Site, error) {
	if host, ok := strings.CutPrefix(c.Request.URL.RawQuery, "site="); ok && known.Of(host) != nil { // which proxies ask
		return known.Of(host), nil
	}
	if host := c.Query("site"); host != "" {
		return known.Find(host)
	}
	for _, from := range []string{c.GetHeader("Origin"), c.GetHeader("Referer")} {
		if u, err := url.Parse(from); from != "" && err == nil && known.Of(u.Hostname()) != nil {
			return known.Of(u.Hostname()), nil
		}
	}
	host, _, _ := strings.Cut(c.Request.Host, ":")
	if site := known.Of(host); site != nil {
		return site, nil
	}
	if all := known.All(); len(all) == 1 {
		return all[0], nil
	}
	return nil, nil
}

// Format gives the format that a request asks for: by format=, or else by its
// Accept header; JSON where it does not say.
func Format(c *gin.Context) (string, error) {
	if word := c.Query("format"); word != "" {
		if answers.Types[word] == "" {
			return "", invalid.Field("format", fmt.Sprintf("%.20q is not a format", word), "Give one of "+strings.Join(slices.Sorted(maps.Keys(answers.Types)), ", ")+".")
		}
		return word, nil
	}
	if c.GetHeader("Accept") == "" {
		return "json", nil
	}
	offered := []string{"application/json", "application/geo+json", "application/xml", "application/yaml", "text/csv", "application/x-ndjson", "text/plain"}
	accepted := c.NegotiateFormat(offered...)
	for word, kind := range answers.Types {
		if kind == accepted {
			return word, nil
		}
	}
	return "", problem.Of(http.StatusNotAcceptable, "not-acceptable", "Not acceptable", "None of the media types of the Accept header is offered.", "Offered are "+strings.Join(offered, ", ")+".")
}

// Filter reads the query of a list or report.
func Filter(c *gin.Context, known *sites.Sites) (visit.Filter, error) {
	f := visit.Filter{
		Site: c.Query("site"), CountryCode: c.Query("country_code"), City: c.Query("city"),
		Level: atlas.Level(c.Query("level")), Path: c.Query("path"), RegionCode: c.Query("region_code"),
		Referrer: c.Query("referrer"), Language: c.Query("language"), TimeZone: c.Query("time_zone"), Network: c.Query("network"),
		Label: c.Query("label"), Link: c.Query("link"), Mark: c.Query("mark"), Basis: c.Query("basis"),
	}
	if _, err := known.Find(f.Site); err != nil {
		return f, err
	}
	for name, at := range map[string]*time.Time{"from": &f.From, "to": &f.To} {
		t, err := Time(c, name, time.Time{})
		if err != nil {
			return f, err
		}
		*at = t
	}
	if f.CountryCode != "" {
		if err := almanac.CheckCode(f.CountryCode); err != nil {
			return f, invalid.Field("country_code", err.Error(), "Give an alpha-2 code of ISO 3166-1.")
		}
	}
	switch f.Level {
	case "", atlas.City, atlas.Region, atlas.Country, atlas.Continent, atlas.None:
	default:
		return f, invalid.Field("level", fmt.Sprintf("%.20q is not a level", string(f.Level)), "Give city, region, country, continent or none.")
	}
	if f.Basis != "" && !slices.Contains(atlas.Bases, atlas.Basis(f.Basis)) {
		return f, invalid.Field("basis", fmt.Sprintf("%.20q is not a basis", f.Basis), "Give "+atlas.BasesInWords()+".")
	}
	if text := c.Query("skipped"); text != "" {
		aside, err := strconv.ParseBool(text)
		if err != nil {
			return f, invalid.Field("skipped", fmt.Sprintf("%.20q is neither true nor false", text), "Give true or false.")
		}
		f.Skipped = &aside
	}
	if f.Mark != "" && !slices.Contains(visit.MarkWords, f.Mark) {
		return f, invalid.Field("mark", fmt.Sprintf("%.20q is not a mark", f.Mark), "Give "+strings.Join(visit.MarkWords, ", ")+".")
	}
	if text := c.Query("prefix"); text != "" {
		prefix, err := addr.ParsePrefix(text)
		if err != nil {
			return f, invalid.Field("prefix", err.Error(), "Give an address, or a prefix such as 198.18.3.0/24.")
		}
		f.Within = prefix
	}
	if !f.From.IsZero() && !f.To.IsZero() && !f.From.Before(f.To) {
		return f, invalid.Field("to", "it is not after from", "Give a later time, or leave one of the two out.")
	}
	for name, text := range map[string]string{
		"city": f.City, "path": f.Path, "region_code": f.RegionCode, "referrer": f.Referrer, "language": f.Language,
		"time_zone": f.TimeZone, "network": f.Network, "label": f.Label, "link": f.Link,
	} {
		if err := plain.Check(text, visit.MaxPath); err != nil {
			return f, invalid.Field(name, err.Error(), "Give it as plain text.")
		}
	}
	return f, nil
}
