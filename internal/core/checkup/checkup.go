// Package checkup watches which peers send which forwarding headers and says
// what is wrong with a set-up, with evidence and the lines that mend it.
//
// It keeps counts in memory, for a bounded number of peers, and forgets them
// with the process. It is safe for concurrent use.
package checkup

import (
	"net/netip"
	"slices"
	"sync"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
)

// Bounds of what is kept.
const (
	maxPeers    = 256
	maxVisitors = 64 // told apart for each peer
	maxLeft     = 16 // told apart for each visitor
)

// enough is how many requests a judgement wants.
const enough = 20

// A State says whether a finding needs attention.
type State string

// The states.
const (
	OK        State = "ok"
	Attention State = "attention"
	Unknown   State = "unknown" // too little was seen to judge
)

// Where the lines of a finding belong.
const (
	InConfiguration = "configuration" // ours
	InProxy         = "proxy"         // that of nginx, HAProxy or another
	InShell         = "shell"         // a command of ours
)

// A Diagnostic is one thing that was checked.
type Diagnostic struct {
	Name  string   `json:"name"` // of the check, such as "untrusted-proxy"
	State State    `json:"state"`
	Title string   `json:"title"` // one sentence
	Text  string   `json:"text"`  // what it means, with figures
	Where string   `json:"where"` // the lines belong; "" where there are none
	Lines []string `json:"lines"` // to copy; those that begin with # are for somebody to decide
}

// PeerEvidence is what was seen of one peer, or of all untrusted ones of a truncated
// address.
type PeerEvidence struct {
	Peer      string         `json:"peer"` // "Unix socket" for one
	Kind      *addr.Kind     `json:"kind"`
	Trusted   bool           `json:"trusted"`
	Requests  int            `json:"requests"`
	Headers   map[string]int `json:"headers"`  // requests that had each
	Visitors  int            `json:"visitors"` // told apart, at most 64
	Absent    int            `json:"absent"`   // had no believed header
	OwnOnly   int            `json:"own_only"` // every hop was a trusted proxy
	NotFound  int            `json:"not_found"`
	Forged    int            `json:"forged"`    // had addresses left of the visitor
	Disagreed int            `json:"disagreed"` // another header said something else
}

// A Result is the verdict with its evidence.
type Result struct {
	State    State          `json:"state"`
	Title    string         `json:"title"`
	Since    time.Time      `json:"since"`
	Requests int            `json:"requests"`
	Findings []Diagnostic   `json:"findings"`
	Peers    []PeerEvidence `json:"peers"` // those that asked most first
}

// A Watch counts. Make it with [NewWatch].
type Watch struct {
	finder caller.Finder
	whole  bool
	since  time.Time

	mu         sync.Mutex
	peers      map[netip.Addr]*seen
	mismatches map[mismatch]int
	total      int
}

// seen is what is known of one peer.
type seen struct {
	PeerEvidence
	address  netip.Addr
	visitors map[netip.Addr]*visitorSeen // bounded by maxVisitors; some who came once are forgotten
	last     map[netip.Addr]struct{}     // at the right end of a header, whoever wrote it
	lengths  map[int]int                 // of the believed list, where it was too short for the hops
}

// visitorSeen is one address that was found behind a peer.
type visitorSeen struct {
	requests, followed int // in all, and with others to its left
	left               map[netip.Addr]struct{}
	own                int // times that it was a trusted proxy
}

// mismatch is a connection whose beginning was not what was agreed on.
type mismatch struct {
	peer    netip.Addr
	missing bool
}

// NewWatch begins to watch what a finder makes of requests. whole says that addresses of
// visitors may be shown; else only those of trusted proxies, and of peers that cannot be
// anybody from outside, stand whole in reports.
func NewWatch(finder caller.Finder, whole bool, now time.Time) *Watch {
	return &Watch{finder: finder, whole: whole, since: now, peers: map[netip.Addr]*seen{}, mismatches: map[mismatch]int{}}
}

// Restart forgets what was seen, and goes on with another finder, since the set-up has changed.
func (w *Watch) Restart(finder caller.Finder, whole bool, now time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.finder, w.whole, w.since, w.total = finder, whole, now, 0
	w.peers, w.mismatches = map[netip.Addr]*seen{}, map[mismatch]int{}
}

// forwarding are the headers that are counted.
var forwarding = []string{caller.ForwardedFor, caller.Forwarded, "X-Real-Ip"}

