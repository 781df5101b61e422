// Package localize answers about languages, clocks, money and countries for visitors, and for
// somebody who is described; and keeps the content variants that owners make.
package localize

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/rates"
	"eastporch/internal/server/sites"
)

// cards makes cards, also for somebody who is described.
type cards interface {
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
	Localize(country *almanac.Country, zone string, req card.RequestContext, now time.Time) card.Card
}

// rateFeed has the exchange rates.
type rateFeed interface {
	State() rates.State
	Stale(now time.Time) bool
}

// Options says what the answers are made of. Every field is required.
type Options struct {
	Cards  cards
	Rates  rateFeed
	Groups almanac.Groups // of countries
	Now    func() time.Time
}

// Localizer is the service. It is safe for concurrent use.
type Localizer struct{ Options }

// New makes the service. The error says which option is missing.
func New(opt Options) (*Localizer, error) {
	if opt.Cards == nil || opt.Rates == nil || opt.Now == nil {
		return nil, errors.New("localize: cards, rates and now are required")
	}
	return &Localizer{opt}, nil
}

// A Subject is somebody who is described: by an address or a country, a time zone and what a
// browser asks for. At is a moment to write by their clock. All are texts of a request, "" for
// none.
type Subject struct {
	Address, CountryCode, TimeZone, At string
}

// Locale localizes for somebody who is described.
func (s *Localizer) Locale(of Subject, req card.RequestContext) (api.LocaleAnswer, error) {
	country, ip, at, err := of.read()
	if err != nil {
		return api.LocaleAnswer{}, err
	}
	zone := of.TimeZone
	var c card.Card
	if ip.IsValid() {
		c = s.Cards.Card(ip, caller.ObtainedGiven, req, s.Now())
		if code := c.Location.CountryCode; code != nil {
			country, _ = almanac.ByCode(*code)
		}
		if zone != "" {
			c.Clock = s.Cards.Localize(country, zone, req, s.Now()).Clock
		}
	} else {
		c = s.Cards.Localize(country, zone, req, s.Now())
	}
	if zone == "" {
		zone = plain.Value(c.Clock.TimeZone)
	}
	answer := api.LocaleAnswer{Locale: c.Locale, Clock: c.Clock, Money: c.Money, Variants: c.Variants}
	if at != nil && zone != "" {
		i, _ := locale.InstantAt(*at, zone, c.Locale.Formatting) // the zone was loaded before
		answer.At = &i
	}
	return answer, nil
}

func (of Subject) read() (country *almanac.Country, ip netip.Addr, at *time.Time, err error) {
	if of.CountryCode != "" {
		var ok bool
		if country, ok = almanac.ByCode(of.CountryCode); !ok {
			return nil, ip, nil, invalid.Field("country_code", almanac.CheckCode(of.CountryCode).Error(), "GET /v1/countries lists them.")
		}
	}
	if of.Address != "" {
		if country != nil {
			return nil, ip, nil, invalid.Field("address", "a country is given too", "Give one of them.")
		}
		if ip, _, err = addr.Read(of.Address); err != nil {
			return nil, ip, nil, err
		}
	}
	if of.At != "" {
		moment, err := time.Parse(time.RFC3339, of.At)
		if err != nil {
			return nil, ip, nil, invalid.Field("at", fmt.Sprintf("%.40q is not a time", of.At), "Write it like 2027-06-12T10:00:00+02:00.")
		}
		at = &moment
	}
	if of.TimeZone != "" {
		if _, err := locale.LoadZone(of.TimeZone); err != nil {
			return nil, ip, nil, invalid.Field("time_zone", err.Error(), "Give a name of the IANA database.")
		}
	}
	return country, ip, at, nil
}

// maxAmounts bounds how many amounts one request converts.
const maxAmounts = 50

// An Exchange is what is to be converted: amounts of one currency into another, written by the
// habits of a language.
type Exchange struct {
	Amounts            []string
	From, To, Language string
}

// Convert converts amounts; the endings of a site's prices hold, which may be nil.
func (s *Localizer) Convert(x Exchange, site *sites.Site) (api.Conversions, error) {
	from, err := currencyOf("from", x.From)
	if err != nil {
		return api.Conversions{}, err
	}
	to, err := currencyOf("to", x.To)
	if err != nil {
		return api.Conversions{}, err
	}
	if n := len(x.Amounts); n == 0 || n > maxAmounts {
		return api.Conversions{}, invalid.Field("amount", fmt.Sprintf("there are %d", n), fmt.Sprintf("Give 1 to %d, such as amount=85&amount=120.", maxAmounts))
	}
	var values []decimal.Decimal
	for _, text := range x.Amounts {
		value, err := locale.ParseAmount(text)
		if err != nil {
			return api.Conversions{}, invalid.Field("amount", strings.TrimPrefix(err.Error(), locale.ErrAmount.Error()+": "), "Write a decimal number with a point, such as 12.50.")
		}
		values = append(values, value)
	}
	var ending locale.Ending
	if site != nil {
		ending = site.Local.Endings[to]
	}
	now, table := s.Now(), s.Rates.State().Rates // one for all amounts, which may change meanwhile
	answer := api.Conversions{Stale: s.Rates.Stale(now), Conversions: make([]locale.Conversion, len(values))}
	for i, value := range values {
		if answer.Conversions[i], err = table.Convert(value, from, to, ending, x.Language, now); err != nil {
			return api.Conversions{}, err
		}
	}
	return answer, nil
}

