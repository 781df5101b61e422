package visit

import (
	"sync/atomic"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
)

// A Local is what a site offers to visitors by where they are: its languages, business
// hours and content variants. It is safe for concurrent use.
type Local struct {
	Languages *locale.Languages
	Hours     locale.Hours
	Currency  string // ISO 4217, that its own prices are in; "" for none
	// Endings say how prices end, by currency.
	Endings map[string]locale.Ending

	variants atomic.Pointer[variant.Chooser]
	rates    atomic.Pointer[map[string]*locale.Rate]
}

// Anywhere is what holds where no site is known: every language, usual hours, no
// variants.
func Anywhere() *Local {
	every, _ := locale.NewLanguages(nil, "") // which nothing is wrong with
	return &Local{Languages: every, Hours: locale.UsualHours}
}

// Variants gives the chooser in use; nil for none.
func (l *Local) Variants() *variant.Chooser { return l.variants.Load() }

// UseVariants puts a chooser in the place of the one before, while cards are made.
func (l *Local) UseVariants(c *variant.Chooser) { l.variants.Store(c) }

// UseRates puts rates in the place of those before, while cards are made.
func (l *Local) UseRates(r locale.Rates) {
	table := r.Table(l.Currency, l.Endings)
	l.rates.Store(&table)
}

// rate gives the rate from the site's currency to another; nil where there is none.
func (l *Local) rate(to *string) *locale.Rate {
	table := l.rates.Load()
	if table == nil || to == nil {
		return nil
	}
	return (*table)[*to]
}

// storedLocale is what is kept of a locale with a visit; the rest follows from it.
type storedLocale struct {
	Language   string   `json:"language"`
	Script     string   `json:"script"`
	Direction  string   `json:"direction"`
	Formatting string   `json:"formatting"`
	Reason     string   `json:"reason"`
	Offered    []string `json:"offered"`
}

// whole gives the locale again; the country's code may be nil.
func (s storedLocale) whole(country *string) locale.Locale {
	l := locale.Locale{
		Language: s.Language, Script: s.Script, Direction: s.Direction, Formatting: s.Formatting, Reason: s.Reason, Offered: s.Offered, Hints: []string{},
	}
	if l.Formatting == "" { // stored before it was kept
		l.Formatting, l.Script = l.Language, locale.ScriptOf(l.Language)
	}
	l.Names.Language = almanac.OwnName(l.Language)
	if country != nil {
		name := almanac.NameIn(*country, l.Language)
		l.Names.Country = &name
	}
	return l
}
