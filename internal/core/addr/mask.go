package addr

import "net/netip"

// The prefixes that truncation keeps: a /24 of IPv4 and a /48 of IPv6.
const (
	truncated4 = 24
	truncated6 = 48
)

// Truncate clears what may tell one household from another: the last 8 bits of
// an IPv4 address and the last 80 of an IPv6 address. The zero Addr stays as
// it is.
func Truncate(a netip.Addr) netip.Addr {
	return TruncatePrefix(netip.PrefixFrom(a, a.BitLen())).Addr()
}

// TruncatePrefix widens p to a /24 (IPv4) or /48 (IPv6) where it is narrower;
// a wider prefix, and the zero Prefix, stay as they are.
func TruncatePrefix(p netip.Prefix) netip.Prefix {
	keep := truncated6
	if p.Addr().Is4() {
		keep = truncated4
	}
	if !p.IsValid() || p.Bits() <= keep {
		return p
	}
	return netip.PrefixFrom(p.Addr(), keep).Masked()
}

// TruncateRange widens r to whole /24 or /48 blocks.
func TruncateRange(r Range) Range {
	if !r.First.IsValid() {
		return r
	}
	last := TruncatePrefix(netip.PrefixFrom(r.Last, r.Last.BitLen()))
	return Range{Truncate(r.First), RangeOf(last).Last}
}
