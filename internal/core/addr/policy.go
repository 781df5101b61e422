package addr

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
)

// An Action says what to do with an address before it is looked up. The zero
// Action skips it.
type Action uint8

// The two actions.
const (
	Skip Action = iota
	Resolve
)

// String gives the word of the configuration.
func (a Action) String() string {
	if a == Resolve {
		return "resolve"
	}
	return "skip"
}

// ParseAction reads the word of an action.
func ParseAction(word string) (Action, error) {
	switch word {
	case "resolve":
		return Resolve, nil
	case "skip":
		return Skip, nil
	}
	return Skip, fmt.Errorf("%q is neither %q nor %q", quotable(word), Resolve, Skip)
}

// A Rule is one line of the owner's policy: for a kind, or for a prefix when
// Prefix is valid.
type Rule struct {
	Kind        Kind
	Prefix      netip.Prefix
	Action      Action
	Placeholder string // a word to store instead of the address; "" stores none
}

// A Policy decides which addresses are resolved. Without rules public
// addresses are resolved, translation and tunnel addresses by what they
// embed, and everything else is skipped. It is immutable.
type Policy struct {
	byKind   map[Kind]Rule
	byPrefix []Rule // the most specific first
}

// NewPolicy puts rules over the default. Of rules for the same kind or prefix
// the last wins; a rule for a prefix goes before one for a kind, and a longer
// prefix before a shorter one.
func NewPolicy(rules ...Rule) Policy {
	p := Policy{byKind: map[Kind]Rule{
		Public: {Kind: Public, Action: Resolve}, Translation: {Kind: Translation, Action: Resolve},
		Tunnel: {Kind: Tunnel, Action: Resolve},
	}}
	for _, r := range rules {
		if r.Prefix.IsValid() {
			p.byPrefix = append(p.byPrefix, r)
		} else {
			p.byKind[r.Kind] = r
		}
	}
	slices.Reverse(p.byPrefix)
	slices.SortStableFunc(p.byPrefix, func(x, y Rule) int {
		return cmp.Or(y.Prefix.Bits()-x.Prefix.Bits(), x.Prefix.Addr().Compare(y.Prefix.Addr()))
	})
	return p
}

// Decide gives the rule that holds for a, and whether the owner wrote it for
// its very prefix ("opened by the configuration").
func (p Policy) Decide(a netip.Addr) (rule Rule, byPrefix bool) {
	a = Canonical(a)
	for _, r := range p.byPrefix {
		if r.Prefix.Contains(a) {
			return r, true
		}
	}
	return p.byKind[KindOf(a)], false
}

// ByPrefix lists the rules for prefixes, one each, the most specific first.
func (p Policy) ByPrefix() []Rule {
	list := slices.Clone(p.byPrefix)
	return slices.CompactFunc(list, func(x, y Rule) bool { return x.Prefix == y.Prefix })
}

// OfKind gives the rule for addresses of a kind that no prefix says otherwise of.
func (p Policy) OfKind(k Kind) Rule { return p.byKind[k] }
