package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/netip"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
	"eastporch/internal/formats"
)

func (a *api) getAddress(c *gin.Context) {
	address, note, err := a.readAddress(c, c.Param("address"))
	req, language := card.RequestContext{}, ""
	if err == nil {
		req, err = a.ofSite(c)
	}
	if err == nil {
		language, err = languageOf(c, "en")
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	card := a.given(address, note, c.Query("why") == "all", req).In(language)
	a.answerCard(c, &card)
}

// ofSite is somebody of whom no more is known than the site that a request is about: the
// asker's languages are not those of whoever has an address.
func (a *api) ofSite(c *gin.Context) (card.RequestContext, error) {
	site, err := a.siteOf(c)
	if err != nil || site == nil {
		return card.RequestContext{}, err
	}
	return card.RequestContext{At: site.Local}, nil
}

// given makes the card of an address that somebody asked for.
func (a *api) given(address netip.Addr, note string, why bool, req card.RequestContext) card.Card {
	var card card.Card
	if why {
		card = a.Enrich.Why(address, req, a.Now())
	} else {
		card = a.Enrich.Card(address, caller.ObtainedGiven, req, a.Now())
	}
	if note != "" && card.Address.Reason == nil {
		card.Address.Reason = &note
	}
	return card
}

// readAddress reads an address in any spelling, or a host name where the owner
// allows that names are resolved; then note says what became of it.
func (a *api) readAddress(ctx context.Context, text string) (ip netip.Addr, note string, err error) {
	ip, _, err = addr.Read(text)
	if err == nil || a.LookUp == nil || !looksLikeHost(text) {
		return ip, "", err
	}
	found, problem := a.LookUp(ctx, strings.TrimSuffix(text, "."))
	if problem != nil || len(found) == 0 {
		return ip, "", invalidField("address", fmt.Sprintf("%.80q is not an address, and no address has that name", text), "Give an address, or a host name that has one.")
	}
	return found[0], fmt.Sprintf("%s has %d addresses; this is the first.", text, len(found)), nil
}

func looksLikeHost(s string) bool {
	return strings.Contains(s, ".") && len(s) <= 253 && strings.ContainsFunc(s, func(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' }) &&
		!strings.ContainsFunc(s, func(r rune) bool {
			return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.' || r == '-')
		})
}

// maxAddresses bounds how many addresses one request asks for.
const maxAddresses = 10_000

// asked is the answer about one of many addresses: a card, or why there is none.
type asked struct {
	Input    string     `json:"input"`
	Spelling *string    `json:"spelling"` // where it is not as usual
	Card     *card.Card `json:"card"`
	Problem  *string    `json:"problem"`
}

// getAddresses answers for many addresses, in their order: JSON with a list, or
// lines of text. As NDJSON the answers are streamed.
func (a *api) getAddresses(c *gin.Context) {
	list, err := readAddresses(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	format, err := formatOf(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	req, err := a.ofSite(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	language, err := languageOf(c, "en")
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	if format == "ndjson" && c.Query("fields") == "" {
		c.Header("Content-Type", formats.Types[format])
		out := json.NewEncoder(c.Writer)
		for i, text := range list {
			if err := out.Encode(a.ask(c, text, req, language)); err != nil {
				return // nobody reads it
			}
			if i%100 == 99 {
				c.Writer.Flush()
			}
		}
		return
	}
	answers := make([]asked, len(list))
	for i, text := range list {
		answers[i] = a.ask(c, text, req, language)
	}
	a.answerList(c, "addresses", gin.H{"addresses": answers})
}

func (a *api) ask(ctx context.Context, text string, req card.RequestContext, language string) asked {
	ip, note, err := a.readAddress(ctx, text)
	if err != nil {
		why := toProblem(err).Detail
		return asked{Input: text, Problem: &why}
	}
	card := a.given(ip, note, false, req).In(language)
	answer := asked{Input: text, Card: &card}
	if _, spelling, err := addr.Read(text); err == nil && spelling != addr.Plain {
		answer.Spelling = plain.Optional(string(spelling))
	}
	return answer
}

func readAddresses(c *gin.Context) (list []string, err error) {
	if strings.HasPrefix(c.ContentType(), "text/") {
		text, err := io.ReadAll(c.Request.Body)
		if err != nil {
			return nil, err
		}
		for _, line := range bytes.Split(text, []byte("\n")) {
			if line = bytes.TrimSpace(line); len(line) > 0 {
				list = append(list, string(line))
			}
		}
	} else {
		var body struct {
			Addresses []string `json:"addresses"`
		}
		if err := readJSON(c, &body, false); err != nil {
			return nil, err
		}
		list = body.Addresses
	}
	switch {
	case len(list) == 0:
		return nil, invalidField("addresses", "there are none", "Give a list of addresses, or one a line as text/plain.")
	case len(list) > maxAddresses:
		return nil, invalidField("addresses", fmt.Sprintf("there are more than %d", maxAddresses), "Ask in several requests, or use eastporch resolve.")
	}
	return list, nil
}

// maxStretches bounds how many stretches of a range are looked at.
const maxStretches = 200_000

func (a *api) getRange(c *gin.Context) {
	span, err := addr.ParseRange(strings.TrimSpace(c.Query("range")))
	if err != nil {
		a.fail(c, invalidField("range", reasonOf(err), "Give a prefix, an address or first-last."))
		return
	}
	edition := a.edition()
	shares, done := edition.Span(span, maxStretches)
	type share struct {
		atlas.Share
		Country   string   `json:"country"`
		Latitude  *float64 `json:"latitude"`
		Longitude *float64 `json:"longitude"`
	}
	list := make([]share, len(shares))
	for i, s := range shares {
		list[i] = share{Share: s}
		if s.Point != nil {
			list[i].Latitude, list[i].Longitude = &s.Point.Latitude, &s.Point.Longitude
		}
		if known, ok := almanac.ByCode(s.CountryCode); ok {
			list[i].Country = known.Name
		}
	}
	a.answerList(c, "shares", gin.H{
		"range": span.String(), "edition": edition.Name(), "looked_at": done.String(), "complete": done.Last == span.Last, "shares": list,
	})
}

// point reads latitude and longitude, or a geo URI (RFC 5870).
func point(c *gin.Context) (p geo.Point, given bool, err error) {
	if uri := c.Query("at"); uri != "" {
		if p, _, err = geo.ParseURI(uri); err != nil {
			return p, true, invalidField("at", err.Error(), "Write it like geo:38.72,-9.14, or give latitude and longitude.")
		}
		return p, true, nil
	}
	lat, lon := c.Query("latitude"), c.Query("longitude")
	if lat == "" && lon == "" {
		return p, false, nil
	}
	for _, n := range []struct {
		name, text string
		to         *float64
		most       float64
	}{{"latitude", lat, &p.Latitude, 90}, {"longitude", lon, &p.Longitude, 180}} {
		v, err := strconv.ParseFloat(n.text, 64)
		if err != nil || math.IsNaN(v) || math.Abs(v) > n.most {
			hint := "Give both latitude and longitude in degrees."
			if n.name == "latitude" && err == nil && math.Abs(v) <= 180 {
				hint = "Are latitude and longitude swapped?"
			}
			return p, true, invalidField(n.name, fmt.Sprintf("%.20q is not a number from %g to %g", n.text, -n.most, n.most), hint)
		}
		*n.to = v
	}
	return p, true, nil
}

// requiredPoint is point where there must be one.
func requiredPoint(c *gin.Context) (geo.Point, error) {
	p, given, err := point(c)
	if err == nil && !given {
		err = invalidField("latitude, longitude", "they are missing", "Give both in degrees, or at=geo:38.72,-9.14.")
	}
	return p, err
}

func (a *api) getTownsNear(c *gin.Context) {
	p, err := requiredPoint(c)
	count, people := 0, 0
	if err == nil {
		count, err = intOf(c, "count", 5, 1, 100)
	}
	if err == nil {
		people, err = intOf(c, "people", 0, 0, 1e9)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	type town struct {
		City        string  `json:"city"`
		CountryCode string  `json:"country_code"`
		RegionCode  *string `json:"region_code"`
		Latitude    float64 `json:"latitude"`
		Longitude   float64 `json:"longitude"`
		Population  int     `json:"population"`
		TimeZone    string  `json:"time_zone"`
		Km          float64 `json:"km"`
	}
	towns := []town{}
	for _, t := range gazetteer.Near(p, count, people) {
		towns = append(towns, town{t.Name, t.Country, plain.Optional(t.Region), t.Point.Latitude, t.Point.Longitude, t.Population, t.Zone, math.Round(t.Km*10) / 10})
	}
	var country any
	if len(towns) > 0 {
		known, _ := almanac.ByCode(towns[0].CountryCode)
		country = gin.H{"country_code": towns[0].CountryCode, "country": known.Name, "reason": fmt.Sprintf("of the nearest town, %s, %g km away", towns[0].City, towns[0].Km)}
	}
	a.answerList(c, "towns", gin.H{"at": p.URI(0), "country": country, "towns": towns})
}

// getAreas lists the owner's areas, and says which of them hold a point.
func (a *api) getAreas(c *gin.Context) {
	p, given, err := point(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	type area struct {
		Name   string `json:"name"`
		Holds  *bool  `json:"holds"`
		Remark string `json:"remark,omitempty"`
	}
	areas := []area{}
	for _, known := range a.Areas {
		one := area{Name: known.Name, Remark: known.Remark}
		if given {
			holds := known.Contains(p)
			one.Holds = &holds
		}
		areas = append(areas, one)
	}
	c.JSON(http.StatusOK, gin.H{"areas": areas})
}
