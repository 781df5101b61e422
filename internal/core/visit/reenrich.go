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

// Reenrich makes the card of a stored visit anew from the edition named, which is in use. ok is
// false where it was made from that already, where it has no address to look up,
// or where the address was truncated: its neighbours may be elsewhere.
func Reenrich(p cards, edition string, v Visit) (again card.Card, ok bool) {
	a := v.Card.Address.Text.Addr
	if !a.IsValid() || v.Card.Address.Skipped || addr.Truncate(a) == a || v.Card.Edition.Name == edition {
		return v.Card, false
	}
	again = p.Card(a, v.Card.Address.Obtained, card.RequestContext{}, v.Time)
	again.Locale, again.Address, again.Labels, again.Variants = v.Card.Locale, v.Card.Address, v.Card.Labels, v.Card.Variants
	return again, true
}
