package checkup

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/plain"
)

// Report judges what was seen so far.
func (w *Watch) Result() Result {
	w.mu.Lock()
	defer w.mu.Unlock()
	peers := slices.SortedFunc(maps.Values(w.peers), func(a, b *seen) int {
		return cmp.Or(b.Requests-a.Requests, a.address.Compare(b.address))
	})
	r := Result{State: OK, Since: w.since, Requests: w.total, Findings: []Diagnostic{}, Peers: evidence(peers)}
	r.Findings = append(r.Findings, w.trustsEverybody()...)
	r.Findings = append(r.Findings, w.protocol()...)
	for _, p := range peers {
		switch {
		case p.Requests < enough:
		case p.Trusted:
			r.Findings = append(r.Findings, w.judgeTrusted(p)...)
		default:
			r.Findings = append(r.Findings, w.judgeStranger(p)...)
		}
	}
	r.Findings = append(r.Findings, w.scattered(peers)...)
	r.Findings = append(r.Findings, w.forged(peers))
	for i, f := range r.Findings {
		if f.Lines == nil {
			r.Findings[i].Lines = []string{}
		}
		if f.State == Attention {
			r.State = Attention
			r.Title = cmp.Or(r.Title, f.Title)
		}
	}
	visitors := map[netip.Addr]struct{}{}
	for _, p := range peers {
		for a := range p.visitors {
			visitors[a] = struct{}{}
		}
	}
	switch {
	case r.Title != "":
	case w.total < enough:
		r.State, r.Title = Unknown, "Too few requests came to judge the set-up."
	case len(visitors) < 2:
		r.State, r.Title = Unknown, "All requests come from one visitor, which is too few to judge the set-up."
	default:
		r.Title = "Visitors are found as they should be."
	}
	return r
}

// evidence gives the rows of peers, those of one truncated address as one, at most 20.
func evidence(peers []*seen) []PeerEvidence {
	rows := []PeerEvidence{}
	at := map[string]int{}
	for _, p := range peers {
		i, known := at[p.Peer]
		if !known {
			row := p.PeerEvidence
			row.Headers = maps.Clone(p.Headers)
			at[p.Peer] = len(rows)
			rows = append(rows, row)
			continue
		}
		row := &rows[i]
		row.Requests += p.Requests
		row.Visitors = min(row.Visitors+p.Visitors, maxVisitors)
		row.Absent += p.Absent
		row.NotFound += p.NotFound
		for name, n := range p.Headers {
			row.Headers[name] += n
		}
	}
	slices.SortStableFunc(rows, func(a, b PeerEvidence) int { return b.Requests - a.Requests })
	return rows[:min(len(rows), 20)]
}

// most is the header that a peer sends most.
func (p *seen) most() (name string, count int) {
	for _, n := range forwarding {
		if p.Headers[n] > count {
			name, count = n, p.Headers[n]
		}
	}
	return name, count
}

func (p *seen) share(n int) int { return 100 * n / p.Requests }

// isMany says whether so many requests of a peer are more than an accident.
func (p *seen) isMany(n int) bool { return n >= 3 && p.share(n) >= 10 }

// judgeStranger says what is wrong with a peer that is not trusted.
func (w *Watch) judgeStranger(p *seen) []Diagnostic {
	header, count := p.most()
	part := 100 * p.Requests / w.total
	switch {
	case p.address == caller.UnknownPeer:
		return []Diagnostic{{
			Name: "nobody-named", State: Attention, Title: "The PROXY protocol often does not say who connected.",
			Text:  fmt.Sprintf("In %s it said UNKNOWN, LOCAL or a Unix socket, so the visitor was not found.", plain.Count(p.Requests, "request")),
			Where: InProxy, Lines: []string{"# HAProxy: its own requests, other than to /livez and /readyz, have no visitor;", "# clients must reach it by TCP, and the line must end so:", "server porch 127.0.0.1:8080 send-proxy-v2"},
		}}
	case near(p.address) && p.isMany(count):
		looks := "address of this machine"
		if p.Kind != nil && *p.Kind != addr.Loopback {
			looks = p.Kind.String() + " address"
		} else if p.Kind != nil {
			looks = "loopback address"
		}
		return []Diagnostic{{
			Name: "untrusted-proxy", State: Attention, Title: fmt.Sprintf("%s looks like a proxy, and is not trusted.", p.Peer),
			Text: fmt.Sprintf("%d%% of all requests come from %s, and %d%% of those carry %s, but it is not trusted: its visitors all look like one %s.",
				part, p.Peer, p.share(count), header, looks),
			Where: InConfiguration, Lines: w.trust(p.address, header),
		}}
	case p.share(count) >= 90 && len(p.last) >= 5 && part >= 5:
		return []Diagnostic{{
			Name: "untrusted-proxy", State: Attention, Title: fmt.Sprintf("%s may be a proxy of yours, and is not trusted.", p.Peer),
			Text: fmt.Sprintf("%d%% of all requests come from there, and %d%% of those carry %s, which names %s. If it is a load balancer or CDN of yours, its visitors all look like one. If it is a stranger, who may write what they like, nothing is wrong: none of it was believed. %s",
				part, p.share(count), header, visitorWords(len(p.last)), howToCheck),
			Where: InConfiguration, Lines: w.trust(p.address, header),
		}}
	case near(p.address) && count == 0 && part >= 90:
		return []Diagnostic{{
			Name: "one-peer", State: Attention, Title: fmt.Sprintf("Nearly all requests come from %s, and none says for whom.", p.Peer),
			Text: fmt.Sprintf("%d of %d requests come from %s without a forwarding header. If a proxy runs there, let it send %s and trust it. If it is you who asks, from this machine or a network of yours, ask from elsewhere and look again.",
				p.Requests, w.total, p.Peer, w.finder.Header()),
			Where: InConfiguration, Lines: append([]string{"# Only if a proxy runs at " + p.Peer + ":"}, append(w.trust(p.address, w.finder.Header()), commented(proxyLines(w.finder.Header()))...)...),
		}}
	}
	return nil
}

