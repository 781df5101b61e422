package addr

import "net/netip"

// The prefixes that truncation keeps: a /24 of IPv4 and a /48 of IPv6. A 6to4
// prefix (RFC 3056) holds a whole IPv4 address in its first 48 bits, so a /40 is
// kept of it; all other addresses that embed one, as those of NAT64, Teredo and
// ISATAP, hold 16 bits of it there at most.
const (
	truncated4     = 24
	truncated6     = 48
	truncated6to4  = 40
	bitsBefore6to4 = 16
)

// Truncate clears what may tell one household from another: the last 8 bits of
// an IPv4 address, the last 80 of an IPv6 address, and the last 88 of a 6to4
// address. The zero Addr stays as it is.
func Truncate(a netip.Addr) netip.Addr {
	return TruncatePrefix(netip.PrefixFrom(a, a.BitLen())).Addr()
}

// TruncatePrefix widens p to a /24 (IPv4), /48 (IPv6) or /40 (6to4) where it is
// narrower; a wider prefix, and the zero Prefix, stay as they are.
func TruncatePrefix(p netip.Prefix) netip.Prefix {
	keep := truncated6
	switch {
	case p.Addr().Is4():
		keep = truncated4
	case p.Bits() >= bitsBefore6to4 && is6to4(p.Addr()):
		keep = truncated6to4
	}
	if !p.IsValid() || p.Bits() <= keep {
		return p
	}
	return netip.PrefixFrom(p.Addr(), keep).Masked()
}

func is6to4(a netip.Addr) bool {
	b := a.As16()
	return b[0] == 0x20 && b[1] == 0x02
}

// TruncateRange widens r to whole /24, /48 or /40 blocks.
func TruncateRange(r Range) Range {
	if !r.First.IsValid() {
		return r
	}
	last := TruncatePrefix(netip.PrefixFrom(r.Last, r.Last.BitLen()))
	return Range{Truncate(r.First), RangeOf(last).Last}
}
