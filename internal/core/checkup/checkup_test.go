package checkup

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/caller"
)

var trusting = caller.Trusting(netip.MustParsePrefix("203.0.113.0/28"))

// watch sends n requests of a peer, whose header line is made for each.
func watch(w *Watch, n int, peer string, header func(i int) map[string][]string) {
	for i := range n {
		h := header(i)
		from := netip.MustParseAddr(peer)
		w.Observe(from, h, trusting.Find(from, h))
	}
}

func forwardedFor(format string) func(int) map[string][]string {
	return func(i int) map[string][]string {
		line := format
		if strings.Contains(format, "%d") {
			line = fmt.Sprintf(format, 1+i%50)
		}
		return map[string][]string{caller.ForwardedFor: {line}}
	}
}

func none(int) map[string][]string { return nil }

func hops(n int) caller.Finder {
	f, err := caller.New(caller.Settings{Trusted: trusting.Ranges(), Hops: n})
	if err != nil {
		panic(err)
	}
	return f
}

// watchBy is watch under another setting of trust.
func watchBy(f caller.Finder, w *Watch, n int, peer string, header func(i int) map[string][]string) {
	for i := range n {
		h := header(i)
		from := netip.MustParseAddr(peer)
		w.Observe(from, h, f.Find(from, h))
	}
}

// fromMany sends requests of clients who connect by themselves.
func fromMany(w *Watch, n int) {
	for i := range n {
		watch(w, 1, fmt.Sprintf("198.18.4.%d", 1+i%200), none)
	}
}