const howToCheck = "Check first: look for the address in the settings of your balancer, or in the list that your CDN publishes."

// judgeTrusted says what is wrong with a trusted proxy, or that nothing is.
func (w *Watch) judgeTrusted(p *seen) []Diagnostic {
	var found []Diagnostic
	header := w.finder.Header()
	switch {
	case p.share(p.Absent) >= 90:
		f := Diagnostic{
			Name: "header-absent", State: Attention, Title: fmt.Sprintf("%s is trusted, but sends no %s.", p.Peer, header),
			Text:  fmt.Sprintf("%d of its %d requests had none, so the proxy itself is taken for the visitor.", p.Absent, p.Requests),
			Where: InProxy, Lines: proxyLines(header),
		}
		if other, count := p.most(); p.share(count) >= 90 && other != header {
			f.Text += fmt.Sprintf(" It sends %s instead. Check first that the proxy writes that itself, and does not merely pass on what clients send.", other)
			f.Where, f.Lines = InConfiguration, []string{"proxies:", "  header: " + spelled(other)}
		}
		found = append(found, f)
	case p.isMany(p.Absent):
		found = append(found, Diagnostic{
			Name: "header-sometimes", State: Attention, Title: fmt.Sprintf("%s sends no %s in many requests.", p.Peer, header),
			Text: fmt.Sprintf("%d of its %d requests had none: in those the proxy itself is taken for the visitor, and where it does not write the header, it passes on what a client writes, which is believed. Perhaps only some of its locations or backends set it.",
				p.Absent, p.Requests),
			Where: InProxy, Lines: proxyLines(header),
		})
	}
	found = append(found, w.judgeNotFound(p)...)
	found = append(found, w.judgeVisitors(p)...)
	if p.isMany(p.Disagreed) {
		found = append(found, Diagnostic{
			Name: "headers-disagree", State: Attention, Title: fmt.Sprintf("Behind %s two headers disagree.", p.Peer),
			Text:  fmt.Sprintf("In %d of its %d requests another forwarding header says something else than %s. It changes nothing here; an application that reads it may be misled. Let the proxy remove what it does not write.", p.Disagreed, p.Requests, header),
			Where: InProxy, Lines: removingLines(header, p.Headers),
		})
	}
	if len(found) == 0 {
		found = append(found, Diagnostic{
			Name: "trusted-proxy", State: OK, Title: fmt.Sprintf("%s is trusted and names its visitors.", p.Peer),
			Text: fmt.Sprintf("%s, %s.", plain.Count(p.Requests, "request"), visitorWords(p.Visitors)),
		})
	}
	return found
}

