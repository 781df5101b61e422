package caller

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
)

var lake = []TrustedRange{{Prefix: netip.MustParsePrefix("203.0.113.0/28")}, {Prefix: netip.MustParsePrefix("10.0.0.0/8"), Label: "balancers"}}

func finder(t testing.TB, s Settings) Finder {
	t.Helper()
	f, err := New(s)
	require.NoError(t, err)
	return f
}

func TestSettings(t *testing.T) {
	tests := []struct {
		name     string
		settings Settings
		peer     string // "" for a Unix socket
		lines    []string
		visitor  string
		verdicts string
	}{
		{"Forwarded", Settings{Trusted: lake, Header: "forwarded"}, "203.0.113.4", []string{`for=192.0.2.10, For="[2001:db8::1f]:4711";proto=https;by=203.0.113.10`}, "2001:db8::1f", "trusted visitor unverified"},
		{"Forwarded over several lines", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{"for=198.18.3.40", "for=203.0.113.10;host=x"}, "198.18.3.40", "trusted trusted visitor"},
		{"Forwarded with an obfuscated port", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{`for="198.18.3.40:_p1"`}, "198.18.3.40", "trusted visitor"},
		{"Forwarded with escapes", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{`for="198.18\.3.40"`}, "198.18.3.40", "trusted visitor"},
		{"Forwarded, obfuscated", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{"for=198.18.3.40, for=_hidden, for=203.0.113.10"}, "", "trusted trusted unreadable unverified"},
		{"Forwarded, unknown", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{"for=unknown"}, "", "trusted unreadable"},
		{"Forwarded without for", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{"for=198.18.3.40, proto=https"}, "", "trusted unreadable unverified"},
		{"Forwarded with two fors", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{"for=198.18.3.40;for=198.18.3.41"}, "", "trusted unreadable"},
		{"a quote left open swallows the line", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{`for="203.0.113.9, for=198.18.3.40`}, "", "trusted unreadable"},
		{"but not the next line", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{`for="203.0.113.9`, "for=198.18.3.40"}, "198.18.3.40", "trusted visitor unverified"},
		{"IPv6 must be quoted", Settings{Trusted: lake, Header: "Forwarded"}, "203.0.113.4", []string{"for=2001:db8::1"}, "", "trusted unreadable"},
		{"a single-value header", Settings{Trusted: lake, Header: "x-real-ip"}, "203.0.113.4", []string{"198.18.3.40"}, "198.18.3.40", "trusted visitor"},
		{"sent twice it is not believed", Settings{Trusted: lake, Header: "X-Real-Ip"}, "203.0.113.4", []string{"198.18.3.40", "198.18.3.40"}, "", "trusted unreadable unreadable"},
		{"a list is not a single value", Settings{Trusted: lake, Header: "X-Real-Ip"}, "203.0.113.4", []string{"198.18.3.40, 198.18.3.41"}, "", "trusted unreadable"},
		{"a label trusts", Settings{Trusted: lake}, "10.1.2.3", []string{"198.18.3.40"}, "198.18.3.40", "trusted visitor"},
		{"one hop: the last entry", Settings{Trusted: lake, Hops: 1}, "203.0.113.4", []string{"192.0.2.10, 198.18.3.40"}, "198.18.3.40", "trusted visitor unverified"},
		{"three hops", Settings{Trusted: lake, Hops: 3}, "203.0.113.4", []string{"192.0.2.10, 198.18.3.40, 198.51.100.1, unknown"}, "198.18.3.40", "trusted trusted trusted visitor unverified"},
		{"a shorter list is not found", Settings{Trusted: lake, Hops: 3}, "203.0.113.4", []string{"198.18.3.40, 203.0.113.10"}, "", "trusted trusted trusted"},
		{"hops want a trusted peer too", Settings{Trusted: lake, Hops: 1}, "198.18.9.9", []string{"198.18.3.40"}, "198.18.9.9", "visitor unverified"},
		{"an unreadable entry at the place", Settings{Trusted: lake, Hops: 1}, "203.0.113.4", []string{"198.18.3.40, unknown"}, "", "trusted unreadable unverified"},
		{"a trusted Unix socket", Settings{Unix: true}, "", []string{"198.18.3.40"}, "198.18.3.40", "trusted visitor"},
		{"an untrusted Unix socket", Settings{Trusted: lake}, "", []string{"198.18.3.40"}, "", "unverified"},
		{"a Unix socket without a header", Settings{Unix: true}, "", nil, "", ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			f := finder(t, tt.settings)
			peer := netip.Addr{}
			if tt.peer != "" {
				peer = netip.MustParseAddr(tt.peer)
			}
			header := map[string][]string{}
			if tt.lines != nil {
				header[f.Header()] = tt.lines
			}
			got := f.Find(peer, header)
			if tt.visitor == "" {
				assert.False(t, got.Visitor.IsValid(), got.Visitor)
			} else {
				assert.Equal(t, tt.visitor, got.Visitor.String())
			}
			assert.Equal(t, tt.verdicts, verdicts(got))
			assert.NotEmpty(t, got.Reason)
			quick, obtained := f.Address(peer, header)
			assert.Equal(t, got.Visitor.Addr, quick)
			assert.Equal(t, got.Obtained, obtained)
		})
	}
}

