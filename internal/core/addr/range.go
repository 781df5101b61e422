package addr

import (
	"math/bits"
	"net/netip"
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
