package caller

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var regatta = Trusting(netip.MustParsePrefix("203.0.113.0/28"), netip.MustParsePrefix("2001:db8:ff::/48"))

func find(f Finder, peer string, lines ...string) Trail {
	header := map[string][]string{}
	if len(lines) > 0 {
		header[ForwardedFor] = lines
	}
	return f.Find(netip.MustParseAddr(peer), header)
}

func verdicts(t Trail) string {
	var words []string
	for _, h := range t.Hops {
		words = append(words, string(h.Verdict))
	}
	return strings.Join(words, " ")
}

func TestFind(t *testing.T) {
	tests := []struct {
		name, peer string
		lines      []string
		visitor    string // "" for not found
		obtained   string
		verdicts   string
	}{
		{"no header, untrusted peer", "198.18.7.114", nil, "198.18.7.114", "peer", "visitor"},
		{"an untrusted peer's header is reported, never believed", "198.18.9.9", []string{"198.18.3.40"}, "198.18.9.9", "peer", "visitor unverified"},
		{"a trusted proxy's header is believed", "203.0.113.4", []string{"198.18.7.114"}, "198.18.7.114", "header", "trusted visitor"},
		{"trusted hops are skipped from the right", "203.0.113.4", []string{"198.18.7.114, 203.0.113.10"}, "198.18.7.114", "header", "trusted trusted visitor"},
		{"what stands left is unverified", "203.0.113.4", []string{"192.0.2.10, 198.51.100.7, 198.18.7.114, 203.0.113.10"}, "198.18.7.114", "header", "trusted trusted visitor unverified unverified"},
		{"a trusted address left of the visitor is not trusted", "203.0.113.4", []string{"203.0.113.9, 198.18.7.114"}, "198.18.7.114", "header", "trusted visitor unverified"},
		{"header absent: the peer, flagged", "203.0.113.4", nil, "203.0.113.4", "peer", "visitor"},
		{"header empty", "203.0.113.4", []string{" , ,"}, "203.0.113.4", "peer", "visitor"},
		{"all trusted: the farthest", "203.0.113.4", []string{"203.0.113.9, 203.0.113.10"}, "203.0.113.9", "header", "trusted trusted visitor"},
		{"an unreadable hop ends the walk", "203.0.113.4", []string{"198.18.7.114, unknown, 203.0.113.10"}, "", "", "trusted trusted unreadable unverified"},
		{"an unreadable hop left of the visitor does not matter", "203.0.113.4", []string{"unknown, 198.18.7.114"}, "198.18.7.114", "header", "trusted visitor unverified"},
		{"ports, brackets and quotes", "203.0.113.4", []string{`"[2001:db8::1f]:4711", 203.0.113.10:80`}, "2001:db8::1f", "header", "trusted trusted visitor"},
		{"several lines are one list", "203.0.113.4", []string{"198.18.7.114", "203.0.113.10"}, "198.18.7.114", "header", "trusted trusted visitor"},
		{"a mapped peer is IPv4", "::ffff:203.0.113.4", []string{"198.18.7.114"}, "198.18.7.114", "header", "trusted visitor"},
		{"IPv6 proxies", "2001:db8:ff::1", []string{"2001:db8::1f, 2001:db8:ff::2"}, "2001:db8::1f", "header", "trusted trusted visitor"},
		{"a private visitor is a visitor", "203.0.113.4", []string{"10.0.3.7"}, "10.0.3.7", "header", "trusted visitor"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got := find(regatta, tt.peer, tt.lines...)
			assert.Equal(t, tt.visitor != "", got.Visitor.IsValid())
			if got.Visitor.IsValid() {
				assert.Equal(t, tt.visitor, got.Visitor.String())
			}
			assert.Equal(t, tt.obtained, got.Obtained)
			assert.Equal(t, tt.verdicts, verdicts(got))
			assert.NotEmpty(t, got.Reason)
			for _, h := range got.Hops {
				assert.NotEmpty(t, h.Reason)
			}
		})
	}
}

func TestFindFlags(t *testing.T) {
	assert.True(t, find(regatta, "203.0.113.4").OwnNetwork, "no header")
	assert.NotEmpty(t, find(regatta, "203.0.113.4").Notes)
	assert.True(t, find(regatta, "203.0.113.4", "203.0.113.9").OwnNetwork, "all trusted")
	assert.False(t, find(regatta, "203.0.113.4", "198.18.7.114").OwnNetwork)
	assert.NotEmpty(t, find(regatta, "198.18.9.9", "198.18.3.40").Notes, "a header that was not believed is said")
	none := regatta.Find(netip.Addr{}, nil)
	assert.False(t, none.Visitor.IsValid())
	assert.NotEmpty(t, none.Reason)
	assert.Equal(t, "198.18.7.114", find(Finder{}, "198.18.7.114", "198.18.3.40").Visitor.String(), "the zero Finder trusts nobody")
}

