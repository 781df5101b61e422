// Package caller finds the visitor of a request that came through proxies and
// explains every step of the way as a trail.
//
// Nothing is believed by default: the peer of the connection is the visitor. An
// owner who lists trusted proxies has the one header that they write walked
// from the right, the nearest hop, to the left. Trusted hops are skipped, the
// first untrusted one is the visitor, and what stands left of it may have been
// written by anybody. [Finder.Find] explains that as a [Trail];
// [Finder.Address] gives the address alone and does not allocate.
package caller

import (
	"fmt"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
)

// maxHops bounds the hops that a trail spells out; the walk itself goes on.
const maxHops = 64

// maxText bounds, in bytes, how much of an unreadable hop is repeated.
const maxText = 64

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
	ObtainedGiven  = "given"  // whoever asks or reports gave it
	// ObtainedRehearsed is of a visit that was made up.
	ObtainedRehearsed = "rehearsed"
)

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

// A Finder finds visitors under one setting of trust. It is immutable and safe
// for concurrent use; the zero Finder trusts nobody.
type Finder struct {
	trusted []TrustedRange
	unix    bool
	header  string // canonical; "" is X-Forwarded-For
	hops    int
	labels  addr.Labels
}

// UnknownPeer is the peer of a connection whose proxy does not say, by the PROXY
// protocol, who is there. It is never a visitor, and what it sends is not believed.
var UnknownPeer = netip.IPv6Unspecified().WithZone("unknown")

// UnknownRemote is how a server writes [UnknownPeer] as the address of a connection.
const UnknownRemote = "unknown peer"

// PeerOf reads the address of a connection as net/http gives it: that and a port, or
// what stands for a Unix socket, which is the zero Addr, or [UnknownRemote].
func PeerOf(remote string) netip.Addr {
	if remote == UnknownRemote {
		return UnknownPeer
	}
	at, err := netip.ParseAddrPort(remote)
	if err != nil {
		return netip.Addr{}
	}
	return addr.Canonical(at.Addr())
}

// Find explains a request. The peer may be an IPv4-mapped address or have a
// zone, and is the zero Addr for a Unix socket, or [UnknownPeer]; header holds the request's
// fields under their canonical names (textproto.CanonicalMIMEHeaderKey), several
// lines of a field in order of arrival. Whatever stands in the header, Find
// takes time linear in its length and keeps at most 64 hops.
func (f Finder) Find(peer netip.Addr, header map[string][]string) Trail {
	list := f.elements(f.Header(), header)
	w := walk{source: f.Header(), labels: f.labels, trail: Trail{Hops: make([]Hop, 0, min(len(list)+1, maxHops)), Notes: []string{}}}
	if peer == UnknownPeer {
		w.add(Hop{Source: "peer", Text: "unknown", Verdict: Unreadable, Reason: "The proxy does not say who connected, so nothing is believed."})
		w.trail.Reason = "Not found: the PROXY protocol does not say who connected."
		w.unverified(list, "Nobody is known to have written it.")
		return w.trail
	}
	f.start(&w, addr.Canonical(peer), list, len(header[f.Header()]))
	f.compare(&w, header)
	return w.trail
}

// Given is the trail to a visitor whom the reporting server knows.
func (f Finder) Given(visitor netip.Addr) Trail {
	w := walk{labels: f.labels, trail: Trail{Hops: []Hop{}, Notes: []string{}}}
	w.believe(Hop{Source: "given", Text: visitor.String()}, addr.Canonical(visitor), ObtainedGiven, "The reporting server gave the visitor's address.")
	return w.trail
}

// start deals with the peer, and walks the list where the peer is trusted.
func (f Finder) start(w *walk, peer netip.Addr, list []element, lines int) {
	first := Hop{Source: "peer", Text: peer.String()}
	if !peer.IsValid() {
		first.Text = "Unix socket"
	}
	if !f.Trusts(peer) {
		if !peer.IsValid() {
			w.trail.Reason = "Not found: the connection has no peer address, and its socket is not trusted."
			w.unverified(list, "Nobody is known to have written it.")
			return
		}
		w.believe(first, peer, ObtainedPeer, "The peer is not a trusted proxy, so it is the visitor.")
		if len(list) > 0 {
			w.note("%s came from %s, which is not a trusted proxy: it was ignored.", w.source, peer)
		}
		w.unverified(list, "The peer is not trusted: anybody may have written it.")
		return
	}
	if len(list) == 0 {
		w.note("A trusted proxy sent no %s. Check that it writes the header.", w.source)
		if !peer.IsValid() {
			w.trail.Reason = fmt.Sprintf("Not found: the Unix socket is trusted, but no %s came through it.", w.source)
			return
		}
		w.believe(first, peer, ObtainedPeer, fmt.Sprintf("%s is a trusted proxy, but it sent no %s: the proxy itself is taken for the visitor.", peer, w.source))
		w.trail.OwnNetwork = true
		return
	}
	w.skip(first, peer, f.ruleOf(peer))
	switch {
	case !f.isList():
		f.single(w, list, lines)
	case f.hops > 0:
		f.count(w, list)
	default:
		f.walkLeft(w, list)
	}
}

