package addr

import (
	"net/netip"
	"slices"
	"strings"
)

// Labels are the owner's names for sets of addresses. The zero Labels name
// none. It is immutable and safe for concurrent use.
type Labels struct {
	names   map[netip.Prefix][]string
	lengths [2][]int // of the prefixes of each family, ascending
}

// NewLabels makes labels of prefixes by name. Labels add up: an address has
// those of every prefix that holds it.
func NewLabels(sets map[string][]netip.Prefix) Labels {
	l := Labels{names: map[netip.Prefix][]string{}}
	for name, prefixes := range sets {
		for _, p := range prefixes {
			p = p.Masked()
			l.names[p] = append(l.names[p], name)
			family := &l.lengths[0]
			if p.Addr().Is6() {
				family = &l.lengths[1]
			}
			if !slices.Contains(*family, p.Bits()) {
				*family = append(*family, p.Bits())
			}
		}
	}
	return l
}

var noLabels = []string{}

// Of lists the labels of an address, sorted; an empty list where it has none.
func (l Labels) Of(a netip.Addr) []string {
	found := noLabels
	a = Canonical(a)
	if !a.IsValid() {
		return found
	}
	family := l.lengths[0]
	if a.Is6() {
		family = l.lengths[1]
	}
	for _, bits := range family {
		p, _ := a.Prefix(bits) // lengths fit their family
		for _, name := range l.names[p] {
			if !slices.Contains(found, name) {
				found = append(found, name)
			}
		}
	}
	slices.SortFunc(found, strings.Compare)
	return found
}

// Example gives an address of the narrowest set that has a label; the zero Addr where none has.
func (l Labels) Example(label string) netip.Addr {
	found, bits := netip.Addr{}, -1
	for p, names := range l.names {
		if slices.Contains(names, label) && (p.Bits() > bits || p.Bits() == bits && p.Addr().Less(found)) {
			found, bits = p.Addr(), p.Bits()
		}
	}
	if next := found.Next(); bits >= 0 && netip.PrefixFrom(found, bits).Contains(next) { // so that it does not look like the network's own
		return next
	}
	return found
}
