// Package addr reads IP addresses, tells what kind an address is, and cuts
// addresses down for display and storage.
//
// Addresses are [netip.Addr] values in one canonical form: an IPv4-mapped IPv6
// address is IPv4, and there is no zone. All functions are pure and safe for
// concurrent use.
package addr

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// ErrSyntax is wrapped by the errors of [Parse] and [ParsePrefix].
var ErrSyntax = errors.New("not an IP address")

// maxQuoted bounds how much of a bad input an error repeats.
const maxQuoted = 64

// Parse reads an IPv4 or IPv6 address from s, with white space around it, in
// brackets or with a port ("[2001:db8::1]:443", "192.0.2.1:80"), and returns it
// in canonical form: an IPv4-mapped address as IPv4, without a zone (RFC 4291,
// RFC 5952). Leading zeros in dotted parts are refused, since readers disagree
// whether they mean octal. The error wraps [ErrSyntax], says what is wrong and
// quotes at most 64 bytes of s.
func Parse(s string) (netip.Addr, error) {
	if a, ok := Quick(s); ok {
		return a, nil
	}
	return netip.Addr{}, fmt.Errorf("%w: %q: %s", ErrSyntax, quotable(s), whyNot(trimSpace(s)))
}

// Quick is [Parse] without a reason, for hot paths: it allocates nothing for
// what is an address.
func Quick(s string) (a netip.Addr, ok bool) {
	text := trimSpace(s)
	if len(text) > maxQuoted+len("[]:65535") || text == "" {
		return netip.Addr{}, false
	}
	if c := text[len(text)-1]; text[0] != '[' && (isHex(c) || c == ':') && strings.Count(text, ":") != 1 || strings.Contains(text, "%") {
		if a, err := parseAddr(text); err == nil {
			return Canonical(a), true
		}
	}
	bare, ok := withoutPort(text)
	if !ok {
		return netip.Addr{}, false
	}
	a, err := parseAddr(bare)
	return Canonical(a), err == nil
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// ParsePrefix reads a prefix such as 192.0.2.0/24, or a single address as a
// prefix of full length. Host bits that are set are refused with the prefix
// that was probably meant. The error wraps [ErrSyntax].
func ParsePrefix(s string) (netip.Prefix, error) {
	text := trimSpace(s)
	if !strings.Contains(text, "/") {
		a, err := Parse(text)
		if err != nil {
			return netip.Prefix{}, err
		}
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%w: %q is not a prefix such as 192.0.2.0/24", ErrSyntax, quotable(s))
	}
	if p.Addr().Is4In6() {
		if p.Bits() < 96 {
			return netip.Prefix{}, fmt.Errorf("%w: %q is wider than the IPv4-mapped block", ErrSyntax, quotable(s))
		}
		p = netip.PrefixFrom(p.Addr().Unmap(), p.Bits()-96)
	}
	if p != p.Masked() {
		return netip.Prefix{}, fmt.Errorf("%w: %q has host bits set; did you mean %s?", ErrSyntax, quotable(s), p.Masked())
	}
	return p, nil
}

// longestZone is how long the name of an interface may be, in bytes (Linux's IFNAMSIZ).
const longestZone = 15

// parseAddr is [netip.ParseAddr] for zones that name an interface (RFC 4007, section 11): of few
// characters, and none that could be read as something else. Anything may stand in a zone otherwise.
func parseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() == "" {
		return a, err
	}
	zone := a.Zone()
	if len(zone) > longestZone || strings.ContainsFunc(zone, func(c rune) bool {
		return (c < '0' || c > '9') && (c < 'A' || c > 'Z') && (c < 'a' || c > 'z') && c != '.' && c != '-' && c != '_'
	}) {
		return netip.Addr{}, ErrSyntax
	}
	return a, nil
}

// Canonical unwraps an IPv4-mapped address and drops the zone.
func Canonical(a netip.Addr) netip.Addr { return a.Unmap().WithZone("") }

// withoutPort strips brackets and a port of at most five digits.
func withoutPort(s string) (string, bool) {
	if rest, ok := strings.CutPrefix(s, "["); ok {
		host, tail, closed := strings.Cut(rest, "]")
		if !closed || tail != "" && (tail[0] != ':' || !isPort(tail[1:])) {
			return "", false
		}
		return host, strings.Contains(host, ":")
	}
	host, port, found := strings.Cut(s, ":")
	if !found || strings.Contains(port, ":") || !isPort(port) {
		return "", false
	}
	return host, true
}

func isPort(s string) bool {
	if s == "" || len(s) > 5 {
		return false
	}
	n := 0
	for _, c := range []byte(s) {
		if c < '0' || c > '9' {
			return false
		}
		n = n*10 + int(c-'0')
	}
	return n <= 65535
}

// whyNot puts the reason in plain words; it only words an error and never
// decides.
func whyNot(s string) string {
	parts := strings.Split(s, ".")
	switch {
	case s == "":
		return "it is empty"
	case len(s) > maxQuoted:
		return "it is longer than any address"
	case len(parts) == 4 && strings.Trim(s, "0123456789.") == "":
		for _, p := range parts {
			if len(p) > 1 && p[0] == '0' {
				return "a part begins with a zero, which some read as octal; write it without"
			}
		}
		return "every part of an IPv4 address is a number from 0 to 255"
	case strings.Trim(s, "0123456789.") == "":
		return "an IPv4 address has four parts, such as 192.0.2.1"
	case strings.Contains(s, "%"):
		return "what stands behind % is not the name of an interface, such as eth0"
	case strings.Contains(s, ":"):
		return "the IPv6 groups do not fit; write it like 2001:db8::1"
	}
	return "write it like 192.0.2.1 or 2001:db8::1"
}

func quotable(s string) string {
	if len(s) > maxQuoted {
		return s[:maxQuoted] + "…"
	}
	return s
}

func trimSpace(s string) string { return strings.Trim(s, " \t\r\n") }

// Reason gives the reason of an error that wraps [ErrSyntax], without that.
func Reason(err error) string { return strings.TrimPrefix(err.Error(), ErrSyntax.Error()+": ") }
