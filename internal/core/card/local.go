package card

import (
	"time"

	"eastporch/internal/core/companion"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
)

// A Local is what a site offers to visitors by where they are. It does not change once cards are made with it, and is safe
// for concurrent use.
type Local struct {
	Languages *locale.Languages
	Hours     locale.Hours
	Currency  string // ISO 4217, that its own prices are in; "" for none
	// Endings say how prices end, by currency.
	Endings map[string]locale.Ending
	// Companions are the site's; nil for none.
	Companions companions
	Variants   *variant.Chooser // nil for none
	Gates      *gate.Set        // nil for none
	rates      *exchange        // nil for none
}

// companions say what services outside say for a visitor, of what is known by then: they never wait. With ask
// they have a service asked where its answer is not there or is no longer fresh.
type companions interface {
	Answers(s *companion.Subject, ask bool, now time.Time) companion.Answers
}

// Anywhere is what holds where no site is known: every language, usual hours, no
// variants.
func Anywhere() *Local {
	every, _ := locale.NewLanguages(nil, "") // which nothing is wrong with
	return &Local{Languages: every, Hours: locale.UsualHours}
}

// exchange has the rates that there are, and those from the site's own currency.
type exchange struct {
	all  locale.Rates
	from map[string]*locale.Rate
}

// SetRates says which rates there are, before cards are made.
func (l *Local) SetRates(r locale.Rates) { l.rates = &exchange{r, r.Table(l.Currency, l.Endings)} }

// exchange puts the rates to the currency of m into it: from the site's own, and from others
// that prices are in.
func (l *Local) exchange(m *locale.Money, pricesIn []string) {
	rates := l.rates
	if rates == nil || m.CurrencyCode == nil {
		return
	}
	m.Rate = rates.from[*m.CurrencyCode]
	for _, from := range pricesIn {
		if one := rates.all.Between(from, *m.CurrencyCode, l.Endings); one != nil {
			m.Rates = append(m.Rates[:len(m.Rates):len(m.Rates)], *one)
		}
	}
}
