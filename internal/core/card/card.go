// Package card makes the card, the full answer about one address. [Pipeline] is the one
// way there: the service, the Go library and the command line all go through it.
package card

import (
	"maps"
	"net/netip"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
)

// A Card is the full answer about one address. All its keys are always present
// in JSON; an absent fact is null, and a map named missing says why.
type Card struct {
	Address  Address         `json:"address"`
	Location atlas.Location  `json:"location"`
	Network  atlas.Network   `json:"network"`
	Labels   []string        `json:"labels"`
	Locale   locale.Locale   `json:"locale"`
	Clock    locale.Clock    `json:"clock"`
	Money    locale.Money    `json:"money"`
	Variants variant.Choices `json:"variants"` // by the name of their set
	// Device is where the visitor's device says that it is, where the visitor wanted
	// that; it is never stored.
	Device   *Device          `json:"device"`
	Evidence []atlas.Evidence `json:"evidence"`
	Edition  EditionRef       `json:"edition"`

	// found is what location, network and evidence were taken from, nil where they
	// were not looked up.
	found *atlas.LookupResult
}

// Address is the subject of a card. Text is absent where the visitor was not
// found, or where privacy keeps no address.
type Address struct {
	Text     addr.Optional `json:"text"`
	Family   *int          `json:"family"` // 4 or 6
	Kind     *addr.Kind    `json:"kind"`
	Obtained string        `json:"obtained"`
	// Skipped says that the address was never looked up, and Reason why.
	Skipped     bool          `json:"skipped"`
	Placeholder *string       `json:"placeholder"` // the owner's word instead of the address
	Embedded    addr.Optional `json:"embedded"`    // the IPv4 address that the location is of
	Reason      *string       `json:"reason"`
}

// An EditionRef names the edition that a card was made with.
type EditionRef struct {
	Name    string   `json:"name"`
	Credits []string `json:"credits"`
}

// Truncate gives a copy of c that tells no more than a /24 or /48: the address,
// what it embeds, and every range that would be narrower.
func (c Card) Truncate() Card {
	c.Address.Text.Addr = addr.Truncate(c.Address.Text.Addr)
	c.Address.Embedded.Addr = addr.Truncate(c.Address.Embedded.Addr)
	return c.ranges(widen)
}

// Forget gives a copy of c in which a word stands for the address, and no range
// tells where it was.
func (c Card) Forget(word string) Card {
	c.Address.Text, c.Address.Embedded, c.Address.Placeholder = addr.Optional{}, addr.Optional{}, &word
	if c.Network.Range != nil {
		c.Network.Missing = maps.Clone(c.Network.Missing)
		c.Network.Missing["range"] = "the site keeps no addresses"
	}
	return c.ranges(func(*string) *string { return nil })
}

// ranges edits a copy of every range in a card.
func (c Card) ranges(edit func(*string) *string) Card {
	c.Network.Range = edit(c.Network.Range)
	evidence := make([]atlas.Evidence, len(c.Evidence))
	for i, e := range c.Evidence {
		e.Range = edit(e.Range)
		evidence[i] = e
	}
	c.Evidence = evidence
	return c
}

func widen(text *string) *string {
	if text == nil {
		return nil
	}
	if p, err := netip.ParsePrefix(*text); err == nil && addr.TruncatePrefix(p) == p {
		return text // it is wide enough
	}
	r, err := addr.ParseRange(*text)
	if err != nil {
		return nil
	}
	wide := addr.TruncateRange(r).String()
	return &wide
}

// Alone gives the card without what it was found by.
func (c Card) Alone() Card {
	c.found = nil
	return c
}

// In gives the card with the names of places in a language (BCP 47).
func (c Card) In(language string) Card {
	if language != "en" {
		c.Location.Names = c.Location.NamesIn(language)
	}
	return c
}
