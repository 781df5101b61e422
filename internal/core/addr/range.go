package addr

import (
	"encoding/binary"
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
	if p.Addr().Is4() {
		b := p.Addr().As4()
		binary.BigEndian.PutUint32(b[:], binary.BigEndian.Uint32(b[:])|uint32(uint64(1)<<(32-p.Bits())-1))
		return Range{p.Addr(), netip.AddrFrom4(b)}
	}
	b, host := p.Addr().As16(), 128-p.Bits()
	binary.BigEndian.PutUint64(b[8:], binary.BigEndian.Uint64(b[8:])|(1<<min(host, 64)-1))
	if host > 64 {
		binary.BigEndian.PutUint64(b[:8], binary.BigEndian.Uint64(b[:8])|(1<<(host-64)-1))
	}
	return Range{p.Addr(), netip.AddrFrom16(b)}
}

// Contains says whether a, in canonical form, lies in r.
func (r Range) Contains(a netip.Addr) bool {
	return a.IsValid() && a.BitLen() == r.First.BitLen() && r.First.Compare(a) <= 0 && a.Compare(r.Last) <= 0
}

// pair is an address as two numbers, IPv4 as the last 32 bits.
type pair struct{ high, low uint64 }

func words(a netip.Addr) pair {
	if a.Is4() {
		b := a.As4()
		return pair{0, uint64(binary.BigEndian.Uint32(b[:]))}
	}
	b := a.As16()
	return pair{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

// Prefix gives the prefix that is exactly r; ok is false where none is.
func (r Range) Prefix() (p netip.Prefix, ok bool) {
	if !r.First.IsValid() {
		return netip.Prefix{}, false
	}
	first, last := words(r.First), words(r.Last)
	high, low := first.high^last.high, first.low^last.low
	common := bits.LeadingZeros64(high)
	if high == 0 {
		common += bits.LeadingZeros64(low)
	}
	// The bits in which they differ are 0 in the first and 1 in the last.
	ones := pair{^uint64(0) >> min(common, 64), ^uint64(0) >> max(0, common-64)}
	whole := first.high&ones.high == 0 && first.low&ones.low == 0 && last.high&ones.high == ones.high && last.low&ones.low == ones.low
	if r.First.Is4() {
		common -= 96
	}
	return netip.PrefixFrom(r.First, common), whole
}

// String is the prefix where r is one, else "first-last".
func (r Range) String() string {
	var buffer [2*len("ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff") + 1]byte
	return string(r.AppendTo(buffer[:0]))
}

// AppendTo appends the text of the range, as String gives it.
func (r Range) AppendTo(b []byte) []byte {
	if !r.First.IsValid() {
		return append(b, "no addresses"...)
	}
	if p, ok := r.Prefix(); ok {
		return p.AppendTo(b)
	}
	b = append(r.First.AppendTo(b), '-')
	return r.Last.AppendTo(b)
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
	if r.First.Is4() && r.Last.Is4() {
		first, last := words(r.First).low, words(r.Last).low
		for first <= last {
			size := min(bits.TrailingZeros64(first|1<<32), bits.Len64(last-first+1)-1)
			list = append(list, netip.PrefixFrom(netip.AddrFrom4([4]byte{byte(first >> 24), byte(first >> 16), byte(first >> 8), byte(first)}), 32-size))
			first += 1 << size
		}
		return list
	}
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
