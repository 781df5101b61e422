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
	if !r.Contains(r.First) {
		return nil
	}
	var list []netip.Prefix
	for first, last := words(r.First), words(r.Last); ; {
		low, borrow := bits.Sub64(last.low, first.low, 0)
		high, _ := bits.Sub64(last.high, first.high, borrow)
		after := pair{high, low} // how many addresses follow the first
		size := after.bits()
		if (pair{^high, ^low}).zeros() < size {
			size-- // not all that have so many bits
		}
		size = min(size, first.zeros())
		list = append(list, netip.PrefixFrom(first.addr(r.First.Is4()), r.First.BitLen()-size))
		step := pair{1 << max(0, size-64), 1 << size}
		if size < 64 {
			step.high = 0
		}
		var carry uint64
		first.low, carry = bits.Add64(first.low, step.low, 0)
		if first.high, carry = bits.Add64(first.high, step.high, carry); carry > 0 || size == 128 || last.less(first) {
			return list
		}
	}
}

// bits is how many bits a number has, and zeros with how many zeros it ends, 128 for 0.
func (p pair) bits() int {
	if p.high != 0 {
		return 64 + bits.Len64(p.high)
	}
	return bits.Len64(p.low)
}

func (p pair) zeros() int {
	if p.low != 0 {
		return bits.TrailingZeros64(p.low)
	}
	return 64 + bits.TrailingZeros64(p.high)
}

func (p pair) less(o pair) bool { return p.high < o.high || p.high == o.high && p.low < o.low }

func (p pair) addr(is4 bool) netip.Addr {
	if is4 {
		return netip.AddrFrom4([4]byte{byte(p.low >> 24), byte(p.low >> 16), byte(p.low >> 8), byte(p.low)})
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], p.high)
	binary.BigEndian.PutUint64(b[8:], p.low)
	return netip.AddrFrom16(b)
}

// Overlaps says whether two ranges share an address.
func (r Range) Overlaps(o Range) bool {
	return r.Contains(o.First) || o.Contains(r.First)
}

func number(a netip.Addr) *big.Int { return new(big.Int).SetBytes(a.AsSlice()) }
