// Package rangetable finds the value for an IP address among ranges of both
// families; the longest prefix wins.
//
// A [Table] holds ascending, disjoint stretches. Nested prefixes are flattened
// when the table is built, so that [Table.Lookup] is one binary search, does
// not allocate and is safe for any number of goroutines. IPv4-mapped IPv6
// addresses are looked up as IPv4, and zones are ignored.
package rangetable

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sort"

	"eastporch/internal/core/addr"
)

// ErrDuplicate is wrapped by [Build] when a prefix stands twice.
var ErrDuplicate = errors.New("prefix given twice")

// An Entry gives every address of Prefix a value, where no longer prefix does.
type Entry struct {
	Prefix netip.Prefix
	Value  uint32
}

// stretch is a run of addresses with one value.
type stretch struct {
	addr.Range
	value uint32
}

// A Table is immutable. The zero Table holds nothing.
type Table struct{ v4, v6 []stretch }

// Build makes a table. Host bits of prefixes are cleared and IPv4-mapped
// prefixes unwrapped; an invalid prefix is an error, and so is one that stands
// twice.
func Build(entries []Entry) (*Table, error) {
	var v4, v6 []Entry
	for _, e := range entries {
		if a := e.Prefix.Addr(); a.Is4In6() && e.Prefix.Bits() >= 96 {
			e.Prefix = netip.PrefixFrom(a.Unmap(), e.Prefix.Bits()-96)
		}
		e.Prefix = e.Prefix.Masked()
		switch {
		case !e.Prefix.IsValid():
			return nil, errors.New("a prefix is not valid")
		case e.Prefix.Addr().Is4():
			v4 = append(v4, e)
		default:
			v6 = append(v6, e)
		}
	}
	t := &Table{}
	var err4, err6 error
	t.v4, err4 = flatten(v4)
	t.v6, err6 = flatten(v6)
	return t, errors.Join(err4, err6)
}

// flatten cuts nested prefixes of one family into disjoint stretches.
func flatten(entries []Entry) ([]stretch, error) {
	slices.SortFunc(entries, func(x, y Entry) int {
		return cmp.Or(x.Prefix.Addr().Compare(y.Prefix.Addr()), x.Prefix.Bits()-y.Prefix.Bits())
	})
	var flat []stretch
	var open []stretch // the prefixes that hold the current address, widest first
	next := netip.Addr{}
	emit := func(until netip.Addr) { // the innermost open prefix covers next..until
		if top := open[len(open)-1]; next.IsValid() && next.Compare(until) <= 0 {
			flat = append(flat, stretch{addr.Range{First: next, Last: until}, top.value})
		}
		next = until.Next()
	}
	closeBefore := func(a netip.Addr) {
		for len(open) > 0 && (!a.IsValid() || open[len(open)-1].Last.Less(a)) {
			emit(open[len(open)-1].Last)
			open = open[:len(open)-1]
		}
	}
	for i, e := range entries {
		if i > 0 && e.Prefix == entries[i-1].Prefix {
			return nil, fmt.Errorf("%s: %w", e.Prefix, ErrDuplicate)
		}
		r := addr.RangeOf(e.Prefix)
		closeBefore(r.First)
		if len(open) > 0 && next.IsValid() && next.Less(r.First) {
			emit(r.First.Prev())
		}
		next = r.First
		open = append(open, stretch{r, e.Value})
	}
	closeBefore(netip.Addr{})
	return slices.Clip(flat), nil
}

// Lookup gives the value for a and the bounds of the stretch around it that
// shares it without a break; ok is false where no prefix holds a.
func (t *Table) Lookup(a netip.Addr) (value uint32, bounds addr.Range, ok bool) {
	a = addr.Canonical(a)
	list := t.v6
	if a.Is4() {
		list = t.v4
	}
	i := sort.Search(len(list), func(i int) bool { return !list[i].Last.Less(a) })
	if i == len(list) || !list[i].Contains(a) {
		return 0, addr.Range{}, false
	}
	return list[i].value, list[i].Range, true
}

// Len counts the stretches of both families.
func (t *Table) Len() int { return len(t.v4) + len(t.v6) }