func TestVerdicts(t *testing.T) {
	wide := caller.Trusting(netip.MustParsePrefix("0.0.0.0/0"))
	visitorsToo := caller.Trusting(netip.MustParsePrefix("203.0.113.0/28"), netip.MustParsePrefix("198.18.0.0/16"))
	single, err := caller.New(caller.Settings{Trusted: trusting.Ranges(), Header: "X-Real-IP"})
	require.NoError(t, err)
	tests := []struct {
		name   string
		finder caller.Finder
		send   func(*Watch)
		state  State
		check  string // the finding that is meant
		says   string
		mended string
	}{
		{"good", trusting, func(w *Watch) { watch(w, 100, "203.0.113.4", forwardedFor("198.18.3.%d")) }, OK, "trusted-proxy", "100 requests, 50 visitors", ""},
		{"a proxy that is not trusted", trusting, func(w *Watch) { watch(w, 100, "10.0.3.7", forwardedFor("198.18.3.%d")) }, Attention, "untrusted-proxy", "100% of all requests come from 10.0.3.7", `- "10.0.3.7/32"`},
		{"one that sends the header at times", trusting, func(w *Watch) {
			watch(w, 10, "10.0.3.7", forwardedFor("198.18.3.%d"))
			watch(w, 24, "10.0.3.7", none)
		}, Attention, "untrusted-proxy", "29% of those carry", `- "10.0.3.7/32"`},
		{"a CDN that is not trusted", trusting, func(w *Watch) { watch(w, 100, "198.51.100.9", forwardedFor("198.18.3.%d")) }, Attention, "untrusted-proxy", "Check first", `#     - "ITS ADDRESS"`},
		{"a stranger who sends a header often", trusting, func(w *Watch) {
			fromMany(w, 50)
			watch(w, 100, "198.51.100.9", forwardedFor("8.8.8.8"))
		}, OK, "forged-lists", "", ""},
		{"many machines of a CDN", trusting, func(w *Watch) {
			for i := range 100 {
				watch(w, 1, fmt.Sprintf("198.51.100.%d", i%30), forwardedFor("198.18.3.%d"))
			}
		}, Attention, "untrusted-proxies", "100 of 100 requests carry one", `# proxies:`},
		{"header absent", trusting, func(w *Watch) { watch(w, 30, "203.0.113.4", none) }, Attention, "header-absent", "30 of its 30", "option forwardfor"},
		{"the header in some requests only", trusting, func(w *Watch) {
			watch(w, 8, "203.0.113.4", forwardedFor("198.18.3.%d"))
			watch(w, 26, "203.0.113.4", none)
		}, Attention, "header-sometimes", "26 of its 34", "proxy_set_header X-Forwarded-For"},
		{"another header", trusting, func(w *Watch) {
			watch(w, 30, "203.0.113.4", func(int) map[string][]string { return map[string][]string{"Forwarded": {"for=198.18.3.40"}} })
		}, Attention, "header-absent", "It sends Forwarded instead", "header: Forwarded"},
		{"a single-value header that is absent", single, func(w *Watch) { watchBy(single, w, 30, "203.0.113.4", none) }, Attention, "header-absent", "30 of its 30", "proxy_set_header X-Real-IP $remote_addr;"},
		{"replaced, or absent before", trusting, func(w *Watch) { watch(w, 30, "203.0.113.4", forwardedFor("203.0.113.10")) }, Attention, "nobody-before", "nobody but your own", "option forwardfor"},
		{"unreadable", trusting, func(w *Watch) { watch(w, 30, "203.0.113.4", forwardedFor("unknown")) }, Attention, "unreadable", "not an address", "X-Forwarded-For"},
		{"an untrusted proxy of the owner's before a trusted one", trusting, func(w *Watch) {
			watch(w, 30, "203.0.113.4", forwardedFor("198.18.3.%d, 10.0.3.7"))
		}, Attention, "untrusted-proxy", "the visitor is 10.0.3.7, and 16 others", `- "10.0.3.7/32"`},
		{"an unknown one before a trusted one", trusting, func(w *Watch) {
			watch(w, 30, "203.0.113.4", forwardedFor("198.18.3.%d, 198.51.100.9"))
		}, Attention, "untrusted-proxy", "Check first", `#     - "ITS ADDRESS"`},
		{"a stranger with a made-up list", trusting, func(w *Watch) {
			watch(w, 60, "203.0.113.4", forwardedFor("198.18.3.%d"))
			watch(w, 60, "203.0.113.4", forwardedFor("192.0.2.10, 198.51.100.9"))
		}, OK, "forged-lists", "In 60 requests", ""},
		{"too few hops", hops(1), func(w *Watch) {
			watchBy(hops(1), w, 30, "203.0.113.4", forwardedFor("198.18.3.%d, 203.0.113.10"))
		}, Attention, "hops-too-few", "the visitor is 203.0.113.10", "  hops: 2"},
		{"too few hops, perhaps", hops(1), func(w *Watch) {
			watchBy(hops(1), w, 30, "203.0.113.4", forwardedFor("198.18.3.%d, 198.51.100.9"))
		}, Attention, "hops-too-few", "would have them believed", "#   hops: 2"},
		{"too many hops", hops(3), func(w *Watch) {
			watchBy(hops(3), w, 30, "203.0.113.4", forwardedFor("198.18.3.%d, 203.0.113.10"))
		}, Attention, "hops-too-many", "whoever sends a made-up entry is believed", "  hops: 2"},
		{"the right hops", hops(2), func(w *Watch) {
			watchBy(hops(2), w, 30, "203.0.113.4", forwardedFor("198.18.3.%d, 198.51.100.9"))
		}, OK, "trusted-proxy", "30 requests, 30 visitors", ""},
		{"everybody is trusted", wide, func(w *Watch) { watchBy(wide, w, 30, "198.18.3.4", forwardedFor("198.18.3.%d")) }, Attention, "trusts-everybody", "is believed", "0.0.0.0/0"},
		{"visitors are trusted", visitorsToo, func(w *Watch) {
			watchBy(visitorsToo, w, 40, "203.0.113.4", forwardedFor("198.18.3.%d"))
		}, Attention, "trusted-visitors", "40 different public addresses", "198.18.0.0/16"},
		{"two headers disagree", trusting, func(w *Watch) {
			watch(w, 30, "203.0.113.4", func(i int) map[string][]string {
				return map[string][]string{caller.ForwardedFor: {fmt.Sprintf("198.18.3.%d", i)}, "X-Real-Ip": {"198.18.9.41"}}
			})
		}, Attention, "headers-disagree", "30 of its 30", `proxy_set_header X-Real-IP "";`},
		{"forged lists harm nobody", trusting, func(w *Watch) { watch(w, 30, "203.0.113.4", forwardedFor("192.0.2.10, 198.18.3.%d")) }, OK, "forged-lists", "In 30 requests", ""},
		{"too few", trusting, func(w *Watch) { watch(w, 5, "10.0.3.7", forwardedFor("198.18.3.%d")) }, Unknown, "forged-lists", "Nothing stood", ""},
		{"one visitor only", trusting, func(w *Watch) { watch(w, 50, "203.0.113.4", forwardedFor("198.18.3.40")) }, Unknown, "trusted-proxy", "1 visitor.", ""},
		{"clients without a proxy", trusting, func(w *Watch) { fromMany(w, 200) }, OK, "forged-lists", "Nothing stood", ""},
		{"a balancer that says nothing", trusting, func(w *Watch) { watch(w, 50, "10.0.3.7", none) }, Attention, "one-peer", "without a forwarding header", `- "10.0.3.7/32"`},
		{"a Unix socket that is not trusted", trusting, func(w *Watch) {
			for i := range 30 {
				h := forwardedFor("198.18.3.%d")(i)
				w.Observe(netip.Addr{}, h, trusting.Find(netip.Addr{}, h))
			}
		}, Attention, "untrusted-proxy", "Unix socket", `- "unix"`},
		{"the PROXY protocol says nobody", trusting, func(w *Watch) {
			for range 30 {
				w.Observe(caller.UnknownPeer, nil, trusting.Find(caller.UnknownPeer, nil))
			}
		}, Attention, "nobody-named", "UNKNOWN, LOCAL", "send-proxy-v2"},
		{"the PROXY protocol is missing", trusting, func(w *Watch) {
			for range 3 {
				w.Mismatch(netip.MustParseAddr("203.0.113.4"), true)
			}
		}, Attention, "proxy-protocol-missing", "3 connections", "send-proxy-v2"},
		{"the PROXY protocol is not expected", trusting, func(w *Watch) {
			for range 3 {
				w.Mismatch(netip.MustParseAddr("10.0.3.7"), false)
			}
		}, Attention, "proxy-protocol-unexpected", "3 connections", `- "10.0.3.7/32"`},
		{"a stranger sends the PROXY protocol", trusting, func(w *Watch) {
			fromMany(w, 100)
			for range 30 {
				w.Mismatch(netip.MustParseAddr("198.51.100.9"), false)
			}
		}, OK, "forged-lists", "", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			w := NewWatch(tt.finder, false, time.Now())
			tt.send(w)
			r := w.Result()
			assert.Equal(t, tt.state, r.State, "%+v", r.Findings)
			assert.NotEmpty(t, r.Title)
			var meant *Diagnostic
			for i, f := range r.Findings {
				if f.Name == tt.check {
					meant = &r.Findings[i]
				}
				assert.Equal(t, f.State == Attention, len(f.Lines) > 0, "what needs attention has lines that mend it: %+v", f)
				assert.Equal(t, len(f.Lines) > 0, f.Where != "")
				for _, line := range f.Lines {
					if !strings.HasPrefix(line, "#") {
						assert.NotContains(t, line, "198.51.100.", "no line trusts a stranger")
					}
				}
				for _, text := range []string{f.Title, f.Text} {
					assert.NotRegexp(t, `198\.(18|51)\.[0-9]+\.[1-9]`, text, "no visitor's address stands whole")
				}
			}
			for _, p := range r.Peers {
				assert.NotRegexp(t, `198\.(18|51)\.[0-9]+\.[1-9]`, p.Peer)
			}
			require.NotNil(t, meant, "%+v", r.Findings)
			assert.Contains(t, meant.Text, tt.says)
			assert.Contains(t, strings.Join(meant.Lines, "\n"), tt.mended)
		})
	}
}

