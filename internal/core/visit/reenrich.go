package visit

import (
	"net/netip"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/card"
)

// cards makes cards of addresses.
type cards interface {
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
}

// Reenrich makes the card of a stored visit anew from the edition named, which is in use. kept is why it stays as
// it is, "" where it does not: it was made from that already, it has no address to look up, or the address was
// truncated, whose neighbours may be elsewhere.
func Reenrich(p cards, edition string, v Visit) (again card.Card, kept string) {
	a := v.Card.Address.Text.Addr
	switch {
	case !a.IsValid():
		return v.Card, "no address is kept"
	case v.Card.Address.Skipped:
		return v.Card, "the address is skipped"
	case v.Card.Edition.Name == edition:
		return v.Card, "read with this edition before"
	case addr.Truncate(a) == a:
		return v.Card, "the address is truncated, and its neighbours may be elsewhere"
	}
	again = p.Card(a, v.Card.Address.Obtained, card.RequestContext{}, v.Time)
	again.Locale, again.Address, again.Labels, again.Variants = v.Card.Locale, v.Card.Address, v.Card.Labels, v.Card.Variants
	return again, ""
}
