package addr

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	tests := []struct {
		in, want string
		spelling Spelling
	}{
		{"198.18.3.40", "198.18.3.40", Plain},
		{`"198.18.3.40"`, "198.18.3.40", Plain},
		{"' 2001:db8::1 '", "2001:db8::1", Plain},
		{"198.18.3.40:80", "198.18.3.40", WithPort},
		{"[2001:db8::1]:80", "2001:db8::1", WithPort},
		{"[2001:db8::1]", "2001:db8::1", Bracketed},
		{"fe80::1%eth0", "fe80::1", WithZone},
		{"::ffff:198.18.3.40", "198.18.3.40", Mapped},
		{"::ffff:c612:328", "198.18.3.40", Mapped},
		{"3323069224", "198.18.3.40", Integer},
		{"42540766411282592856903984951653826561", "2001:db8::1", Integer},
		{"0xC6120328", "198.18.3.40", Hexadecimal},
		{"0x20010db8000000000000000000000001", "2001:db8::1", Hexadecimal},
		{"20010db800000000000000000000001f", "2001:db8::1f", Binary},
		{"00000000000000000000ffffc6120328", "198.18.3.40", Binary},
		{"40.3.18.198.in-addr.arpa", "198.18.3.40", ReverseName},
		{"40.3.18.198.IN-ADDR.ARPA.", "198.18.3.40", ReverseName},
		{"f.1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa", "2001:db8::1f", ReverseName},
	}
	for _, tt := range tests {
		got, spelling, err := Read(tt.in)
		if assert.NoError(t, err, tt.in) {
			assert.Equal(t, tt.want, got.String(), tt.in)
			assert.Equal(t, tt.spelling, spelling, tt.in)
		}
	}
	for in, reason := range map[string]string{
		"16777215": "below 16777216", "0": "below", "0x10": "below", "12345678901234567890123456789012": "decimal number or 16 bytes",
		"0123456789": "octal", "127.1": "four parts", "192.168.010.1": "octal", "c6120328": "0x before",
		strings.Repeat("9", 39): "128 bits", "0x1" + strings.Repeat("0", 32): "128 bits", strings.Repeat("1", 500): "128 bits",
		"3.18.198.in-addr.arpa": "reverse name", "x.arpa": "reverse name", "g.ip6.arpa": "reverse name", "": "empty", `"`: "write it like",
	} {
		_, _, err := Read(in)
		require.ErrorIs(t, err, ErrSyntax, in)
		assert.ErrorContains(t, err, reason, in)
	}
}

// A million seeded addresses agree with the standard library's older parser,
// net.ParseIP, in both directions. They differ on purpose in zones, which
// net.ParseIP refuses, and in what Parse takes off: brackets, ports, space.
func TestAgreesWithTheOlderParser(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 6))
	n := 1_000_000
	if testing.Short() {
		n = 50_000
	}
	for range n {
		a := randomPrefix(r).Addr()
		text := a.String()
		if a.Is6() && r.IntN(2) == 0 {
			text = a.StringExpanded()
		}
		if r.IntN(4) == 0 { // spoilt
			i := r.IntN(len(text))
			text = text[:i] + string("0123456789abcdef.:xg"[r.IntN(20)]) + text[i+1:]
		}
		old := net.ParseIP(text)
		got, ok := Quick(text)
		if old == nil && ok && strings.Count(text, ":") == 1 {
			continue // a port
		}
		require.Equal(t, old != nil, ok, text)
		if ok {
			want, _ := netip.AddrFromSlice(old)
			require.Equal(t, want.Unmap(), got, text)
		}
	}
}

