// Package checkup watches which peers send which forwarding headers and says
// what is wrong with a set-up, with evidence and the lines that mend it.
//
// It keeps counts in memory, for a bounded number of peers, and forgets them
// with the process. It is safe for concurrent use.
package checkup

import (
	"cmp"
	"fmt"
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
)

// enough is how many requests a judgement of a peer wants.
const enough = 20

// A State says whether a finding needs an eye.
type State string

// The states.
const (
	OK  State = "ok"
	Eye State = "eye"
)

// A Finding is one thing that was checked.
type Finding struct {
	Name  string   `json:"name"` // of the check, such as "untrusted-proxy"
	State State    `json:"state"`
	Title string   `json:"title"` // one sentence
	Text  string   `json:"text"`  // what it means, with figures
	Lines []string `json:"lines"` // of the configuration, to copy; none where nothing mends it
}

// PeerEvidence is what was seen of one peer.
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

// A Report is the verdict with its evidence.
type Report struct {
	State    State          `json:"state"`
	Title    string         `json:"title"`
	Since    time.Time      `json:"since"`
	Requests int            `json:"requests"`
	Findings []Finding      `json:"findings"`
	Peers    []PeerEvidence `json:"peers"` // those that asked most first
}

// A Watch counts. Make it with [NewWatch].
type Watch struct {
	header string
	since  time.Time

	mu    sync.Mutex
	peers map[netip.Addr]*seen
	total int
}

type seen struct {
	PeerEvidence
	visitors map[netip.Addr]struct{}
}

// NewWatch begins to watch; header is the one that is believed.
func NewWatch(header string, now time.Time) *Watch {
	return &Watch{header: header, since: now, peers: map[netip.Addr]*seen{}}
}

// forwarding are the headers that are counted.
var forwarding = []string{caller.ForwardedFor, caller.Forwarded, "X-Real-Ip"}

