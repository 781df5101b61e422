package httpapi

import (
	"fmt"
	"net/netip"
	"net/textproto"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/locale"
)

// requestContext is who a request is for, beside the address: of which site, and with which
// language chosen. header is the request's own, or as somebody reports it.
func (a *api) requestContext(c *gin.Context, header map[string][]string, site *Site) card.RequestContext {
	g := card.RequestContext{}
	if site != nil {
		g.At = site.Local
	}
	if g.Choice = c.Query("choice"); g.Choice == "" {
		g.Choice = cookieOf(header, handover.ChoiceCookie)
	}
	return g
}

// cookieOf finds a cookie without reading all of them.
func cookieOf(header map[string][]string, name string) string {
	for _, line := range header["Cookie"] {
		for part := range strings.SplitSeq(line, ";") {
			if key, value, ok := strings.Cut(textproto.TrimString(part), "="); ok && key == name {
				return value
			}
		}
	}
	return ""
}

// siteOf finds the site that a request is about: the one it names, that of the page it
// comes from, that of the host it was sent to, or the only one there is.
func (a *api) siteOf(c *gin.Context) (*Site, error) {
	if host := c.Query("site"); host != "" {
		site, ok := a.sites[host]
		if !ok {
			return nil, invalidField("site", fmt.Sprintf("%.64q is not a configured site", host), "Configured are "+a.siteList()+".")
		}
		return site, nil
	}
	h := c.Request.Header
	for _, from := range []string{h.Get("Origin"), h.Get("Referer")} {
		if from == "" {
			continue
		}
		if u, err := url.Parse(from); err == nil {
			if site, ok := a.sites[u.Hostname()]; ok {
				return site, nil
			}
		}
	}
	host, _, _ := strings.Cut(c.Request.Host, ":")
	if site, ok := a.sites[host]; ok {
		return site, nil
	}
	if len(a.Sites) == 1 {
		return a.sites[a.Sites[0].Host], nil
	}
	return nil, nil
}

// visitorCard makes the card of whoever sends a request.
func (a *api) visitorCard(c *gin.Context) (card.Card, error) {
	site, err := a.siteOf(c)
	if err != nil {
		return card.Card{}, err
	}
	header := c.Request.Header
	card, trail := a.Enrich.Visitor(peer(c.Request), header, a.requestContext(c, header, site), a.Now())
	a.countVisitor(card)
	a.Watch.Observe(peer(c.Request), header, trail)
	return card.In(card.Locale.Language), nil
}

// languageOf reads the language of names and texts, BCP 47.
func languageOf(c *gin.Context, fallback string) (string, error) {
	text := c.Query("language")
	if text == "" {
		return fallback, nil
	}
	if _, err := locale.NewLanguages([]string{text}, ""); err != nil {
		return "", invalidField("language", err.Error(), "Write it like pt-PT.")
	}
	return text, nil
}

// getLocale localizes for somebody who is described, not for the caller.
func (a *api) getLocale(c *gin.Context) {
	site, err := a.siteOf(c)
	var country *almanac.Country
	var ip netip.Addr
	var at *time.Time
	if code := c.Query("country_code"); code != "" && err == nil {
		var ok bool
		if country, ok = almanac.ByCode(code); !ok {
			err = invalidField("country_code", almanac.CheckCode(code).Error(), "GET /v1/countries lists them.")
		}
	}
	if text := c.Query("address"); text != "" && err == nil {
		if ip, _, err = addr.Read(text); err == nil && country != nil {
			err = invalidField("address", "a country is given too", "Give one of them.")
		}
	}
	if text := c.Query("at"); text != "" && err == nil {
		moment, wrong := time.Parse(time.RFC3339, text)
		if wrong != nil {
			err = invalidField("at", fmt.Sprintf("%.40q is not a time", text), "Write it like 2027-06-12T10:00:00+02:00.")
		}
		at = &moment
	}
	zone := c.Query("time_zone")
	if zone != "" && err == nil {
		if _, wrong := locale.LoadZone(zone); wrong != nil {
			err = invalidField("time_zone", wrong.Error(), "Give a name of the IANA database.")
		}
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	req := a.requestContext(c, nil, site)
	req.AcceptLanguage = c.Query("accept_language")
	var card card.Card
	if ip.IsValid() {
		card = a.Enrich.Card(ip, caller.ObtainedGiven, req, a.Now())
		if code := card.Location.CountryCode; code != nil {
			country, _ = almanac.ByCode(*code)
		}
		if zone != "" {
			card.Clock = a.Enrich.Localize(country, zone, req, a.Now()).Clock
		}
	} else {
		card = a.Enrich.Localize(country, zone, req, a.Now())
	}
	if zone == "" && card.Clock.TimeZone != nil {
		zone = *card.Clock.TimeZone
	}
	var moment *locale.Instant
	if at != nil && zone != "" {
		i, _ := locale.InstantAt(*at, zone, card.Locale.Formatting) // the zone was loaded before
		moment = &i
	}
	c.Header("Cache-Control", "private, no-store")
	a.answer(c, gin.H{"locale": card.Locale, "clock": card.Clock, "money": card.Money, "variants": card.Variants, "at": moment})
}

// oneSite is siteOf where there must be one.
func (a *api) oneSite(c *gin.Context) (*Site, error) {
	site, err := a.siteOf(c)
	if err == nil && site == nil {
		err = invalidField("site", "it is missing", "Configured are "+a.siteList()+".")
	}
	return site, err
}

// device reads where the visitor's device says that it is.
func device(c *gin.Context, card *card.Card) error {
	p, given, err := point(c)
	if err != nil || !given {
		return err
	}
	var accuracy *float64
	if text := c.Query("accuracy_km"); text != "" {
		km, err := strconv.ParseFloat(text, 64)
		if err != nil || !(km >= 0 && km <= 20_100) {
			return invalidField("accuracy_km", fmt.Sprintf("%.20q is not a number of kilometres", text), "Leave it out, or give 0 to 20100.")
		}
		accuracy = &km
	}
	card.Locate(p, accuracy)
	return nil
}