func TestRanges(t *testing.T) {
	for in, want := range map[string]string{
		"198.18.0.0/15": "198.18.0.0/15", "198.18.0.1-198.18.0.6": "198.18.0.1-198.18.0.6", "198.18.0.0 - 198.18.0.255": "198.18.0.0/24",
		"2001:db8::1": "2001:db8::1/128", "3323069184-3323069247": "198.18.3.0/26",
	} {
		r, err := ParseRange(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, r.String())
	}
	for in, reason := range map[string]string{
		"198.18.0.9-198.18.0.1": "did you mean 198.18.0.1-198.18.0.9?", "::1-1.2.3.4": "another", "x-y": "write it like", "1.2.3.4-": "empty",
	} {
		_, err := ParseRange(in)
		assert.ErrorContains(t, err, reason, in)
	}
	r, err := ParseRange("198.18.0.1-198.18.0.6")
	require.NoError(t, err)
	assert.Equal(t, "6", r.Count().String())
	assert.Equal(t, "[198.18.0.1/32 198.18.0.2/31 198.18.0.4/31 198.18.0.6/32]", fmt.Sprint(r.Prefixes()))
	all, err := ParseRange("::/0")
	require.NoError(t, err)
	assert.Equal(t, "340282366920938463463374607431768211456", all.Count().String())
	low, high, ok := halves(netip.MustParsePrefix("198.18.0.0/15"))
	assert.True(t, ok)
	assert.Equal(t, "198.18.0.0/16 198.19.0.0/16", low.String()+" "+high.String())
	_, _, ok = halves(netip.MustParsePrefix("::1/128"))
	assert.False(t, ok)
}

// The prefixes of a random range are disjoint, in order, together the range,
// and none could be joined with its neighbour.
func TestPrefixesAreAMinimalCover(t *testing.T) {
	rnd := rand.New(rand.NewPCG(2, 9))
	edge := func(is4 bool) netip.Addr {
		var b [16]byte
		for i := range b {
			b[i] = []byte{0, 255, byte(rnd.Uint32())}[rnd.IntN(3)]
		}
		if n := rnd.IntN(18); n < 16 && rnd.IntN(2) == 0 {
			fill := byte(rnd.IntN(2) * 255)
			for i := n; i < 16; i++ {
				b[i] = fill
			}
		}
		if is4 {
			return netip.AddrFrom4([4]byte(b[:4]))
		}
		return netip.AddrFrom16(b)
	}
	for n := range 6000 {
		r := Range{edge(n%2 == 0), edge(n%2 == 0)}
		if rnd.IntN(3) == 0 {
			for r.Last = r.First; r.Last.Next().IsValid() && rnd.IntN(200) > 0; r.Last = r.Last.Next() {
			}
		}
		if r.Last.Less(r.First) {
			require.Empty(t, r.Prefixes())
			r.First, r.Last = r.Last, r.First
		}
		next, list := r.First, r.Prefixes()
		for i, p := range list {
			require.Equal(t, next, p.Addr(), r)
			if i > 0 && list[i-1].Bits() == p.Bits() {
				low, _, _ := halves(netip.PrefixFrom(list[i-1].Addr(), p.Bits()-1))
				require.NotEqual(t, list[i-1], low, "%s could be joined with %s", p, list[i-1])
			}
			next = RangeOf(p).Last.Next()
		}
		require.Equal(t, r.Last, RangeOf(list[len(list)-1]).Last, r)
		require.True(t, r.Overlaps(RangeOf(list[0])))
	}
}

// findIn lists what Find finds: "text=prefix", or "text!" for a look-alike.
func findIn(t *testing.T, r io.Reader) (good []string, bad map[string]string) {
	t.Helper()
	bad = map[string]string{}
	require.NoError(t, Find(r, func(f Found) error {
		if f.Reason != "" {
			bad[f.Text] = f.Reason
		} else {
			good = append(good, f.Prefix.String())
		}
		return nil
	}))
	return good, bad
}

const mixed = `07:42:08 GET from 198.18.3.40:51034 (via [2001:db8:5e1:40::1f]:443), see http://203.0.113.10/map.
ranges 198.18.0.0/15, 2001:db8::/32; hosts 192.0.2.7,192.0.2.8 and 198.18.3.1-198.18.3.9.
key:198.18.7.114 ip="::1" mapped ::ffff:192.0.2.9 with zone fe80::1%eth0 and host 192.0.2.77/24
not: v1.2.3.4 1.2.3.4-beta2 300.1.1.1 1.2.3.4.5 00:1a:2b:3c:4d:5e std::vector a::bc:: 25/Nov/2026:07:42:08 abc::def 1:2:3 192.168.01.1`

func TestFind(t *testing.T) {
	good, bad := findIn(t, strings.NewReader(mixed))
	assert.Equal(t, []string{
		"198.18.3.40/32", "2001:db8:5e1:40::1f/128", "203.0.113.10/32", "198.18.0.0/15", "2001:db8::/32", "192.0.2.7/32", "192.0.2.8/32",
		"198.18.3.1/32", "198.18.3.9/32", "198.18.7.114/32", "::1/128", "192.0.2.9/32", "fe80::1/128", "192.0.2.77/32",
	}, good)
	for text, part := range map[string]string{
		"1.2.3.4": "version number", "300.1.1.1": "0 to 255", "1.2.3.4.5": "more than four parts", "00:1a:2b:3c:4d:5e": "MAC", "d::": "scope operator",
		"07:42:08": "time", "abc::def": "scope operator", "192.168.01.1": "octal",
	} {
		assert.Contains(t, bad[text], part, text)
	}
}