func TestWholeAddressesWhereSitesKeepThem(t *testing.T) {
	w := NewWatch(trusting, true, time.Now())
	watch(w, 30, "198.51.100.9", forwardedFor("198.18.3.%d"))
	assert.Equal(t, "198.51.100.9", w.Result().Peers[0].Peer)
	w = NewWatch(trusting, false, time.Now())
	for i := range 40 {
		watch(w, 1, fmt.Sprintf("198.51.100.%d", i), none)
	}
	peers := w.Result().Peers
	require.Len(t, peers, 1, "those of one truncated address are one row")
	assert.Equal(t, PeerEvidence{Peer: "198.51.100.0/24", Kind: peers[0].Kind, Requests: 40, Headers: map[string]int{}, Visitors: 40, Absent: 40}, peers[0])
}

func TestMemoryIsBounded(t *testing.T) {
	w := NewWatch(trusting, false, time.Now())
	watch(w, 50, "203.0.113.4", forwardedFor("198.18.3.%d"))
	for i := range 5000 {
		watch(w, 1, fmt.Sprintf("198.18.%d.%d", i/250, i%250), none)
		w.Mismatch(netip.MustParseAddr(fmt.Sprintf("198.18.%d.%d", i/250, i%250)), false)
	}
	assert.LessOrEqual(t, len(w.peers), maxPeers)
	assert.LessOrEqual(t, len(w.mismatches), maxVisitors)
	assert.Equal(t, 5050, w.Result().Requests)
	watch(w, 500, "203.0.113.4", func(i int) map[string][]string {
		return map[string][]string{caller.ForwardedFor: {fmt.Sprintf("192.0.2.%d, 198.19.%d.%d", i%200, i/250, i%250)}}
	})
	proxy := w.peers[netip.MustParseAddr("203.0.113.4")]
	require.NotNil(t, proxy, "strangers do not push out a proxy")
	assert.Equal(t, maxVisitors, proxy.Visitors)
	assert.LessOrEqual(t, len(proxy.visitors), maxVisitors)
	// One who comes often is seen, though many came before.
	watch(w, 300, "203.0.113.4", forwardedFor("198.18.3.%d, 10.0.3.7"))
	assert.Equal(t, Attention, w.Result().State)
}
