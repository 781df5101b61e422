package addr

import (
	"fmt"
	"math/big"
	"net/netip"
	"strings"
)

// A Spelling says how an address was written.
type Spelling string

// The spellings.
const (
	Plain       Spelling = "as usual"
	WithPort    Spelling = "with a port"
	WithZone    Spelling = "with a zone"
	Bracketed   Spelling = "in brackets"
	Mapped      Spelling = "mapped into IPv6"
	Integer     Spelling = "an integer"
	Hexadecimal Spelling = "hexadecimal"
	Binary      Spelling = "16 bytes in hexadecimal"
	ReverseName Spelling = "reverse name"
)

// smallestInteger is the first integer that is read as an address: below it
// any number at all would be one.
const smallestInteger = 1 << 24

// Read reads an address in any spelling that is met in the field: those of
// [Parse], and decimal integers of 32 or 128 bits, hexadecimal with 0x, the 16
// bytes of IPv6 as 32 hexadecimal digits, names of in-addr.arpa and ip6.arpa
// (RFC 1035, RFC 3596), all of them also in quotes. What could be two things is
// refused with the reason: leading zeros, integers below 2^24, 32 digits that
// may be decimal or hexadecimal, dotted forms of fewer than four parts. Headers
// are not read so: there only [Parse] counts.
func Read(s string) (netip.Addr, Spelling, error) {
	text := trimSpace(s)
	if len(text) >= 2 && (text[0] == '"' || text[0] == '\'') && text[len(text)-1] == text[0] {
		text = trimSpace(text[1 : len(text)-1])
	}
	if a, ok := Quick(text); ok {
		return a, spellingOf(text), nil
	}
	refuse := func(reason string) (netip.Addr, Spelling, error) {
		return netip.Addr{}, "", fmt.Errorf("%w: %q: %s", ErrSyntax, quotable(s), reason)
	}
	lower := strings.ToLower(text)
	switch {
	case strings.HasSuffix(strings.TrimSuffix(lower, "."), ".arpa"):
		a, ok := reverse(strings.TrimSuffix(lower, "."))
		if !ok {
			return refuse("a reverse name has 4 numbers before in-addr.arpa, or 32 digits before ip6.arpa")
		}
		return Canonical(a), ReverseName, nil
	case text != "" && strings.Trim(text, "0123456789") == "":
		return readInteger(text, 10, Integer, refuse)
	case strings.HasPrefix(lower, "0x") && len(lower) > 2 && strings.Trim(lower[2:], "0123456789abcdef") == "":
		return readInteger(lower[2:], 16, Hexadecimal, refuse)
	case len(text) == 32 && strings.Trim(lower, "0123456789abcdef") == "":
		return readInteger(lower, 16, Binary, refuse)
	case len(text) == 8 && strings.Trim(lower, "0123456789abcdef") == "":
		return refuse("8 hexadecimal digits may be anything; write 0x before them")
	}
	return refuse(whyNot(text))
}

func spellingOf(text string) Spelling {
	switch {
	case strings.Contains(text, "%"):
		return WithZone
	case strings.HasSuffix(text, "]"):
		return Bracketed
	case text[0] == '[' || strings.Count(text, ":") == 1:
		return WithPort
	}
	if a, err := parseAddr(text); err == nil && a.Is4In6() {
		return Mapped
	}
	return Plain
}

func readInteger(digits string, base int, as Spelling, refuse func(string) (netip.Addr, Spelling, error)) (netip.Addr, Spelling, error) {
	switch {
	case base == 10 && len(digits) == 32:
		return refuse("32 digits may be a decimal number or 16 bytes in hexadecimal; write 0x before them, or the address itself")
	case base == 10 && len(digits) > 1 && digits[0] == '0':
		return refuse("a number that begins with a zero may be octal; write it without")
	case len(digits) > 39:
		return refuse("the number has more than 128 bits")
	}
	n, _ := new(big.Int).SetString(digits, base) // digits of that base always fit
	var b [16]byte
	switch {
	case n.BitLen() > 128:
		return refuse("the number has more than 128 bits")
	case as == Binary || as == Hexadecimal && len(digits) > 8 || n.BitLen() > 32:
		return Canonical(netip.AddrFrom16([16]byte(n.FillBytes(b[:])))), as, nil
	case n.Cmp(big.NewInt(smallestInteger)) < 0:
		return refuse("a number below 16777216 may be anything; write the address itself")
	}
	return netip.AddrFrom4([4]byte(n.FillBytes(b[:4]))), as, nil
}

// reverse reads a name of in-addr.arpa or ip6.arpa in small letters.
func reverse(name string) (netip.Addr, bool) {
	if rest, ok := strings.CutSuffix(name, ".in-addr.arpa"); ok {
		parts := strings.Split(rest, ".")
		if len(parts) != 4 {
			return netip.Addr{}, false
		}
		a, err := parseAddr(parts[3] + "." + parts[2] + "." + parts[1] + "." + parts[0])
		return a, err == nil
	}
	rest, ok := strings.CutSuffix(name, ".ip6.arpa")
	if !ok || len(rest) != 63 {
		return netip.Addr{}, false
	}
	var b [16]byte
	for i := range 32 {
		c := rest[62-2*i]
		if !isHex(c) || i > 0 && rest[63-2*i] != '.' {
			return netip.Addr{}, false
		}
		b[i/2] |= digit(c) << (4 * (1 - i%2))
	}
	return netip.AddrFrom16(b), true
}

func digit(c byte) byte {
	if c <= '9' {
		return c - '0'
	}
	return c - 'a' + 10
}
