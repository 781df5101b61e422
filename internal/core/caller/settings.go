package caller

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"net/textproto"
	"slices"
	"strings"

	"eastporch/internal/core/addr"
)

// Headers with a form of their own; any other name is a single-value header.
const (
	// ForwardedFor is a list of addresses which each proxy extends on the right
	// with the address of its own peer.
	ForwardedFor = "X-Forwarded-For"
	// Forwarded is the same with a grammar (RFC 7239).
	Forwarded = "Forwarded"
)

// maxRelied bounds the hop count of a setting.
const maxRelied = 32

// Settings say whom a Finder trusts. The zero Settings trust nobody.
type Settings struct {
	// Trusted are the prefixes of the owner's proxies.
	Trusted []TrustedRange
	// Unix trusts peers that connect through a Unix socket.
	Unix bool
	// Header is the one header that the proxies write and that is believed;
	// "" is X-Forwarded-For.
	Header string
	// Hops, where it is not 0, counts the owner's proxies, the peer included:
	// the visitor is the entry at that place from the right of the list. The
	// peer must be trusted all the same, for anyone else could write the list.
	Hops int
	// Labels name addresses in trails; they trust nobody by themselves.
	Labels addr.Labels
}

// A TrustedRange is a prefix of the owner's proxies, and the label that it came
// from, if any.
type TrustedRange struct {
	Prefix netip.Prefix
	Label  string
	rule   string // names it in a trail
}

// named gives ranges with what names them.
func named(list []TrustedRange) []TrustedRange {
	list = slices.Clone(list)
	for i := range list {
		list[i].rule = cmp.Or(list[i].Label, list[i].Prefix.String())
	}
	return list
}

// New makes a Finder. The error says which setting does not fit.
func New(s Settings) (Finder, error) {
	f := Finder{trusted: named(s.Trusted), unix: s.Unix, hops: s.Hops, labels: s.Labels, header: textproto.CanonicalMIMEHeaderKey(s.Header)}
	if s.Header == "" {
		f.header = ForwardedFor
	}
	for _, c := range []byte(f.header) {
		if !isTokenByte(c) {
			return Finder{}, fmt.Errorf("%.64q is not a name of a header", s.Header)
		}
	}
	switch {
	case s.Hops < 0 || s.Hops > maxRelied:
		return Finder{}, fmt.Errorf("%d hops are none that can be counted: give 1 to %d, or leave it out", s.Hops, maxRelied)
	case s.Hops > 0 && !f.isList():
		return Finder{}, fmt.Errorf("hops are counted in a list, and %s holds one value", f.header)
	case s.Hops > 0 && len(s.Trusted) == 0 && !s.Unix:
		return Finder{}, errors.New("a hop count needs trusted peers too, for anyone else could write the list")
	}
	return f, nil
}

// Trusting makes a Finder that trusts proxies in some prefixes and believes
// their X-Forwarded-For.
func Trusting(prefixes ...netip.Prefix) Finder {
	f := Finder{header: ForwardedFor}
	for _, p := range prefixes {
		f.trusted = append(f.trusted, TrustedRange{Prefix: p})
	}
	f.trusted = named(f.trusted)
	return f
}

// Header is the name of the header that is believed, in canonical form.
func (f Finder) Header() string {
	if f.header == "" {
		return ForwardedFor
	}
	return f.header
}

// Hops is the hop count, 0 where prefixes decide alone.
func (f Finder) Hops() int { return f.hops }

// Ranges are those that are trusted. They must not be changed.
func (f Finder) Ranges() []TrustedRange { return f.trusted }

// Trusts says whether a peer is trusted; the zero Addr is a Unix socket.
func (f Finder) Trusts(a netip.Addr) bool {
	if !a.IsValid() {
		return f.unix
	}
	return f.trusts(a) != nil
}

func (f Finder) isList() bool { return f.Header() == ForwardedFor || f.header == Forwarded }

// elements reads the believed header.
func (f Finder) elements(name string, header map[string][]string) []element {
	lines := header[name]
	switch name {
	case ForwardedFor:
		return listElements(lines)
	case Forwarded:
		return forwardedElements(lines)
	}
	var list []element
	for _, line := range lines {
		if line = strings.Trim(line, " \t"); line != "" {
			list = append(list, element{text: line, address: unquote(line)})
		}
	}
	return list
}

func (f Finder) trusts(a netip.Addr) *TrustedRange {
	for i := range f.trusted {
		if f.trusted[i].Prefix.Contains(a) {
			return &f.trusted[i]
		}
	}
	return nil
}
