// Package locale says which language, money and clock suit a visitor.
package locale

import (
	"sync"
	"time"

	"golang.org/x/text/language"

	"eastporch/internal/core/almanac"
)

// maxHeader bounds, in bytes, how much of an Accept-Language field is read.
const maxHeader = 1024

// A Locale is the language that suits a visitor, and why.
type Locale struct {
	Language  string   `json:"language"`  // BCP 47
	Direction string   `json:"direction"` // "ltr" or "rtl"
	Reason    string   `json:"reason"`    // "accept-language", "country" or "default"
	Offered   []string `json:"offered"`   // the languages that were weighed, the best first
}

// Negotiate chooses a language: the first of the visitor's Accept-Language
// (RFC 9110, section 12.5.4), else the country's most spoken official one,
// else English. An unreadable or overlong field counts as absent; country may
// be nil.
func Negotiate(acceptLanguage string, country *almanac.Country) Locale {
	if len(acceptLanguage) > maxHeader {
		acceptLanguage = ""
	}
	l := Locale{Offered: []string{}}
	asked, q, err := language.ParseAcceptLanguage(acceptLanguage)
	if err == nil {
		for i, tag := range asked {
			if q[i] > 0 && tag != language.Und && tag.String() != "mul" {
				l.offer(tag.String(), "accept-language")
			}
		}
	}
	if country != nil {
		for _, tag := range country.Languages {
			l.offer(tag+"-"+country.Code, "country")
		}
	}
	l.offer("en", "default")
	l.Direction = direction(l.Language)
	return l
}

func (l *Locale) offer(tag, reason string) {
	for _, known := range l.Offered {
		if known == tag {
			return
		}
	}
	if l.Language == "" {
		l.Language, l.Reason = tag, reason
	}
	l.Offered = append(l.Offered, tag)
}

// rightToLeft are the scripts that are written from right to left.
var rightToLeft = map[string]bool{
	"Adlm": true, "Arab": true, "Hebr": true, "Mand": true, "Nkoo": true, "Rohg": true, "Samr": true, "Syrc": true, "Thaa": true,
}

func direction(tag string) string {
	script, _ := language.Make(tag).Script()
	if rightToLeft[script.String()] {
		return "rtl"
	}
	return "ltr"
}

// Money is the currency of a country. All fields are null where it has none.
type Money struct {
	CurrencyCode *string `json:"currency_code"` // ISO 4217
	Symbol       *string `json:"symbol"`
	MinorUnits   *int    `json:"minor_units"`
}

// MoneyOf gives the currency of a country, which may be nil.
func MoneyOf(c *almanac.Country) Money {
	if c == nil || c.Currency == "" {
		return Money{}
	}
	return Money{CurrencyCode: &c.Currency, Symbol: &c.Symbol, MinorUnits: &c.MinorUnits}
}

// A Clock is the time at a place. All fields are null where the zone is not
// known.
type Clock struct {
	TimeZone   *string `json:"time_zone"`
	LocalTime  *string `json:"local_time"`  // RFC 3339, with the zone's offset
	UTCOffset  *string `json:"utc_offset"`  // "+05:30"
	NextChange *string `json:"next_change"` // RFC 3339 in UTC; null where none is planned
}

// ClockAt gives the time at now in a zone of the IANA database; zone may be
// nil, and an unknown zone counts as none.
func ClockAt(zone *string, now time.Time) Clock {
	if zone == nil {
		return Clock{}
	}
	loc, ok := location(*zone)
	if !ok {
		return Clock{}
	}
	local := now.In(loc)
	text, offset := local.Format("2006-01-02T15:04:05-07:00"), local.Format("-07:00")
	c := Clock{TimeZone: zone, LocalTime: &text, UTCOffset: &offset}
	if _, end := local.ZoneBounds(); !end.IsZero() {
		change := end.UTC().Format(time.RFC3339)
		c.NextChange = &change
	}
	return c
}

// locations keeps the zones that were loaded, of which there are some 400 in
// the world; reading one takes longer than all the rest of a card.
var locations sync.Map

func location(zone string) (*time.Location, bool) {
	if known, ok := locations.Load(zone); ok {
		return known.(*time.Location), true
	}
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return nil, false
	}
	locations.Store(zone, loc)
	return loc, true
}
