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

func TestVerdicts(t *testing.T) {
	tests := []struct {
		name   string
		send   func(*Watch)
		state  State
		check  string // the finding that is meant
		says   string
		mended string
	}{
		{"good", func(w *Watch) { watch(w, 100, "203.0.113.4", forwardedFor("198.18.3.%d")) }, OK, "trusted-proxy", "100 requests, 50 visitors", ""},
		{"a proxy that is not trusted", func(w *Watch) { watch(w, 100, "10.0.3.7", forwardedFor("198.18.3.%d")) }, Eye, "untrusted-proxy", "100% of all requests come from 10.0.3.7", `- "10.0.3.7/32"`},
		{"header absent", func(w *Watch) { watch(w, 30, "203.0.113.4", none) }, Eye, "header-absent", "30 of its 30", ""},
		{"another header", func(w *Watch) {
			watch(w, 30, "203.0.113.4", func(int) map[string][]string { return map[string][]string{"Forwarded": {"for=198.18.3.40"}} })
		}, Eye, "header-absent", "It sends Forwarded instead", "header: Forwarded"},
		{"replaced", func(w *Watch) { watch(w, 30, "203.0.113.4", forwardedFor("203.0.113.10")) }, Eye, "header-replaced", "nobody but your own", ""},
		{"unreadable", func(w *Watch) { watch(w, 30, "203.0.113.4", forwardedFor("unknown")) }, Eye, "unreadable", "no address", ""},
		{"two headers disagree", func(w *Watch) {
			watch(w, 30, "203.0.113.4", func(int) map[string][]string {
				return map[string][]string{caller.ForwardedFor: {"198.18.3.40"}, "X-Real-Ip": {"198.18.3.41"}}
			})
		}, Eye, "headers-disagree", "30 of its 30", ""},
		{"forged lists harm nobody", func(w *Watch) { watch(w, 30, "203.0.113.4", forwardedFor("192.0.2.10, 198.18.3.%d")) }, OK, "forged-lists", "In 30 requests", ""},
		{"too few", func(w *Watch) { watch(w, 5, "10.0.3.7", forwardedFor("198.18.3.%d")) }, OK, "forged-lists", "Nothing stood", ""},
		{"clients without a proxy", func(w *Watch) {
			for i := range 200 {
				watch(w, 1, fmt.Sprintf("198.18.3.%d", 1+i), none)
			}
		}, OK, "forged-lists", "Nothing stood", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			w := NewWatch(caller.ForwardedFor, time.Now())
			tt.send(w)
			r := w.Report()
			assert.Equal(t, tt.state, r.State, "%+v", r.Findings)
			assert.NotEmpty(t, r.Title)
			var meant *Finding
			for i := range r.Findings {
				if r.Findings[i].Name == tt.check {
					meant = &r.Findings[i]
				}
			}
			require.NotNil(t, meant, "%+v", r.Findings)
			assert.Contains(t, meant.Text, tt.says)
			assert.Contains(t, strings.Join(meant.Lines, "\n"), tt.mended)
		})
	}
}

func TestMemoryIsBounded(t *testing.T) {
	w := NewWatch(caller.ForwardedFor, time.Now())
	watch(w, 50, "203.0.113.4", forwardedFor("198.18.3.%d"))
	for i := range 5000 {
		watch(w, 1, fmt.Sprintf("198.18.%d.%d", i/250, i%250), none)
	}
	assert.LessOrEqual(t, len(w.peers), maxPeers)
	assert.Equal(t, "203.0.113.4", w.Report().Peers[0].Peer, "strangers do not push out a proxy")
	assert.Equal(t, 5050, w.Report().Requests)
	watch(w, 500, "203.0.113.4", func(i int) map[string][]string {
		return map[string][]string{caller.ForwardedFor: {fmt.Sprintf("198.19.%d.%d", i/250, i%250)}}
	})
	assert.Equal(t, maxVisitors, w.Report().Peers[0].Visitors)
}