// Observe counts one request and what was found of it.
func (w *Watch) Observe(peer netip.Addr, header map[string][]string, trail caller.Trail) {
	if peer != caller.UnknownPeer {
		peer = addr.Canonical(peer)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.total++
	p := w.peers[peer]
	if p == nil {
		if len(w.peers) >= maxPeers && !w.forgetOne() {
			return
		}
		p = w.begin(peer)
	}
	p.Requests++
	believed := w.finder.Header()
	for _, name := range forwarding {
		if len(header[name]) > 0 {
			p.Headers[name]++
		}
	}
	if len(header[believed]) > 0 && !slices.Contains(forwarding, believed) {
		p.Headers[believed]++
	}
	switch {
	case len(header[believed]) == 0:
		p.Absent++
	case trail.OwnNetwork:
		p.OwnOnly++
	case !trail.Visitor.IsValid():
		p.NotFound++
		if n := listed(trail); w.finder.Hops() > n && len(p.lengths) < maxLeft {
			p.lengths[n]++
		}
	}
	if p.Trusted && trail.Visitor.IsValid() && trail.Unverified() > 0 {
		p.Forged++
	}
	if p.Trusted && len(trail.Notes) > 0 && len(header[believed]) > 0 {
		p.Disagreed++
	}
	if a := nearest(trail); a.IsValid() && len(p.last) < maxVisitors {
		p.last[a] = struct{}{}
	}
	if trail.Visitor.IsValid() && (len(header[believed]) > 0 || !p.Trusted) {
		p.visitor(trail)
	}
}

func (w *Watch) begin(peer netip.Addr) *seen {
	p := &seen{address: peer, visitors: map[netip.Addr]*visitorSeen{}, last: map[netip.Addr]struct{}{}, lengths: map[int]int{}}
	p.PeerEvidence = PeerEvidence{Peer: w.show(peer), Trusted: peer != caller.UnknownPeer && w.finder.Trusts(peer), Headers: map[string]int{}}
	if peer.IsValid() && peer != caller.UnknownPeer {
		kind := addr.KindOf(peer)
		p.Kind = &kind
	}
	w.peers[peer] = p
	return p
}

// listed is how many entries a trail's list had.
func listed(t caller.Trail) int {
	for _, h := range t.Hops {
		if h.Of > 0 {
			return h.Of
		}
	}
	return 0
}

// nearest is the address at the right end of the list, which the peer wrote if it is a
// proxy that extends it.
func nearest(t caller.Trail) netip.Addr {
	for _, h := range t.Hops {
		if h.Of > 0 {
			return h.Address.Addr
		}
	}
	return netip.Addr{}
}

// visitor counts who was found.
func (p *seen) visitor(t caller.Trail) {
	v := p.visitors[t.Visitor.Addr]
	if v == nil {
		if len(p.visitors) >= maxVisitors {
			p.forgetVisitor()
		}
		if len(p.visitors) >= maxVisitors {
			return
		}
		v = &visitorSeen{left: map[netip.Addr]struct{}{}}
		p.visitors[t.Visitor.Addr] = v
		p.Visitors = min(p.Visitors+1, maxVisitors)
	}
	v.requests++
	if t.OwnNetwork {
		v.own++
	}
	at := slices.IndexFunc(t.Hops, func(h caller.Hop) bool { return h.Verdict == caller.Visitor })
	if at < 0 || at+1 >= len(t.Hops) {
		return
	}
	v.followed++
	if next := t.Hops[at+1].Address.Addr; next.IsValid() && len(v.left) < maxLeft {
		v.left[next] = struct{}{}
	}
}

// forgetVisitor makes room by forgetting a visitor who came once, where one is found soon.
func (p *seen) forgetVisitor() {
	tries := 8
	for a, v := range p.visitors {
		if v.requests == 1 {
			delete(p.visitors, a)
			return
		}
		if tries--; tries == 0 {
			return
		}
	}
}

// forgetOne makes room by forgetting a peer that asked once; strangers who come
// from everywhere do not push out a proxy.
func (w *Watch) forgetOne() bool {
	for a, p := range w.peers {
		if p.Requests == 1 {
			delete(w.peers, a)
			return true
		}
	}
	return false
}

// Mismatch counts a connection of a peer that should have sent the PROXY protocol and did
// not (missing), or that sent it and should not have.
func (w *Watch) Mismatch(peer netip.Addr, missing bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	m := mismatch{addr.Canonical(peer), missing}
	if _, known := w.mismatches[m]; known || len(w.mismatches) < maxVisitors {
		w.mismatches[m]++
	}
}

// maxProxyRange is how many bits of addresses a range may have that can be thought to hold
// proxies and no visitors.
const maxProxyRange = 12

// near says whether an address can be nobody from outside: it is of this machine or of a
// private network. The zero Addr is a Unix socket.
func near(a netip.Addr) bool {
	if !a.IsValid() {
		return true
	}
	switch addr.KindOf(a) {
	case addr.Loopback, addr.Private, addr.LinkLocal:
		return a != caller.UnknownPeer
	}
	return false
}

// show writes an address as it may stand in a report.
func (w *Watch) show(a netip.Addr) string {
	switch {
	case !a.IsValid():
		return "Unix socket"
	case a == caller.UnknownPeer:
		return "not said (PROXY protocol)"
	case w.whole || near(a):
		return a.String()
	}
	for _, t := range w.finder.Ranges() {
		if t.Prefix.Contains(a) && t.Prefix.Bits() >= a.BitLen()-maxProxyRange {
			return a.String()
		}
	}
	return addr.TruncatePrefix(netip.PrefixFrom(a, a.BitLen())).String()
}