func (f Finder) ruleOf(a netip.Addr) string {
	if rule := f.trusts(a); rule != nil {
		return rule.rule
	}
	return "unix"
}

// walkLeft goes through the list from the right until it meets an address that
// no trusted proxy owns.
func (f Finder) walkLeft(w *walk, list []element) {
	for i := len(list) - 1; i >= 0; i-- {
		hop := w.hop(list, i)
		a, err := addr.Parse(list[i].address)
		if err != nil {
			w.unreadable(hop, list, i)
			return
		}
		rule := f.trusts(a)
		switch {
		case rule == nil:
			w.believe(hop, a, ObtainedHeader, "First address no trusted proxy owns. This one is believed.")
			w.unverified(list[:i], "Left of the visitor: anybody may have written it.")
			return
		case i == 0:
			w.own(hop, a, rule.rule, "Every hop is a trusted proxy: the farthest is the visitor, from your own network.")
		default:
			w.skip(hop, a, rule.rule)
		}
	}
}

// count takes the entry at a place of the list, counted from the right. A broken line at
// that place, or right of it, hides how many entries it holds: nothing can be counted
// beyond it.
func (f Finder) count(w *walk, list []element) {
	at := len(list) - f.hops
	for i := len(list) - 1; i >= 0 && i > at; i-- {
		hop := w.hop(list, i)
		if list[i].broken {
			w.unreadable(hop, list, i)
			return
		}
		rule := plain.Count(f.hops, "hop")
		hop.Verdict, hop.Rule, hop.Reason = Trusted, &rule, fmt.Sprintf("One of your %s: skipped.", rule)
		if a, err := addr.Parse(list[i].address); err == nil {
			hop = w.at(hop, a)
		}
		w.add(hop)
	}
	if at < 0 {
		w.trail.Reason = fmt.Sprintf("Not found: %s has %s, and the visitor stands at place %d from the right.", w.source, plain.Count(len(list), "entry"), f.hops)
		return
	}
	hop := w.hop(list, at)
	a, err := addr.Parse(list[at].address)
	if err != nil {
		w.unreadable(hop, list, at)
		return
	}
	reason := fmt.Sprintf("Entry %d from the right, as many as your hops. This one is believed.", f.hops)
	if rule := f.trusts(a); rule != nil {
		w.own(hop, a, rule.rule, reason+" It is a proxy of yours.")
	} else {
		w.believe(hop, a, ObtainedHeader, reason)
	}
	w.unverified(list[:at], "Left of the visitor: anybody may have written it.")
}

// single reads a header that holds one address.
func (f Finder) single(w *walk, list []element, lines int) {
	if lines > 1 {
		for i := len(list) - 1; i >= 0; i-- {
			hop := w.hop(list, i)
			hop.Verdict, hop.Reason = Unreadable, "The header was sent more than once, so none of it is believed."
			w.add(hop)
		}
		w.trail.Reason = fmt.Sprintf("Not found: %s was sent %d times, and holds one value.", w.source, lines)
		return
	}
	hop := w.hop(list, 0)
	a, err := addr.Parse(list[0].address)
	if err != nil {
		w.unreadable(hop, list, 0)
		return
	}
	if rule := f.trusts(a); rule != nil {
		w.own(hop, a, rule.rule, "The trusted proxy names a proxy of yours as the visitor.")
		return
	}
	w.believe(hop, a, ObtainedHeader, "The trusted proxy names it as the visitor.")
}

// others are the headers that are looked at for a disagreement.
var others = []string{ForwardedFor, Forwarded, "X-Real-Ip"}