func TestNewRefuses(t *testing.T) {
	for name, s := range map[string]Settings{
		"a header that is none":   {Header: "X Forwarded"},
		"negative hops":           {Trusted: lake, Hops: -1},
		"hops of a single value":  {Trusted: lake, Hops: 1, Header: "X-Real-IP"},
		"hops without peers":      {Hops: 2},
		"more hops than there be": {Trusted: lake, Hops: 99},
	} {
		_, err := New(s)
		assert.Error(t, err, name)
	}
}

func TestOtherHeadersAreNoted(t *testing.T) {
	header := map[string][]string{ForwardedFor: {"198.18.7.114"}, "X-Real-Ip": {"192.0.2.10"}, Forwarded: {"for=_hidden"}}
	got := Trusting(lake[0].Prefix).Find(netip.MustParseAddr("203.0.113.4"), header)
	notes := strings.Join(got.Notes, " ")
	assert.Contains(t, notes, "X-Real-Ip says 192.0.2.10. It is not the header you believe")
	assert.Contains(t, notes, "Forwarded is not the header you believe, and hides its address")
	assert.NotContains(t, strings.Join(got.Truncate().Notes, " "), "192.0.2.10")
	header["X-Real-Ip"] = []string{"198.18.7.114"}
	assert.Len(t, Trusting(lake[0].Prefix).Find(netip.MustParseAddr("203.0.113.4"), header).Notes, 1, "who agrees is not noted")
}

// Address and Find agree on whatever is sent, under every setting.
func TestAddressAgreesWithFind(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 11))
	pool := []string{"198.18.7.114", "203.0.113.10", "unknown", `"[2001:db8::1f]:80"`, "10.3.3.3:80", "", "::ffff:203.0.113.3", "fe80::1%eth0", "[::1]", "1.2.3", "for=1.2.3.4", "\x00"}
	settings := []Settings{{}, {Trusted: lake}, {Trusted: lake, Hops: 2}, {Trusted: lake, Header: "Forwarded"}, {Trusted: lake, Header: "X-Real-IP"}, {Unix: true}}
	peers := []netip.Addr{{}, netip.MustParseAddr("203.0.113.4"), netip.MustParseAddr("::ffff:10.0.0.1"), netip.MustParseAddr("198.18.9.9")}
	for range 20_000 {
		var lines []string
		for range r.IntN(3) {
			var parts []string
			for range r.IntN(4) {
				parts = append(parts, pool[r.IntN(len(pool))])
			}
			lines = append(lines, strings.Join(parts, ", "))
		}
		f := finder(t, settings[r.IntN(len(settings))])
		peer := peers[r.IntN(len(peers))]
		header := map[string][]string{f.Header(): lines}
		trail := f.Find(peer, header)
		a, obtained := f.Address(peer, header)
		require.Equal(t, trail.Visitor.Addr, a, "%q from %s: %+v", lines, peer, f)
		require.Equal(t, trail.Obtained, obtained)
	}
}