// Observe counts one request and what was found of it.
func (w *Watch) Observe(peer netip.Addr, header map[string][]string, trail caller.Trail) {
	peer = addr.Canonical(peer)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.total++
	p := w.peers[peer]
	if p == nil {
		if len(w.peers) >= maxPeers && !w.forgetOne() {
			return
		}
		p = &seen{visitors: map[netip.Addr]struct{}{}, PeerEvidence: PeerEvidence{Peer: "Unix socket", Headers: map[string]int{}}}
		if peer.IsValid() {
			kind := addr.KindOf(peer)
			p.Peer, p.Kind = peer.String(), &kind
		}
		w.peers[peer] = p
	}
	p.Requests++
	p.Trusted = len(trail.Hops) > 0 && trail.Hops[0].Source == "peer" && (trail.Hops[0].Verdict == caller.Trusted || trail.OwnNetwork)
	for _, name := range forwarding {
		if len(header[name]) > 0 {
			p.Headers[name]++
		}
	}
	if w.header != "" && len(header[w.header]) > 0 && !slices.Contains(forwarding, w.header) {
		p.Headers[w.header]++
	}
	switch {
	case len(header[w.header]) == 0:
		p.Absent++
	case trail.OwnNetwork:
		p.OwnOnly++
	case !trail.Visitor.IsValid():
		p.NotFound++
	}
	if p.Trusted && trail.Visitor.IsValid() && trail.Unverified() > 0 {
		p.Forged++
	}
	if p.Trusted && len(trail.Notes) > 0 && len(header[w.header]) > 0 {
		p.Disagreed++
	}
	if len(p.visitors) < maxVisitors && trail.Visitor.IsValid() {
		p.visitors[trail.Visitor.Addr] = struct{}{}
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

// Report judges what was seen so far.
func (w *Watch) Report() Report {
	w.mu.Lock()
	defer w.mu.Unlock()
	r := Report{State: OK, Since: w.since, Requests: w.total, Findings: []Finding{}, Peers: []PeerEvidence{}}
	for _, p := range w.peers {
		e := p.PeerEvidence
		e.Visitors = len(p.visitors)
		e.Headers = map[string]int{}
		for name, n := range p.Headers {
			e.Headers[name] = n
		}
		r.Peers = append(r.Peers, e)
	}
	slices.SortFunc(r.Peers, func(a, b PeerEvidence) int {
		return cmp.Or(b.Requests-a.Requests, cmp.Compare(a.Peer, b.Peer))
	})
	for _, p := range r.Peers {
		if p.Requests >= enough {
			r.Findings = append(r.Findings, w.judge(p)...)
		}
	}
	r.Findings = append(r.Findings, w.forged(r.Peers))
	for _, f := range r.Findings {
		if f.State == Eye {
			r.State = Eye
			r.Title = cmp.Or(r.Title, f.Title)
		}
	}
	switch {
	case r.Title != "":
	case w.total < enough:
		r.Title = "Too few requests came to judge the set-up."
	default:
		r.Title = "Visitors are found as they should be."
	}
	if len(r.Peers) > 20 {
		r.Peers = r.Peers[:20]
	}
	return r
}

// judge says what is wrong with one peer.
func (w *Watch) judge(p PeerEvidence) []Finding {
	var found []Finding
	share := func(n int) int { return 100 * n / p.Requests }
	most, count := "", 0 // the header it sends most
	for _, name := range forwarding {
		if p.Headers[name] > count {
			most, count = name, p.Headers[name]
		}
	}
	switch {
	case !p.Trusted && share(count) >= 90 && 20*p.Requests >= w.total:
		looks := "addresses"
		if p.Kind != nil {
			looks = p.Kind.String() + " address"
		}
		f := Finding{
			Name: "untrusted-proxy", State: Eye,
			Title: fmt.Sprintf("%s looks like a proxy, and is not trusted.", p.Peer),
			Text: fmt.Sprintf("%d%% of all requests come from %s, and %d%% of those carry %s, but it is not trusted: its visitors all look like one %s.",
				100*p.Requests/w.total, p.Peer, share(count), most, looks),
			Lines: w.lines(p.Peer, most),
		}
		found = append(found, f)
	case p.Trusted && share(p.Absent) >= 90:
		f := Finding{
			Name: "header-absent", State: Eye, Title: fmt.Sprintf("%s is trusted, but sends no %s.", p.Peer, w.header),
			Text:  fmt.Sprintf("%d of its %d requests had none, so the proxy itself is taken for the visitor.", p.Absent, p.Requests),
			Lines: []string{},
		}
		if share(count) >= 90 && most != w.header {
			f.Text += fmt.Sprintf(" It sends %s instead.", most)
			f.Lines = []string{"proxies:", "  header: " + most}
		}
		found = append(found, f)
	case p.Trusted && share(p.OwnOnly) >= 90:
		found = append(found, Finding{
			Name: "header-replaced", State: Eye, Title: fmt.Sprintf("%s replaces the header instead of extending it.", p.Peer),
			Text:  fmt.Sprintf("In %d of its %d requests %s names nobody but your own proxies: one of them writes the header anew, and the visitor is lost.", p.OwnOnly, p.Requests, w.header),
			Lines: []string{},
		})
	case p.Trusted && share(p.NotFound) >= 10:
		found = append(found, Finding{
			Name: "unreadable", State: Eye, Title: fmt.Sprintf("Behind %s many visitors are not found.", p.Peer),
			Text:  fmt.Sprintf("In %d of its %d requests a hop is no address, or the list is shorter than your hops.", p.NotFound, p.Requests),
			Lines: []string{},
		})
	}
	if p.Trusted && share(p.Disagreed) >= 10 {
		found = append(found, Finding{
			Name: "headers-disagree", State: Eye, Title: fmt.Sprintf("Behind %s two headers disagree.", p.Peer),
			Text:  fmt.Sprintf("In %d of its %d requests another forwarding header says something else than %s. Let the proxy remove what it does not write.", p.Disagreed, p.Requests, w.header),
			Lines: []string{},
		})
	}
	if len(found) == 0 && p.Trusted {
		found = append(found, Finding{
			Name: "trusted-proxy", State: OK, Title: fmt.Sprintf("%s is trusted and names its visitors.", p.Peer),
			Text: fmt.Sprintf("%d requests, %s.", p.Requests, visitorWords(p.Visitors)), Lines: []string{},
		})
	}
	return found
}

func visitorWords(n int) string {
	if n >= maxVisitors {
		return fmt.Sprintf("%d visitors and more", maxVisitors)
	}
	return fmt.Sprintf("%d visitors", n)
}

// lines of the configuration that trust a peer and believe a header.
func (w *Watch) lines(peer, header string) []string {
	entry := "unix"
	if p, err := addr.ParsePrefix(peer); err == nil {
		entry = p.String()
	}
	lines := []string{"proxies:"}
	if header != w.header {
		lines = append(lines, "  header: "+header)
	}
	return append(lines, "  trusted:", fmt.Sprintf("    - %q", entry))
}

// forged says whether clients send lists of their own; that harms nobody.
func (w *Watch) forged(peers []PeerEvidence) Finding {
	n := 0
	for _, p := range peers {
		n += p.Forged
	}
	f := Finding{Name: "forged-lists", State: OK, Title: "No client sent a list of its own.", Text: "Nothing stood left of a visitor.", Lines: []string{}}
	if n > 0 {
		f.Title = "Some clients send lists of their own."
		f.Text = fmt.Sprintf("In %d requests addresses stood left of the visitor. None was believed.", n)
	}
	return f
}

// Add puts another finding into a report; one that needs an eye decides the verdict,
// where none before it did.
func (r *Report) Add(f Finding) {
	if f.Lines == nil {
		f.Lines = []string{}
	}
	r.Findings = append(r.Findings, f)
	if f.State == Eye && r.State != Eye {
		r.State, r.Title = Eye, f.Title
	}
}