func currencyOf(field, text string) (string, error) {
	const hint = "Give three letters, such as EUR."
	if text == "" {
		return "", invalid.Field(field, "no currency is given, and none follows from elsewhere", hint)
	}
	code, err := locale.ParseCurrency(text)
	if err != nil {
		return "", invalid.Field(field, strings.TrimPrefix(err.Error(), locale.ErrAmount.Error()+": "), hint)
	}
	return code, nil
}

// Exchange rates, with their date and age.
func (s *Localizer) ExchangeRates() api.Rates {
	state, now := s.Rates.State(), s.Now()
	r := state.Rates
	answer := api.Rates{Problem: plain.Optional(state.Problem), Rejects: append([]string{}, r.Rejects...), Rates: map[string]decimal.Decimal{}, Stale: s.Rates.Stale(now)}
	if r.Base != "" {
		dated, age := r.Dated.Format(time.DateOnly), r.AgeDays(now)
		answer.Base, answer.Dated, answer.AgeDays, answer.Source = &r.Base, &dated, &age, plain.Optional(r.Source)
		answer.ReadAt, answer.Rates = &state.ReadAt, r.Of
	}
	return answer
}

// Countries lists countries by their names in a language: those of a group and a continent,
// "" for all.
func (s *Localizer) Countries(language, group, continent string) (api.CountryChoices, error) {
	switch {
	case group != "" && !s.Groups.Known(group):
		return api.CountryChoices{}, invalid.Field("group", fmt.Sprintf("%.40q is not a group of countries", group), "Known are "+strings.Join(s.Groups.Names(), ", ")+".")
	case continent != "" && almanac.Continent(continent) == "":
		return api.CountryChoices{}, invalid.Field("continent_code", fmt.Sprintf("%.10q is not a continent", continent), "Give AF, AN, AS, EU, NA, OC or SA.")
	}
	var of []almanac.Country
	for _, country := range almanac.All() {
		if (group == "" || s.Groups.Has(group, &country)) && (continent == "" || country.Continent == continent) {
			of = append(of, country)
		}
	}
	return api.CountryChoices{Language: language, Countries: almanac.Choices(language, of)}, nil
}

// A Country is one with all its facts.
type Country struct {
	almanac.Facts
	Habits      locale.Sample `json:"habits"`
	Regions     []Region      `json:"regions"`
	DataVersion string        `json:"data_version"`
}

// A Region is one of a country (ISO 3166-2).
type Region struct {
	RegionCode string `json:"region_code"`
	Name       string `json:"name"`
}

// Country gives the facts of a country, named in a language.
func (s *Localizer) Country(country *almanac.Country, language string) Country {
	answer := Country{Facts: almanac.FactsOf(country, language, s.Groups), Regions: []Region{}, DataVersion: almanac.DataVersion}
	for _, code := range almanac.RegionsOf(country.Code) {
		name, _ := almanac.Region(code)
		answer.Regions = append(answer.Regions, Region{code, name})
	}
	own := country.Code
	if len(country.Languages) > 0 {
		own = country.Languages[0] + "-" + country.Code
	}
	answer.Habits = locale.SampleOf(own, country.Currency)
	return answer
}

// CheckRates judges the exchange rates; ok is false where there are to be none.
func (s *Localizer) CheckRates() (f checkup.Diagnostic, ok bool) {
	state, now := s.Rates.State(), s.Now()
	f = checkup.Diagnostic{Name: "rates", State: checkup.OK, Title: "The exchange rates are recent."}
	switch {
	case state.Rates.Base == "" && state.Problem == "":
		return f, false
	case state.Rates.Base == "":
		f.State, f.Title, f.Text = checkup.Attention, "The exchange rates could not be read.", plain.UpperFirst(state.Problem)+"."
	case s.Rates.Stale(now):
		f.State, f.Title = checkup.Attention, fmt.Sprintf("The exchange rates are %s.", locale.AgeWords(state.Rates.AgeDays(now)))
		f.Text = fmt.Sprintf("They are dated %s, and rates.stale_days in the configuration allows less. Prices are shown by them all the same.", state.Rates.Dated.Format(time.DateOnly))
		if state.Problem != "" {
			f.Text += " The last reading failed: " + state.Problem + "."
		}
	case state.Problem != "":
		f.State, f.Title = checkup.Attention, "The exchange rates could not be read again."
		f.Text = fmt.Sprintf("Those of %s stand. %s.", state.Rates.Dated.Format(time.DateOnly), plain.UpperFirst(state.Problem))
	}
	return f, true
}
