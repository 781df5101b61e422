// Package caller finds the visitor of a request that came through proxies and
// explains every step of the way as a trail.
//
// Nothing is believed by default: the peer of the connection is the visitor. An
// owner who lists trusted proxies has the header that they write walked from
// the right, the nearest hop, to the left. Trusted hops are skipped, the first
// untrusted one is the visitor, and what stands left of it may have been
// written by anybody.
package caller

import (
	"fmt"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
)

// ForwardedFor is the header that is believed: a list of addresses which each
// proxy extends on the right with the address of its own peer.
const ForwardedFor = "X-Forwarded-For"

// maxHops bounds the hops that a trail spells out; the walk itself goes on.
const maxHops = 64

// maxText bounds, in bytes, how much of an unreadable hop is repeated.
const maxText = 64

// A Verdict says what was made of a hop.
type Verdict string

// The verdicts.
const (
	Trusted    Verdict = "trusted"    // one of the owner's proxies; skipped
	Visitor    Verdict = "visitor"    // the address that is believed
	Unverified Verdict = "unverified" // anybody may have written it
	Unreadable Verdict = "unreadable" // no address; the walk ends here
)

// How an address was obtained.
const (
	ObtainedPeer   = "peer"   // it is the other end of the connection
	ObtainedHeader = "header" // a trusted proxy wrote it into the header
)

// A Hop is one station of a request, seen from the service.
type Hop struct {
	// Source is "peer", or the name of the header; Index counts its elements
	// from the left, from 1, of Of. Both are 0 for the peer.
	Source string `json:"source"`
	Index  int    `json:"index"`
	Of     int    `json:"of"`
	// Text is the hop as it was written, at most 64 bytes, without control
	// characters.
	Text    string        `json:"text"`
	Address addr.Optional `json:"address"`
	Kind    *addr.Kind    `json:"kind"` // nil where Address is absent
	Verdict Verdict       `json:"verdict"`
	Rule    *string       `json:"rule"` // the trusted prefix that matched
	Reason  string        `json:"reason"`
}

// A Trail is the ordered hops of a request, from the peer back to the visitor
// and on to what stands left of it.
type Trail struct {
	// Visitor is absent where it was not found; Reason says why.
	Visitor  addr.Optional `json:"visitor"`
	Obtained string        `json:"obtained"`
	// OwnNetwork marks a visitor that is itself a trusted proxy, because every
	// hop was.
	OwnNetwork bool   `json:"own_network"`
	Reason     string `json:"reason"`
	Hops       []Hop  `json:"hops"`
	// Omitted counts the hops beyond the first 64.
	Omitted int      `json:"omitted"`
	Notes   []string `json:"notes"`
}

// Unverified counts the hops that anybody may have written.
func (t Trail) Unverified() int {
	n := t.Omitted
	for _, h := range t.Hops {
		if h.Verdict == Unverified {
			n++
		}
	}
	return n
}

// A Finder finds visitors under one setting of trust. It is immutable; the zero
// Finder trusts nobody.
type Finder struct{ trusted []netip.Prefix }

// New makes a Finder that trusts proxies whose address lies in one of the
// prefixes.
func New(trusted ...netip.Prefix) Finder { return Finder{trusted: trusted} }

// Find explains a request. The peer may be an IPv4-mapped address or have a
// zone; header holds the request's fields under their canonical names
// (textproto.CanonicalMIMEHeaderKey), several lines of a field in order of
// arrival. Whatever stands in the header, Find takes time linear in its length
// and keeps at most 64 hops.
func (f Finder) Find(peer netip.Addr, header map[string][]string) Trail {
	w := walk{trail: Trail{Hops: []Hop{}, Notes: []string{}}}
	peer = addr.Canonical(peer)
	list := elements(header[ForwardedFor])
	if !peer.IsValid() {
		w.trail.Reason = "The connection has no peer address."
		w.unverified(list, "Nobody is known to have written it.")
		return w.trail
	}
	first := Hop{Source: "peer", Text: peer.String()}
	rule, trusted := f.trusts(peer)
	if !trusted {
		reason := "The peer is not a trusted proxy, so it is the visitor."
		w.believe(first, peer, ObtainedPeer, reason)
		if len(list) > 0 {
			w.note("%s came from %s, which is not a trusted proxy: it was not believed.", ForwardedFor, peer)
		}
		w.unverified(list, "The peer is not trusted: anybody may have written it.")
		return w.trail
	}
	if len(list) == 0 {
		reason := fmt.Sprintf("%s is a trusted proxy, but it sent no %s: the proxy itself is taken for the visitor.", peer, ForwardedFor)
		w.believe(first, peer, ObtainedPeer, reason)
		w.trail.OwnNetwork = true
		w.note("A trusted proxy sent no %s. Check that it writes the header.", ForwardedFor)
		return w.trail
	}
	w.skip(first, peer, rule)
	f.walkLeft(&w, list)
	return w.trail
}