// Whatever a client writes to the left, listed proxies that extend the header
// make it appear as the address that it really has.
func TestForgeryNeverHelps(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	junk := []string{"unknown", "_hidden", "127.0.0.1", "203.0.113.9", "198.18.3.40", "", "::1", "\x00", "a,b", `"`, "[", "2001:db8:ff::1", strings.Repeat("9", 300)}
	for range 20_000 {
		client := fmt.Sprintf("198.19.%d.%d", r.IntN(256), r.IntN(256))
		var written []string
		for range r.IntN(6) {
			written = append(written, junk[r.IntN(len(junk))])
		}
		list := strings.Join(append(written, client), []string{",", ", ", " ,\t"}[r.IntN(3)])
		for range r.IntN(3) {
			list += fmt.Sprintf(", 203.0.113.%d", r.IntN(16))
		}
		got := find(regatta, "203.0.113.4", list)
		require.Equal(t, client, got.Visitor.String(), "%q", list)
	}
}

// The answer does not depend on how a list is split over header lines, and a
// trusted hop more on the right changes nothing.
func TestSplittingAndExtending(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	pool := []string{"198.18.7.114", "203.0.113.10", "unknown", "2001:db8::1f", "203.0.113.3", "10.0.0.1"}
	for range 5000 {
		var parts []string
		for range 1 + r.IntN(6) {
			parts = append(parts, pool[r.IntN(len(pool))])
		}
		whole := find(regatta, "203.0.113.4", strings.Join(parts, ", "))
		cut := r.IntN(len(parts))
		var lines []string
		if cut > 0 {
			lines = append(lines, strings.Join(parts[:cut], ","))
		}
		lines = append(lines, strings.Join(parts[cut:], " , "))
		require.Equal(t, whole, find(regatta, "203.0.113.4", lines...), parts)
		more := find(regatta, "203.0.113.4", strings.Join(append(parts, "203.0.113.11"), ","))
		require.Equal(t, whole.Visitor, more.Visitor, parts)
	}
}

func TestHostileHeadersAreBounded(t *testing.T) {
	for name, list := range map[string]string{
		"8 KB of commas": strings.Repeat(",", 8<<10),
		"10,000 hops":    strings.Repeat("1.2.3.4,", 10_000),
		"10,000 trusted": strings.Repeat("203.0.113.9,", 10_000),
		"64 KB of text":  strings.Repeat("x", 64<<10),
		"NUL and more":   "\x00\x01\x7f\xff\xfe",
	} {
		t.Run(name, func(t *testing.T) {
			got := find(regatta, "203.0.113.4", list)
			assert.LessOrEqual(t, len(got.Hops), maxHops)
			text, err := json.Marshal(got)
			require.NoError(t, err)
			assert.Less(t, len(text), 64<<10)
			assert.NotContains(t, string(text), `\u0000`)
		})
	}
	far := find(regatta, "203.0.113.4", "198.18.7.114,"+strings.Repeat("203.0.113.9,", 1000))
	assert.Equal(t, "198.18.7.114", far.Visitor.String())
	assert.Equal(t, Visitor, far.Hops[len(far.Hops)-1].Verdict, "the visitor is always spelled out")
	assert.Equal(t, 1002, len(far.Hops)+far.Omitted)
}

func TestTruncateLeavesNoAddress(t *testing.T) {
	for _, lines := range [][]string{
		{"192.0.2.10, 198.18.3.4, 198.18.3.40, 203.0.113.10"}, {"unknown198.18.3.40, 203.0.113.10"}, {"2001:db8:5e1:40::1f"}, nil,
	} {
		whole := find(regatta, "203.0.113.4", lines...)
		before, _ := json.Marshal(whole)
		text, err := json.Marshal(whole.Truncate())
		require.NoError(t, err)
		for _, secret := range []string{"198.18.3.40", "198.18.3.4\"", "192.0.2.10", "203.0.113.10", "203.0.113.4", "5e1:40"} {
			assert.NotContains(t, string(text), secret)
		}
		cut := whole.Truncate()
		for i, h := range whole.Hops {
			assert.Equal(t, h.Rule, cut.Hops[i].Rule, "a rule is of the owner's, and stands as the configuration has it")
			if h.Rule != nil {
				assert.Contains(t, cut.Hops[i].Reason, *h.Rule)
			}
		}
		again, _ := json.Marshal(whole)
		assert.Equal(t, string(before), string(again), "the original stays")
	}
	forgotten := find(regatta, "203.0.113.4", "198.18.3.40").Forget("this machine")
	text, err := json.Marshal(forgotten)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "198.18.3.40")
	assert.Contains(t, string(text), "this machine")
	assert.False(t, forgotten.Visitor.IsValid())
}

func FuzzFind(f *testing.F) {
	f.Add("198.18.7.114, 203.0.113.10", "1.1.1.1")
	f.Add(`"[::1]:80",,unknown`, ",")
	f.Fuzz(func(t *testing.T, one, two string) {
		got := find(regatta, "203.0.113.4", one, two)
		if got.Reason == "" || len(got.Hops) == 0 {
			t.Errorf("Find(%q, %q) gives no reason or no hop", one, two)
		}
	})
}

func BenchmarkFind(b *testing.B) {
	header := map[string][]string{ForwardedFor: {"192.0.2.10, 198.18.7.114, 203.0.113.10"}}
	peer := netip.MustParseAddr("203.0.113.4")
	b.ReportAllocs()
	for b.Loop() {
		regatta.Find(peer, header)
	}
}