// judgeNotFound says why visitors behind a trusted proxy are not found.
func (w *Watch) judgeNotFound(p *seen) []Diagnostic {
	if !p.isMany(p.NotFound) {
		return nil
	}
	short, usual := 0, 0
	for n, count := range p.lengths {
		short += count
		if count > p.lengths[usual] || usual == 0 {
			usual = n
		}
	}
	if hops := w.finder.Hops(); 2*short >= p.NotFound && usual > 0 {
		return []Diagnostic{{
			Name: "hops-too-many", State: Attention, Title: "The hop count is too high.",
			Text: fmt.Sprintf("In %d of the %d requests of %s the list has fewer entries than your %d hops, most often %d: their visitors are not found, and whoever sends a made-up entry is believed.",
				short, p.Requests, p.Peer, hops, usual),
			Where: InConfiguration, Lines: []string{"proxies:", fmt.Sprintf("  hops: %d", usual)},
		}}
	}
	return []Diagnostic{{
		Name: "unreadable", State: Attention, Title: fmt.Sprintf("Behind %s many visitors are not found.", p.Peer),
		Text:  fmt.Sprintf("In %d of its %d requests a hop that one of your proxies wrote, or should have written, is not an address.", p.NotFound, p.Requests),
		Where: InProxy, Lines: append([]string{"# In the proxy that writes \"unknown\" or a made-up name in place of its peer:"}, proxyLines(w.finder.Header())...),
	}}
}

// judgeVisitors looks for one visitor behind a trusted proxy who stands for many, and for
// visitors whom the owner trusts.
func (w *Watch) judgeVisitors(p *seen) []Diagnostic {
	var found []Diagnostic
	hops, public, ofPublic := w.finder.Hops(), 0, 0
	for _, a := range slices.SortedFunc(maps.Keys(p.visitors), func(a, b netip.Addr) int {
		return cmp.Or(p.visitors[b].requests-p.visitors[a].requests, a.Compare(b))
	}) {
		v := p.visitors[a]
		if v.own > 0 && !near(a) {
			public++
			ofPublic += v.own
		}
		if v.requests < enough || p.share(v.requests) < 20 {
			continue
		}
		isProxy := 10*v.followed >= 9*v.requests && len(v.left) >= 5
		switch {
		case isProxy && hops > 0:
			lines := []string{"proxies:", fmt.Sprintf("  hops: %d", hops+1)}
			text := fmt.Sprintf("In %d of the %d requests of %s the visitor is %s, and %d others and more stand to its left.", v.requests, p.Requests, p.Peer, w.show(a), len(v.left))
			if v.own < v.requests && !near(a) {
				lines = commented(lines)
				text += " If it is a proxy of yours, all its visitors look like one. If it is a stranger, who may write what they like, nothing is wrong, and a higher count would have them believed. " + howToCheck
			}
			found = append(found, Diagnostic{Name: "hops-too-few", State: Attention, Title: "The hop count looks too low.", Text: text, Where: InConfiguration, Lines: lines})
		case isProxy && v.own < v.requests:
			f := Diagnostic{
				Name: "untrusted-proxy", State: Attention, Title: fmt.Sprintf("%s, before %s, looks like a proxy that is not trusted.", w.show(a), p.Peer),
				Text: fmt.Sprintf("In %d of the %d requests of %s the visitor is %s, and %d others and more stand to its left: its visitors all look like one.",
					v.requests, p.Requests, p.Peer, w.show(a), len(v.left)),
				Where: InConfiguration, Lines: w.trust(a, w.finder.Header()),
			}
			if !near(a) {
				f.Title = fmt.Sprintf("%s, before %s, may be a proxy of yours.", w.show(a), p.Peer)
				f.Text = strings.TrimSuffix(f.Text, ": its visitors all look like one.") + ". If it is a load balancer or CDN of yours, its visitors all look like one. If it is a stranger, who may write what they like, nothing is wrong: none of it was believed. " + howToCheck
			}
			found = append(found, f)
		case v.own == v.requests && v.followed == 0 && p.share(v.requests) >= 20:
			found = append(found, Diagnostic{
				Name: "nobody-before", State: Attention, Title: fmt.Sprintf("Nobody stands before %s, a proxy of yours.", w.show(a)),
				Text: fmt.Sprintf("In %d of the %d requests of %s, %s names nobody but your own proxies. Either %s sends no %s of its own, or a proxy after it writes the header anew instead of extending it, or it is you who asks, from one of these machines: then ask from elsewhere and look again.",
					v.requests, p.Requests, p.Peer, w.finder.Header(), w.show(a), w.finder.Header()),
				Where: InProxy, Lines: proxyLines(w.finder.Header()),
			})
		}
	}
	if public >= 5 && p.isMany(ofPublic) {
		found = append(found, Diagnostic{
			Name: "trusted-visitors", State: Attention, Title: "Ranges that you trust hold visitors.",
			Text: fmt.Sprintf("In %d of the %d requests of %s every hop is trusted, and %d different public addresses are the farthest. Whoever is in a trusted range may write any list.",
				ofPublic, p.Requests, p.Peer, public),
			Where: InConfiguration, Lines: []string{"proxies:", "  trusted: # only the addresses of your proxies, instead of:"},
		})
		last := &found[len(found)-1]
		for _, t := range w.finder.Ranges() {
			last.Lines = append(last.Lines, "  #  - "+t.Prefix.String())
		}
	}
	return found
}

