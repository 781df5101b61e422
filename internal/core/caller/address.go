package caller

import (
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
)

// Address gives the visitor of a request, as [Finder.Find] finds it, without
// the trail. It does not allocate where X-Forwarded-For holds plain addresses.
// The obtained word is "" and the address the zero Addr where the visitor was
// not found.
func (f Finder) Address(peer netip.Addr, header map[string][]string) (visitor netip.Addr, obtained string) {
	if peer == UnknownPeer {
		return netip.Addr{}, ""
	}
	peer = addr.Canonical(peer)
	if f.Header() != ForwardedFor || f.hops > 0 {
		t := f.Find(peer, header)
		return t.Visitor.Addr, t.Obtained
	}
	if !f.Trusts(peer) {
		return peer, obtainedOf(peer, ObtainedPeer)
	}
	lines := header[ForwardedFor]
	farthest := netip.Addr{} // the trusted hop that was met last
	for l := len(lines) - 1; l >= 0; l-- {
		for rest, more := lines[l], true; more; {
			part := rest
			if i := strings.LastIndexByte(rest, ','); i >= 0 {
				part, rest = rest[i+1:], rest[:i]
			} else {
				more = false
			}
			if part = strings.Trim(part, " \t"); part == "" {
				continue
			}
			a, ok := addr.Quick(unquote(part))
			if !ok {
				return netip.Addr{}, ""
			}
			if f.trusts(a) == nil {
				return a, ObtainedHeader
			}
			farthest = a
		}
	}
	if farthest.IsValid() {
		return farthest, ObtainedHeader
	}
	return peer, obtainedOf(peer, ObtainedPeer)
}

func obtainedOf(a netip.Addr, how string) string {
	if !a.IsValid() {
		return ""
	}
	return how
}
