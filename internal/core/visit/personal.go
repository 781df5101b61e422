package visit

import (
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/jsonout"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
)

// appendPersonal appends the part of a card that is the visit's own, as [personal] has
// it.
func appendPersonal(b []byte, c *card.Card) []byte {
	b = append(b, `{"address":`...)
	b = c.Address.AppendJSON(b)
	b = append(b, `,"labels":`...)
	b = jsonout.Strings(b, c.Labels)
	for _, f := range [...]struct{ key, value string }{
		{`,"locale":{"language":`, c.Locale.Language},
		{`,"script":`, c.Locale.Script},
		{`,"direction":`, c.Locale.Direction},
		{`,"formatting":`, c.Locale.Formatting},
		{`,"reason":`, c.Locale.Reason},
	} {
		b = append(b, f.key...)
		b = jsonout.String(b, f.value)
	}
	b = append(b, `,"offered":`...)
	b = jsonout.Strings(b, c.Locale.Offered)
	b = append(b, `},"clock":`...)
	b = c.Clock.AppendJSON(b)
	b = append(b, `,"variants":`...)
	b = jsonout.Map(b, c.Variants)
	if c.Gate != nil {
		b = append(b, `,"gate":`...)
		b = c.Gate.AppendJSON(b)
	}
	return append(b, '}')
}

// personal is the part of a card that is the visit's own.
type personal struct {
	Address  card.Address    `json:"address"`
	Labels   []string        `json:"labels"`
	Locale   storedLocale    `json:"locale"`
	Clock    locale.Clock    `json:"clock"`
	Variants variant.Choices `json:"variants"`
	Gate     *gate.Decision  `json:"gate,omitempty"`
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
