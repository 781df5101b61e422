// Package card makes the card, the full answer about one address. [Pipeline] is the one
// way there: the service, the Go library and the command line all go through it.
package card

import (
	"maps"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/plain"
)

// Subject is whoever a card is about, as gates see it.
func (c *Card) Subject(pass bool) gate.Subject {
	s := subject(&c.Address, &c.Location, &c.Network, c.Labels, c.Edition.Name)
	s.Pass = pass
	return s
}

func subject(a *Address, w *atlas.Location, n *atlas.Network, labels []string, edition string) gate.Subject {
	s := gate.Subject{
		Address: a.Text.Addr, Skipped: a.Skipped, NoData: edition == atlas.Empty, Basis: plain.Value(w.Basis), Region: plain.Value(w.RegionCode), Point: w.Point(), Labels: labels,
	}
	if w.CountryCode != nil {
		s.Country, _ = almanac.ByCode(*w.CountryCode)
	}
	if n.ASNumber != nil {
		s.ASNumber = *n.ASNumber
	}
	return s
}

// CompanionSubject is whoever a card is about, as companions may know them.
func (c *Card) CompanionSubject() companion.Subject {
	var country *almanac.Country
	if c.Location.CountryCode != nil {
		country, _ = almanac.ByCode(*c.Location.CountryCode)
	}
	return c.companionSubject(country)
}

func (c *Card) companionSubject(country *almanac.Country) companion.Subject {
	return companion.Subject{
		Level: string(c.Location.Level), Point: c.Location.Point(), Country: country, TimeZone: plain.Value(c.Location.TimeZone), Language: c.Locale.Language, Written: c.Locale.Formatting,
	}
}

// Public gives a copy of c as its visitor may read it: neither rules of gates nor what went wrong with companions.
func (c Card) Public() Card {
	if c.Gate != nil {
		public := c.Gate.Public()
		c.Gate = &public
	}
	c.Companions = c.Companions.Public()
	return c
}

// Truncate has c tell no more than a /24 or /48: the address, what it embeds, and every range that would be
// narrower. What it shares with other cards is copied.
func (c *Card) Truncate() {
	c.Address.Text.Addr = addr.Truncate(c.Address.Text.Addr)
	c.Address.Embedded.Addr = addr.Truncate(c.Address.Embedded.Addr)
	c.ranges(widen)
}

// Forget has a word stand for the address, and no range tell where it was. What c shares with other cards is
// copied.
func (c *Card) Forget(word string) {
	c.Address.Text, c.Address.Embedded, c.Address.Placeholder = addr.Optional{}, addr.Optional{}, &word
	if c.Network.Range.IsValid() {
		c.Network.Missing = maps.Clone(c.Network.Missing)
		c.Network.Missing["range"] = "the site keeps no addresses"
	}
	c.ranges(func(addr.OptionalRange) addr.OptionalRange { return addr.OptionalRange{} })
}

// ranges edits every range in a card.
func (c *Card) ranges(edit func(addr.OptionalRange) addr.OptionalRange) {
	c.Network.Range = edit(c.Network.Range)
	evidence := make([]atlas.Evidence, len(c.Evidence))
	for i, e := range c.Evidence {
		e.Range = edit(e.Range)
		evidence[i] = e
	}
	c.Evidence = evidence
}

func widen(r addr.OptionalRange) addr.OptionalRange {
	if p, ok := r.Prefix(); ok && addr.TruncatePrefix(p) == p || !r.IsValid() {
		return r // it is wide enough
	}
	return addr.OptionalRange{Range: addr.TruncateRange(r.Range)}
}

// In gives the card with the names of places in a language (BCP 47).
func (c Card) In(language string) Card {
	if language != "en" {
		c.Location.Names = c.Location.NamesIn(language)
	}
	return c
}