// trustsEverybody says whether a trusted range holds a good part of the Internet.
func (w *Watch) trustsEverybody() []Diagnostic {
	for _, t := range w.finder.Ranges() {
		if t.Prefix.Addr().Is4() && t.Prefix.Bits() < 8 || t.Prefix.Addr().Is6() && t.Prefix.Bits() < 16 {
			return []Diagnostic{{
				Name: "trusts-everybody", State: Attention, Title: fmt.Sprintf("You trust %s, which is nearly everybody.", t.Prefix),
				Text:  "Whoever connects from there may write any address into the header, and is believed.",
				Where: InConfiguration, Lines: []string{"proxies:", "  trusted: # only the addresses of your proxies, instead of:", "  #  - " + t.Prefix.String()},
			}}
		}
	}
	return nil
}

// protocol says which peers do not keep to what was agreed on the PROXY protocol.
func (w *Watch) protocol() []Diagnostic {
	var found []Diagnostic
	for _, m := range slices.SortedFunc(maps.Keys(w.mismatches), func(a, b mismatch) int {
		return cmp.Or(w.mismatches[b]-w.mismatches[a], a.peer.Compare(b.peer))
	}) {
		n, peer := w.mismatches[m], w.show(m.peer)
		switch {
		case m.missing && n >= 3:
			found = append(found, Diagnostic{
				Name: "proxy-protocol-missing", State: Attention, Title: fmt.Sprintf("%s should send the PROXY protocol, and does not.", peer),
				Text:  fmt.Sprintf("%d connections from there were closed: it stands under public.proxy_protocol. Let it send it, or take it off the list.", n),
				Where: InProxy, Lines: []string{"# HAProxy:", "server porch 127.0.0.1:8080 send-proxy-v2"},
			})
		case !m.missing && (near(m.peer) && n >= 3 || n >= enough && 2*n >= w.total):
			lines := []string{"public:", "  proxy_protocol:", fmt.Sprintf("    - %q", entry(m.peer))}
			text := fmt.Sprintf("%d connections from there were refused: it does not stand under public.proxy_protocol. List it, or let it send plain HTTP.", n)
			if !near(m.peer) {
				lines = commented([]string{"public:", "  proxy_protocol:", `    - "ITS ADDRESS"`})
				text += " " + howToCheck
			}
			found = append(found, Diagnostic{
				Name: "proxy-protocol-unexpected", State: Attention, Title: fmt.Sprintf("%s sends the PROXY protocol, and is not listed.", peer),
				Text: text, Where: InConfiguration, Lines: lines,
			})
		}
	}
	return found
}

// scattered says whether many peers, each with few requests, look like the machines of one
// load balancer or CDN.
func (w *Watch) scattered(peers []*seen) []Diagnostic {
	requests, from := 0, 0
	for _, p := range peers {
		if _, count := p.most(); !p.Trusted && !near(p.address) && p.address != caller.UnknownPeer && count > 0 && (p.Requests < enough || 20*p.Requests < w.total) {
			requests += count
			from++
		}
	}
	if requests < enough || 5*requests < w.total || from < 2 {
		return nil
	}
	return []Diagnostic{{
		Name: "untrusted-proxies", State: Attention, Title: "Many peers that are not trusted send a forwarding header.",
		Text: fmt.Sprintf("%d of %d requests carry one and come from %d addresses that are not trusted. If they are machines of a load balancer or CDN of yours, each of them looks like a visitor. If they are strangers, nothing is wrong: none of it was believed. %s",
			requests, w.total, from, howToCheck),
		Where: InConfiguration, Lines: commented([]string{"proxies:", "  trusted:", `    - "A RANGE OF YOURS"`}),
	}}
}

// forged says whether clients send lists of their own; that harms nobody.
func (w *Watch) forged(peers []*seen) Diagnostic {
	n := 0
	for _, p := range peers {
		n += p.Forged
	}
	f := Diagnostic{Name: "forged-lists", State: OK, Title: "No client sent a list of its own.", Text: "Nothing stood left of a visitor."}
	if n > 0 {
		f.Title = "Some clients send lists of their own."
		f.Text = fmt.Sprintf("In %s addresses stood left of the visitor. None was believed.", plain.Count(n, "request"))
	}
	return f
}

// Add puts another finding into a report; one that needs attention decides the verdict,
// where none before it did.
func (r *Result) Add(f Diagnostic) {
	if f.Lines == nil {
		f.Lines = []string{}
	}
	r.Findings = append(r.Findings, f)
	if f.State == Attention && r.State != Attention {
		r.State, r.Title = Attention, f.Title
	}
}