// What stands on lines before says nothing of a line.
func TestFindJudgesALineByItself(t *testing.T) {
	good, _ := findIn(t, strings.NewReader("\n\nversion:\n198.18.3.40\ntcp4\n198.18.3.40.443\nx\ny\ntcp4 0 0 198.18.7.1.443 x\n"))
	assert.Equal(t, []string{"198.18.3.40/32", "198.18.7.1/32"}, good)
}

func TestFindStreamsAndCounts(t *testing.T) {
	for _, text := range []string{mixed, corpus} {
		want, wantBad := findIn(t, strings.NewReader(text))
		got, gotBad := findIn(t, iotest.OneByteReader(strings.NewReader(text)))
		assert.Equal(t, want, got, "however the text arrives")
		assert.Equal(t, wantBad, gotBad)
	}
	var where []string
	require.NoError(t, Find(strings.NewReader("a\n\n  198.18.3.40 x"), func(f Found) error {
		where = append(where, fmt.Sprintf("%d:%d", f.Line, f.Offset))
		return nil
	}))
	assert.Equal(t, []string{"3:5"}, where)
	long := strings.Repeat("1.", 1<<20) + " 198.18.3.40"
	got, bad := findIn(t, strings.NewReader(long))
	assert.Equal(t, []string{"198.18.3.40/32"}, got)
	assert.NotEmpty(t, bad)
	stop := fmt.Errorf("enough")
	assert.ErrorIs(t, Find(strings.NewReader(mixed), func(Found) error { return stop }), stop)
	assert.ErrorIs(t, Find(iotest.ErrReader(stop), func(Found) error { return nil }), stop)
}

func FuzzFindText(f *testing.F) {
	f.Add([]byte(mixed))
	f.Add([]byte("::::1.2.3.4::/::/.:"))
	f.Fuzz(func(t *testing.T, text []byte) {
		err := Find(bytes.NewReader(text), func(found Found) error {
			if !bytes.HasPrefix(text[found.Offset:], []byte(found.Text)) {
				t.Errorf("%q does not stand at %d of %q", found.Text, found.Offset, text)
			}
			return nil
		})
		if err != nil {
			t.Error(err)
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add("3323069224")
	f.Add("0x20010db8000000000000000000000001")
	f.Add("f.1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa")
	f.Fuzz(func(t *testing.T, s string) {
		a, _, err := Read(s)
		if err != nil {
			return
		}
		if back, _, err := Read(a.String()); err != nil || back != a {
			t.Errorf("Read(%q) = %s does not read back", s, a)
		}
	})
}

// BenchmarkFind measures finding in an access log beside a regular expression
// for both families.
func BenchmarkFind(b *testing.B) {
	line := `198.18.3.40 - - [14/Nov/2026:06:42:08 +0000] "GET /programme HTTP/1.1" 200 5316 "https://heronlake.example/" "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0" 2001:db8:5e1:40::1f` + "\n"
	text := []byte(strings.Repeat(line, 1000))
	b.Run("find", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for b.Loop() {
			_ = Find(bytes.NewReader(text), func(Found) error { return nil })
		}
	})
	either := regexp.MustCompile(`\b(?:\d{1,3}\.){3}\d{1,3}\b|\b(?:[0-9A-Fa-f]{0,4}:){2,7}[0-9A-Fa-f]{0,4}\b`)
	b.Run("regexp", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for b.Loop() {
			either.FindAllIndex(text, -1)
		}
	})
}

// halves cuts a prefix in two; ok is false for a single address.
func halves(p netip.Prefix) (low, high netip.Prefix, ok bool) {
	p = p.Masked()
	if !p.IsValid() || p.IsSingleIP() {
		return netip.Prefix{}, netip.Prefix{}, false
	}
	low = netip.PrefixFrom(p.Addr(), p.Bits()+1)
	return low, netip.PrefixFrom(RangeOf(low).Last.Next(), p.Bits()+1), true
}