// compare notes headers that are not believed and say something else.
func (f Finder) compare(w *walk, header map[string][]string) {
	for _, name := range others {
		if name == w.source || len(header[name]) == 0 {
			continue
		}
		list := f.elements(name, header)
		if len(list) == 0 {
			continue
		}
		last := list[len(list)-1]
		a, err := addr.Parse(last.address)
		switch {
		case err != nil:
			w.note("%s is not the header you believe, and hides its address: it changes nothing.", name)
		case a != w.trail.Visitor.Addr:
			w.note("%s says %s. It is not the header you believe, so it changes nothing.", name, a)
		}
	}
}

// walk collects a trail.
type walk struct {
	source string // the believed header
	labels addr.Labels
	trail  Trail
}

func (w *walk) hop(list []element, i int) Hop {
	return Hop{Source: w.source, Index: i + 1, Of: len(list), Text: plain.Clean(list[i].text, maxText)}
}

func (w *walk) add(h Hop) {
	if h.Labels == nil {
		h.Labels = []string{}
	}
	if len(w.trail.Hops) == maxHops {
		w.trail.Omitted++
		if h.Verdict != Visitor { // the visitor is always spelled out
			return
		}
		w.trail.Hops = w.trail.Hops[:maxHops-1]
	}
	w.trail.Hops = append(w.trail.Hops, h)
}

func (w *walk) at(h Hop, a netip.Addr) Hop {
	if a.IsValid() {
		kind := addr.KindOf(a)
		h.Address, h.Kind, h.Labels = addr.Optional{Addr: a}, &kind, w.labels.Of(a)
	}
	return h
}

func (w *walk) skip(h Hop, a netip.Addr, rule string) {
	h = w.at(h, a)
	h.Verdict, h.Rule, h.Reason = Trusted, &rule, "Matches "+rule+", a trusted proxy."
	w.add(h)
}

func (w *walk) believe(h Hop, a netip.Addr, obtained, reason string) {
	h = w.at(h, a)
	h.Verdict, h.Reason = Visitor, reason
	w.add(h)
	w.trail.Visitor, w.trail.Obtained, w.trail.Reason = h.Address, obtained, reason
}

// own believes an address that is a trusted proxy's.
func (w *walk) own(h Hop, a netip.Addr, rule, reason string) {
	h.Rule = &rule
	w.trail.OwnNetwork = true
	w.believe(h, a, ObtainedHeader, reason)
}

func (w *walk) unreadable(h Hop, list []element, i int) {
	h.Verdict, h.Reason = Unreadable, "This is not an address, so the walk ends here."
	w.add(h)
	w.trail.Reason = fmt.Sprintf("Not found: hop %d of %d in %s is not an address, and what stands left of it cannot be verified.",
		i+1, len(list), w.source)
	w.unverified(list[:i], "Left of an unreadable hop: anybody may have written it.")
}

func (w *walk) unverified(left []element, reason string) {
	total := len(left)
	if n := len(w.trail.Hops); n > 0 && w.trail.Hops[n-1].Of > 0 {
		total = w.trail.Hops[n-1].Of
	}
	for i := len(left) - 1; i >= 0; i-- {
		if len(w.trail.Hops) >= maxHops {
			w.trail.Omitted += i + 1
			return
		}
		hop := w.hop(left, i)
		hop.Of, hop.Verdict, hop.Reason = total, Unverified, reason
		if a, err := addr.Parse(left[i].address); err == nil {
			hop = w.at(hop, a)
		}
		w.add(hop)
	}
}

func (w *walk) note(format string, args ...any) {
	w.trail.Notes = append(w.trail.Notes, fmt.Sprintf(format, args...))
}

// Request makes up a request of a visitor as it would come through the trusted proxies: what [Finder.Find]
// finds that visitor in.
func (f Finder) Request(visitor netip.Addr) (peer netip.Addr, header map[string][]string) {
	visitor = addr.Canonical(visitor)
	if len(f.trusted) == 0 || !visitor.IsValid() {
		return visitor, map[string][]string{}
	}
	peer = f.trusted[0].Prefix.Addr()
	return peer, map[string][]string{f.Header(): {elementOf(f.Header(), visitor) + strings.Repeat(", "+elementOf(f.Header(), peer), max(0, f.hops-1))}}
}

func elementOf(header string, a netip.Addr) string {
	switch {
	case header != "Forwarded":
		return a.String()
	case a.Is6():
		return `for="[` + a.String() + `]"`
	}
	return "for=" + a.String()
}
