package httpapi

import (
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// peer is the other end of the connection, from the connection itself: no
// header has a say in it.
func peer(r *http.Request) netip.Addr { return caller.PeerOf(r.RemoteAddr) }

// requestContext is who a request is for, beside the address: of which site, and with which
// language chosen. header is the request's own, or as somebody reports it.
func (h *handlers) requestContext(c *gin.Context, header map[string][]string, site *sites.Site) card.RequestContext {
	g := card.RequestContext{}
	if site != nil {
		g.At = site.Local
	}
	if g.Choice = c.Query("choice"); g.Choice == "" {
		g.Choice = cookieOf(header, handover.ChoiceCookie)
	}
	return g
}

// siteOf finds the site that a request is about: the one it names, that of the page it
// comes from, that of the host it was sent to, or the only one there is.
func (h *handlers) siteOf(c *gin.Context) (*sites.Site, error) {
	known := h.Public.Sites
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

// oneSite is siteOf where there must be one.
func (h *handlers) oneSite(c *gin.Context) (*sites.Site, error) {
	site, err := h.siteOf(c)
	if err == nil && site == nil {
		err = invalid.Field("site", "it is missing", h.Public.Sites.Hint())
	}
	return site, err
}

// filter reads the query of a list or report.
func (h *handlers) filter(c *gin.Context) (visit.Filter, error) {
	f := visit.Filter{
		Site: c.Query("site"), CountryCode: c.Query("country_code"), City: c.Query("city"),
		Level: atlas.Level(c.Query("level")), Path: c.Query("path"), RegionCode: c.Query("region_code"),
		Referrer: c.Query("referrer"), Language: c.Query("language"), TimeZone: c.Query("time_zone"), Network: c.Query("network"),
		Label: c.Query("label"), Link: c.Query("link"), Mark: c.Query("mark"),
	}
	if _, err := h.Public.Sites.Find(f.Site); err != nil {
		return f, err
	}
	for name, at := range map[string]*time.Time{"from": &f.From, "to": &f.To} {
		if text := c.Query(name); text != "" {
			t, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return f, invalid.Field(name, fmt.Sprintf("%.40q is not a time", text), "Write it like 2026-11-14T06:00:00Z.")
			}
			*at = t
		}
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