// What a client writes into Forwarded before a listed proxy appends its part
// never makes it appear as an address that it does not have.
func TestForgedForwarded(t *testing.T) {
	f := finder(t, Settings{Trusted: lake, Header: Forwarded})
	r := rand.New(rand.NewPCG(5, 8))
	alphabet := []string{`"`, `\`, ",", ";", "=", "for", "for=198.18.3.40", `for="[2001:db8::1]"`, " ", "203.0.113.9", "_x", "by=", "é", "\t"}
	for range 20_000 {
		client := fmt.Sprintf("198.19.%d.%d", r.IntN(256), r.IntN(256))
		written := ""
		for range r.IntN(9) {
			written += alphabet[r.IntN(len(alphabet))]
		}
		line := "for=" + client
		if written != "" {
			line = written + ", " + line
		}
		got := f.Find(netip.MustParseAddr("203.0.113.4"), map[string][]string{Forwarded: {line}})
		if got.Visitor.IsValid() {
			require.Equal(t, client, got.Visitor.String(), "%q", line)
		}
	}
}

func TestCommonPathDoesNotAllocate(t *testing.T) {
	f := finder(t, Settings{Trusted: lake})
	header := map[string][]string{ForwardedFor: {"192.0.2.10, 198.18.7.114, 203.0.113.10"}}
	peer := netip.MustParseAddr("203.0.113.4")
	assert.Zero(t, testing.AllocsPerRun(100, func() { f.Address(peer, header) }))
}

func v2(command, family byte, body ...byte) []byte {
	head := append(append([]byte{}, proxyV2Signature...), 0x20|command, family<<4|1)
	return append(binary.BigEndian.AppendUint16(head, uint16(len(body))), body...)
}

func TestReadProxyHeader(t *testing.T) {
	four := []byte{198, 18, 3, 40, 203, 0, 113, 4, 0x11, 0xd7, 0, 80}
	six := append(netip.MustParseAddr("2001:db8::1f").AsSlice(), append(netip.MustParseAddr("::1").AsSlice(), 0, 80, 0, 80)...)
	tests := []struct {
		name, source string
		in           []byte
	}{
		{"v1, IPv4", "198.18.3.40:4567", []byte("PROXY TCP4 198.18.3.40 203.0.113.4 4567 80\r\n")},
		{"v1, IPv6", "[2001:db8::1f]:4567", []byte("PROXY TCP6 2001:db8::1f ::1 4567 80\r\n")},
		{"v1, mapped", "198.18.3.40:1", []byte("PROXY TCP6 ::ffff:198.18.3.40 ::1 1 80\r\n")},
		{"v1, unknown", "", []byte("PROXY UNKNOWN whatever it likes\r\n")},
		{"v2, IPv4", "198.18.3.40:4567", v2(1, 1, four...)},
		{"v2, IPv6", "[2001:db8::1f]:80", v2(1, 2, six...)},
		{"v2, with TLVs", "198.18.3.40:4567", v2(1, 1, append(four, 3, 0, 4, 1, 2, 3, 4)...)},
		{"v2, local", "", v2(0, 0)},
		{"v2, local with an address", "", v2(0, 1, four...)},
		{"v2, a Unix socket", "", v2(1, 3, make([]byte, 216)...)},
		{"v2, unspecified", "", v2(1, 0)},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			r := bufio.NewReader(bytes.NewReader(append(tt.in, "GET /"...)))
			h, err := ReadProxyHeader(r)
			require.NoError(t, err)
			if tt.source == "" {
				assert.False(t, h.Source.IsValid())
			} else {
				assert.Equal(t, tt.source, h.Source.String())
			}
			rest := make([]byte, 5)
			_, err = r.Read(rest)
			require.NoError(t, err)
			assert.Equal(t, "GET /", string(rest), "nothing more is read")
		})
	}
	for name, in := range map[string][]byte{
		"nothing": {}, "HTTP": []byte("GET / HTTP/1.1\r\n"), "cut short": []byte("PROXY TCP4"), "an endless line": []byte("PROXY " + strings.Repeat("x", 200)),
		"no CR": []byte("PROXY TCP4 1.2.3.4 1.2.3.4 1 1\n"), "another family": []byte("PROXY TCP4 ::1 ::1 1 1\r\n"), "a port": []byte("PROXY TCP4 1.2.3.4 1.2.3.4 70000 1\r\n"),
		"a destination that is no address": []byte("PROXY TCP4 1.2.3.4 nonsense 1 1\r\n"), "one of another family": []byte("PROXY TCP4 1.2.3.4 ::1 1 1\r\n"), "its port": []byte("PROXY TCP4 1.2.3.4 1.2.3.4 1 x\r\n"),
		"a family": v2(1, 9), "a command": v2(7, 1, four...), "short addresses": v2(1, 1, 1, 2, 3), "version 3": append(append([]byte{}, proxyV2Signature...), 0x31, 0x11, 0, 0),
		"a length that never comes": append(append([]byte{}, proxyV2Signature...), 0x21, 0x11, 0, 200), "a huge length": append(append([]byte{}, proxyV2Signature...), 0x21, 0x11, 0xff, 0xff),
	} {
		_, err := ReadProxyHeader(bufio.NewReader(bytes.NewReader(in)))
		assert.ErrorIs(t, err, ErrProxyHeader, name)
	}
}

// Whoever the PROXY protocol does not name is nobody, under every setting, and nothing
// that came from there is believed.
func TestAnUnknownPeerIsNobody(t *testing.T) {
	header := map[string][]string{ForwardedFor: {"198.18.3.40"}}
	for _, s := range []Settings{{}, {Unix: true}, {Trusted: []TrustedRange{{Prefix: netip.MustParsePrefix("::/0")}, {Prefix: netip.MustParsePrefix("0.0.0.0/0")}}}, {Unix: true, Hops: 1}} {
		f := finder(t, s)
		got := f.Find(UnknownPeer, header)
		assert.False(t, got.Visitor.IsValid())
		assert.Contains(t, got.Reason, "Not found")
		assert.Equal(t, []Verdict{Unreadable, Unverified}, []Verdict{got.Hops[0].Verdict, got.Hops[1].Verdict})
		a, how := f.Address(UnknownPeer, header)
		assert.False(t, a.IsValid())
		assert.Empty(t, how)
	}
	assert.Equal(t, UnknownPeer, PeerOf(UnknownRemote))
	assert.Equal(t, netip.Addr{}, PeerOf("@"))
	assert.Equal(t, netip.MustParseAddr("198.18.3.40"), PeerOf("[::ffff:198.18.3.40]:80"))
}

func FuzzReadProxyHeader(f *testing.F) {
	f.Add([]byte("PROXY TCP4 198.18.3.40 203.0.113.4 4567 80\r\n"))
	f.Add(v2(1, 1, 198, 18, 3, 40, 203, 0, 113, 4, 0x11, 0xd7, 0, 80))
	f.Fuzz(func(t *testing.T, in []byte) {
		h, err := ReadProxyHeader(bufio.NewReader(bytes.NewReader(in)))
		if err == nil && h.Source.IsValid() && addr.Canonical(h.Source.Addr()) != h.Source.Addr() {
			t.Errorf("%q gives %s, which is not canonical", in, h.Source)
		}
	})
}

func FuzzForwarded(f *testing.F) {
	f.Add(`for=192.0.2.10;proto=http, for="[2001:db8::1]:80"`)
	f.Add(`for="a\"b", ;;=`)
	f.Fuzz(func(t *testing.T, line string) {
		list, ok := forwardedLine(line)
		if !ok && list != nil {
			t.Errorf("a broken line gives elements: %q", line)
		}
		for _, e := range forwardedElements([]string{line}) {
			if len(e.text) > len(line) {
				t.Errorf("%q gives the longer element %q", line, e.text)
			}
		}
	})
}

// BenchmarkWalk measures the walk of a 3-hop header beside a loop that merely
// splits the list and parses every part with the standard library.
func BenchmarkWalk(b *testing.B) {
	line := "192.0.2.10, 198.18.7.114, 203.0.113.10"
	header := map[string][]string{ForwardedFor: {line}}
	peer := netip.MustParseAddr("203.0.113.4")
	f := finder(b, Settings{Trusted: lake})
	b.Run("address", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			f.Address(peer, header)
		}
	})
	b.Run("split-and-parse", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			for _, part := range strings.Split(line, ",") {
				_, _ = netip.ParseAddr(strings.TrimSpace(part))
			}
		}
	})
	b.Run("trail", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			f.Find(peer, header)
		}
	})
}
