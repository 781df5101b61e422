package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/textproto"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/shopspring/decimal"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/snippet"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
	"eastporch/internal/flags"
	"eastporch/internal/formats"
	"eastporch/internal/server/access"
	"eastporch/internal/server/page"
	"eastporch/internal/server/rates"
)

// rateKeeper has the exchange rates.
type rateKeeper interface {
	State() rates.State
	Stale(now time.Time) bool
}

// variantStore keeps the content variants that are made in the console.
type variantStore interface {
	VariantSets(ctx context.Context) (map[string][]variant.Set, error)
	SaveVariantSet(ctx context.Context, site string, set variant.Set, by string, at time.Time) error
	DropVariantSet(ctx context.Context, site, name string) (ok bool, err error)
}

// ChoiceCookie is the cookie that holds the language which a visitor chose.
const ChoiceCookie = "porch_choice"

// guest is who a request is for, beside the address: of which site, and with which
// language chosen. header is the request's own, or as somebody reports it.
func (a *api) guest(c *gin.Context, header map[string][]string, site *Site) visit.Guest {
	g := visit.Guest{}
	if site != nil {
		g.At = site.Local
	}
	if g.Choice = c.Query("choice"); g.Choice == "" {
		g.Choice = cookieOf(header, ChoiceCookie)
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
			return nil, badField("site", fmt.Sprintf("%.64q is not a configured site", host), "Configured are "+a.siteList()+".")
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
func (a *api) visitorCard(c *gin.Context) (visit.Card, error) {
	site, err := a.siteOf(c)
	if err != nil {
		return visit.Card{}, err
	}
	header := c.Request.Header
	card, trail := a.Enrich.Visitor(peer(c.Request), header, a.guest(c, header, site), a.Now())
	a.observed(peer(c.Request), header, card, trail)
	return card, nil
}

// languageOf reads the language of names and texts, BCP 47.
func languageOf(c *gin.Context, fallback string) (string, error) {
	text := c.Query("language")
	if text == "" {
		return fallback, nil
	}
	if _, err := locale.NewLanguages([]string{text}, ""); err != nil {
		return "", badField("language", err.Error(), "Write it like pt-PT.")
	}
	return text, nil
}

// factsLast is how long facts and flags of countries may be kept, which change with
// the version of the service only.
const factsLast = "public, max-age=86400"

// forAll marks what is nobody's secret: at the visitor's door any page may read it.
func (a *api) forAll(c *gin.Context, lasts string) {
	c.Header("Cache-Control", lasts)
	if a.door == VisitorDoor {
		c.Header("Access-Control-Allow-Origin", "*")
		c.Header("Cross-Origin-Resource-Policy", "cross-origin")
	}
}

func (a *api) listCountries(c *gin.Context) {
	tag, err := languageOf(c, "en")
	group, continent := c.Query("group"), c.Query("continent_code")
	switch {
	case err != nil:
	case group != "" && !a.Known.Groups.Known(group):
		err = badField("group", fmt.Sprintf("%.40q is no group of countries", group), "Known are "+strings.Join(a.Known.Groups.Names(), ", ")+".")
	case continent != "" && almanac.Continent(continent) == "":
		err = badField("continent_code", fmt.Sprintf("%.10q is no continent", continent), "Give AF, AN, AS, EU, NA, OC or SA.")
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
	p := badRequest("no-such-country", "There is no such country", upperFirst(almanac.CheckCode(code).Error()), "GET /v1/countries lists them.")
	p.Status = http.StatusNotFound
	return nil, p
}

func (a *api) getCountry(c *gin.Context) {
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
		err = badField("shape", fmt.Sprintf("%.20q is no shape of a flag", shape), "Give wide, square or round.")
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

// getLocale localizes for somebody who is described, not for the caller.
func (a *api) getLocale(c *gin.Context) {
	site, err := a.siteOf(c)
	var country *almanac.Country
	var ip netip.Addr
	var at *time.Time
	if code := c.Query("country_code"); code != "" && err == nil {
		var ok bool
		if country, ok = almanac.ByCode(code); !ok {
			err = badField("country_code", almanac.CheckCode(code).Error(), "GET /v1/countries lists them.")
		}
	}
	if text := c.Query("address"); text != "" && err == nil {
		if ip, _, err = addr.Read(text); err == nil && country != nil {
			err = badField("address", "a country is given too", "Give one of them.")
		}
	}
	if text := c.Query("at"); text != "" && err == nil {
		moment, wrong := time.Parse(time.RFC3339, text)
		if wrong != nil {
			err = badField("at", fmt.Sprintf("%.40q is not a time", text), "Write it like 2027-06-12T10:00:00+02:00.")
		}
		at = &moment
	}
	zone := c.Query("time_zone")
	if zone != "" && err == nil {
		if _, wrong := locale.LoadZone(zone); wrong != nil {
			err = badField("time_zone", wrong.Error(), "Give a name of the IANA database.")
		}
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	guest := a.guest(c, nil, site)
	guest.AcceptLanguage = c.Query("accept_language")
	var card visit.Card
	if ip.IsValid() {
		card = a.Enrich.Card(ip, visit.ObtainedGiven, guest, a.Now())
	} else {
		card = a.Enrich.Localize(country, zone, guest, a.Now())
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

// maxAmounts bounds how many amounts one request converts.
const maxAmounts = 50

// convert gives amounts in another currency; at the visitor's door, by default, in the
// visitor's own and by the habits of the visitor's language.
func (a *api) convert(c *gin.Context) {
	site, err := a.siteOf(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	from, to, tag := c.Query("from"), c.Query("to"), "en"
	endings := map[string]locale.Ending{}
	if site != nil {
		endings = site.Local.Endings
		if from == "" {
			from = site.Local.Currency
		}
	}
	if a.door == VisitorDoor {
		card, trouble := a.visitorCard(c)
		if err = trouble; err == nil {
			tag = card.Locale.Formatting
			if to == "" && card.Money.CurrencyCode != nil {
				to = *card.Money.CurrencyCode
			}
		}
		private(c)
	} else {
		c.Header("Cache-Control", "private, no-store")
	}
	if err == nil {
		tag, err = languageOf(c, tag)
	}
	var values []decimal.Decimal
	if err == nil {
		if from, err = currencyOf("from", from); err == nil {
			to, err = currencyOf("to", to)
		}
	}
	texts := c.QueryArray("amount")
	if err == nil && (len(texts) == 0 || len(texts) > maxAmounts) {
		err = badField("amount", fmt.Sprintf("there are %d", len(texts)), fmt.Sprintf("Give 1 to %d, such as amount=85&amount=120.", maxAmounts))
	}
	for _, text := range texts {
		value, wrong := locale.ParseAmount(text)
		if wrong != nil && err == nil {
			err = badField("amount", strings.TrimPrefix(wrong.Error(), locale.ErrAmount.Error()+": "), "Write a decimal number with a point, such as 12.50.")
		}
		values = append(values, value)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	conversions := make([]locale.Conversion, len(values))
	for i, value := range values {
		if conversions[i], err = a.Rates.State().Rates.Convert(value, from, to, endings[to], tag, a.Now()); err != nil {
			a.fail(c, err)
			return
		}
	}
	a.answerList(c, "conversions", gin.H{"stale": a.Rates.Stale(a.Now()), "conversions": conversions})
}

func currencyOf(field, text string) (string, error) {
	if text == "" {
		return "", badField(field, "no currency is given, and none follows from elsewhere", "Give three letters, such as EUR.")
	}
	code, err := locale.ParseCurrency(text)
	if err != nil {
		return "", badField(field, strings.TrimPrefix(err.Error(), locale.ErrAmount.Error()+": "), "Give three letters, such as EUR.")
	}
	return code, nil
}

func (a *api) getRates(c *gin.Context) {
	state, now := a.Rates.State(), a.Now()
	r := state.Rates
	answer := struct {
		Base    *string                    `json:"base"`
		Dated   *string                    `json:"dated"`
		AgeDays *int                       `json:"age_days"`
		Stale   bool                       `json:"stale"`
		Source  *string                    `json:"source"`
		ReadAt  *time.Time                 `json:"read_at"`
		Problem *string                    `json:"problem"`
		Rejects []string                   `json:"rejects"`
		Rates   map[string]decimal.Decimal `json:"rates"`
	}{Problem: optional(state.Problem), Rejects: append([]string{}, r.Rejects...), Rates: map[string]decimal.Decimal{}, Stale: a.Rates.Stale(now)}
	if r.Base != "" {
		dated, age := r.Dated.Format(time.DateOnly), r.AgeDays(now)
		answer.Base, answer.Dated, answer.AgeDays, answer.Source = &r.Base, &dated, &age, optional(r.Source)
		answer.ReadAt, answer.Rates = &state.ReadAt, r.Of
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, answer)
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
		"languages": append([]string{}, site.Local.Languages.Offered()...), "default_language": site.Local.Languages.Default(), "currency": optional(site.Local.Currency),
		"business_hours": site.Local.Hours.String(),
	})
}

// oneSite is siteOf where there must be one.
func (a *api) oneSite(c *gin.Context) (*Site, error) {
	site, err := a.siteOf(c)
	if err == nil && site == nil {
		err = badField("site", "it is missing", "Configured are "+a.siteList()+".")
	}
	return site, err
}

func (a *api) saveVariants(c *gin.Context) {
	site, err := a.oneSite(c)
	var set variant.Set
	if err == nil {
		err = readJSON(c, &set, false)
	}
	if err == nil && set.Name != c.Param("name") {
		err = badField("name", "it is not that of the path", "Give the same name in both.")
	}
	if err == nil {
		if set.Rules == nil {
			set.Rules = []variant.Rule{}
		}
		if field, wrong := set.Check(a.Known); wrong != nil {
			err = badField(field, strings.TrimPrefix(wrong.Error(), variant.ErrSet.Error()+": "), "docs/localization.md says what stands here.")
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
		p := badRequest("not-now", "This cannot be done now", fmt.Sprintf("The configuration has the variants %s.", name), "Change them there, or take another name.")
		p.Status = http.StatusConflict
		return p
	}
	stored, err := a.Variants.VariantSets(ctx)
	if err == nil && adds && len(stored[site.Host])+len(site.Sets) >= variant.MaxSets && !slices.ContainsFunc(stored[site.Host], func(s variant.Set) bool { return s.Name == name }) {
		err = badField("name", fmt.Sprintf("the site has %d sets already", variant.MaxSets), "Drop one first.")
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

// getHandover answers a reverse proxy that asks about the visitor of another request.
func (a *api) getHandover(c *gin.Context) {
	card, err := a.visitorCard(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	facts := handover.Of(&card)
	for i, value := range facts.Values() {
		if value != "" {
			c.Header(handover.Fields[i], value)
		}
	}
	if c.Query("cookie") == "1" {
		expires := a.Now().Add(a.Handover.Lasts)
		http.SetCookie(c.Writer, &http.Cookie{
			Name: handover.CookieName, Value: handover.Sign(facts, a.Handover.Key, expires), Path: "/", MaxAge: int(a.Handover.Lasts.Seconds()),
			HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: c.GetHeader("X-Forwarded-Proto") == "https",
		})
	}
	private(c)
	c.Status(http.StatusNoContent)
}

// device reads where the visitor's device says that it is.
func device(c *gin.Context, card *visit.Card) error {
	p, given, err := point(c)
	if err != nil || !given {
		return err
	}
	var accuracy *float64
	if text := c.Query("accuracy_km"); text != "" {
		km, err := strconv.ParseFloat(text, 64)
		if err != nil || !(km >= 0 && km <= 20_100) {
			return badField("accuracy_km", fmt.Sprintf("%.20q is no number of kilometres", text), "Leave it out, or give 0 to 20100.")
		}
		accuracy = &km
	}
	card.Locate(p, accuracy)
	return nil
}

// noRate is the problem of a currency without a rate.
func noRate(err error) problem {
	p := badRequest("no-rate", "There is no rate for this", upperFirst(strings.TrimPrefix(err.Error(), locale.ErrRates.Error()+": "))+".", "GET /v1/rates lists those that there are; rates in the configuration says where they come from.")
	p.Status = http.StatusUnprocessableEntity
	return p
}

// getSnippets writes code to paste for a choice of fields.
func (a *api) getSnippets(c *gin.Context) {
	want := snippet.Want{Base: c.Query("base"), Key: c.DefaultQuery("key", "KEY"), Fields: formats.Paths(c.Query("fields"))}
	if want.Base == "" {
		want.Base = a.VisitorURL()
	}
	list, err := snippet.All(want)
	if err != nil {
		a.fail(c, badField("base, key, fields", err.Error(), "What is given stands in code as it is."))
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"base": want.Base, "snippets": list})
}

// scriptLasts is how long browsers may keep the script for pages before they ask whether
// it has changed.
const scriptLasts = "public, max-age=3600"

func (a *api) getScript(c *gin.Context) { a.static(c, "text/javascript; charset=utf-8", script) }

func (a *api) getScriptTypes(c *gin.Context) { a.static(c, "text/plain; charset=utf-8", scriptTypes) }

// file is something that is served as it stands.
type file struct{ plain, zipped []byte }

var (
	script      = file{page.Script, page.Zipped(page.Script)}
	scriptTypes = file{page.Types, page.Zipped(page.Types)}
)

func (a *api) static(c *gin.Context, kind string, f file) {
	tag := page.Tag(f.plain)
	a.forAll(c, scriptLasts)
	c.Header("ETag", tag)
	c.Header("Vary", "Accept-Encoding")
	if c.GetHeader("If-None-Match") == tag {
		c.Status(http.StatusNotModified)
		return
	}
	if strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") {
		c.Header("Content-Encoding", "gzip")
		c.Data(http.StatusOK, kind, f.zipped)
		return
	}
	c.Data(http.StatusOK, kind, f.plain)
}
