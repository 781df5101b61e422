package addr

import (
	"fmt"
	"math/big"
	"math/bits"
	"net/netip"
	"strings"
)

// A Range is the addresses from First to Last, both of one family and both
// included. The zero Range holds nothing.
type Range struct{ First, Last netip.Addr }

// RangeOf gives the range of a prefix.
func RangeOf(p netip.Prefix) Range {
	p = p.Masked()
	if !p.IsValid() {
		return Range{}
	}
	last := p.Addr().AsSlice()
	for i := range last {
		if host := (i+1)*8 - p.Bits(); host > 0 {
			last[i] |= byte(0xff >> max(0, 8-host))
		}
	}
	end, _ := netip.AddrFromSlice(last)
	return Range{First: p.Addr(), Last: end}
}

// Contains says whether a, in canonical form, lies in r.
func (r Range) Contains(a netip.Addr) bool {
	return a.IsValid() && a.BitLen() == r.First.BitLen() && r.First.Compare(a) <= 0 && a.Compare(r.Last) <= 0
}

// Prefix gives the prefix that is exactly r; ok is false where none is.
func (r Range) Prefix() (p netip.Prefix, ok bool) {
	if !r.First.IsValid() {
		return netip.Prefix{}, false
	}
	first, last := r.First.AsSlice(), r.Last.AsSlice()
	common := 0
	for i := range first {
		if x := first[i] ^ last[i]; x != 0 {
			common += bits.LeadingZeros8(x)
			break
		}
		common += 8
	}
	p = netip.PrefixFrom(r.First, common)
	return p, RangeOf(p) == r
}

// String is the prefix where r is one, else "first-last".
func (r Range) String() string {
	if p, ok := r.Prefix(); ok {
		return p.String()
	}
	if !r.First.IsValid() {
		return "no addresses"
	}
	return r.First.String() + "-" + r.Last.String()
}

// ParseRange reads a prefix, a single address or "first-last", each address in
// any spelling of [Read]. The error wraps [ErrSyntax].
func ParseRange(s string) (Range, error) {
	first, last, isRange := strings.Cut(s, "-")
	if !isRange {
		if a, _, err := Read(s); err == nil {
			return Range{a, a}, nil
		}
		p, err := ParsePrefix(s)
		if err != nil {
			return Range{}, err
		}
		return RangeOf(p), nil
	}
	a, _, err := Read(first)
	if err != nil {
		return Range{}, err
	}
	b, _, err := Read(last)
	switch {
	case err != nil:
		return Range{}, err
	case a.BitLen() != b.BitLen():
		return Range{}, fmt.Errorf("%w: %q: the range begins in one family and ends in another", ErrSyntax, quotable(s))
	case b.Less(a):
		return Range{}, fmt.Errorf("%w: %q: the range ends before it begins; did you mean %s-%s?", ErrSyntax, quotable(s), b, a)
	}
	return Range{a, b}, nil
}

// Count is how many addresses r holds.
func (r Range) Count() *big.Int {
	if !r.First.IsValid() {
		return new(big.Int)
	}
	n := new(big.Int).Sub(number(r.Last), number(r.First))
	return n.Add(n, big.NewInt(1))
}

// Prefixes is the smallest set of prefixes that are together r, in order.
func (r Range) Prefixes() []netip.Prefix {
	var list []netip.Prefix
	for a := r.First; r.Contains(a); {
		p := netip.PrefixFrom(a, a.BitLen())
		for p.Bits() > 0 {
			wider := netip.PrefixFrom(a, p.Bits()-1)
			if wider.Masked() != wider || r.Last.Less(RangeOf(wider).Last) {
				break
			}
			p = wider
		}
		list = append(list, p)
		a = RangeOf(p).Last.Next()
	}
	return list
}

// Halves cuts a prefix in two; ok is false for a single address.
func Halves(p netip.Prefix) (low, high netip.Prefix, ok bool) {
	p = p.Masked()
	if !p.IsValid() || p.IsSingleIP() {
		return netip.Prefix{}, netip.Prefix{}, false
	}
	low = netip.PrefixFrom(p.Addr(), p.Bits()+1)
	return low, netip.PrefixFrom(RangeOf(low).Last.Next(), p.Bits()+1), true
}

// Overlaps says whether two ranges share an address.
func (r Range) Overlaps(o Range) bool {
	return r.Contains(o.First) || o.Contains(r.First)
}

func number(a netip.Addr) *big.Int { return new(big.Int).SetBytes(a.AsSlice()) }