// walkLeft goes through the list from the right until it meets an address that
// no trusted proxy owns.
func (f Finder) walkLeft(w *walk, list []string) {
	for i := len(list) - 1; i >= 0; i-- {
		hop := Hop{Source: ForwardedFor, Index: i + 1, Of: len(list), Text: plain.Clean(list[i], maxText)}
		a, err := addr.Parse(unquote(list[i]))
		if err != nil {
			hop.Verdict, hop.Reason = Unreadable, "This is no address, so the walk ends here."
			w.add(hop)
			w.trail.Reason = fmt.Sprintf("Not found: hop %d of %d in %s is no address, and what stands left of it cannot be verified.",
				i+1, len(list), ForwardedFor)
			w.unverified(list[:i], "Left of an unreadable hop: anybody may have written it.")
			return
		}
		rule, trusted := f.trusts(a)
		switch {
		case !trusted:
			w.believe(hop, a, ObtainedHeader, "First address no trusted proxy owns. This one is believed.")
			w.unverified(list[:i], "Left of the visitor: anybody may have written it.")
			return
		case i == 0:
			w.trail.OwnNetwork = true
			w.believe(hop, a, ObtainedHeader, "Every hop is a trusted proxy: the farthest is the visitor, from your own network.")
			w.trail.Hops[len(w.trail.Hops)-1].Rule = rule
		default:
			w.skip(hop, a, rule)
		}
	}
}

func (f Finder) trusts(a netip.Addr) (rule *string, ok bool) {
	for _, p := range f.trusted {
		if p.Contains(a) {
			text := p.String()
			return &text, true
		}
	}
	return nil, false
}

// walk collects a trail.
type walk struct{ trail Trail }

func (w *walk) add(h Hop) {
	if len(w.trail.Hops) == maxHops {
		if h.Verdict != Visitor { // the visitor is always spelled out
			w.trail.Omitted++
			return
		}
		w.trail.Omitted++
		w.trail.Hops = w.trail.Hops[:maxHops-1]
	}
	w.trail.Hops = append(w.trail.Hops, h)
}

func (w *walk) at(h Hop, a netip.Addr) Hop {
	kind := addr.KindOf(a)
	h.Address, h.Kind = addr.Optional{Addr: a}, &kind
	return h
}

func (w *walk) skip(h Hop, a netip.Addr, rule *string) {
	h = w.at(h, a)
	h.Verdict, h.Rule, h.Reason = Trusted, rule, fmt.Sprintf("Matches %s, a trusted proxy: skipped.", *rule)
	w.add(h)
}

func (w *walk) believe(h Hop, a netip.Addr, obtained, reason string) {
	h = w.at(h, a)
	h.Verdict, h.Reason = Visitor, reason
	w.add(h)
	w.trail.Visitor, w.trail.Obtained, w.trail.Reason = h.Address, obtained, reason
}

func (w *walk) unverified(left []string, reason string) {
	total := len(left)
	if len(w.trail.Hops) > 0 && w.trail.Hops[len(w.trail.Hops)-1].Of > 0 {
		total = w.trail.Hops[len(w.trail.Hops)-1].Of
	}
	for i := len(left) - 1; i >= 0; i-- {
		if len(w.trail.Hops) >= maxHops {
			w.trail.Omitted += i + 1
			return
		}
		hop := Hop{Source: ForwardedFor, Index: i + 1, Of: total, Text: plain.Clean(left[i], maxText), Verdict: Unverified, Reason: reason}
		if a, err := addr.Parse(unquote(left[i])); err == nil {
			hop = w.at(hop, a)
		}
		w.add(hop)
	}
}

func (w *walk) note(format string, args ...any) {
	w.trail.Notes = append(w.trail.Notes, fmt.Sprintf(format, args...))
}

// elements reads the lines of a list header as one list, in order of arrival,
// without its empty elements (RFC 9110, section 5.6.1).
func elements(lines []string) []string {
	var list []string
	for _, line := range lines {
		for part := range strings.SplitSeq(line, ",") {
			if part = strings.Trim(part, " \t"); part != "" {
				list = append(list, part)
			}
		}
	}
	return list
}

func unquote(s string) string {
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		return s[1 : len(s)-1]
	}
	return s
}
