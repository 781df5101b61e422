package addr

import (
	"encoding/json"
	"fmt"
	"math/big"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	tests := []struct{ name, in, want string }{
		{"dotted IPv4", "198.18.3.40", "198.18.3.40"},
		{"white space around", " \t198.18.3.40\r\n", "198.18.3.40"},
		{"IPv4 with a port", "198.18.3.40:443", "198.18.3.40"},
		{"IPv6 in the form of RFC 5952", "2001:0DB8:0:0:0:0:0:1", "2001:db8::1"},
		{"mapped is IPv4", "::ffff:198.18.3.40", "198.18.3.40"},
		{"brackets", "[2001:db8::1]", "2001:db8::1"},
		{"brackets and a port", "[2001:db8::1]:65535", "2001:db8::1"},
		{"the zone is dropped", "fe80::1%eth0", "fe80::1"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := Parse(tt.in)
			require.NoError(t, err)
			assert.Equal(t, tt.want, got.String())
		})
	}
}

func TestParseRefusesWithAReason(t *testing.T) {
	tests := []struct{ name, in, reason string }{
		{"empty", "", "it is empty"},
		{"a part over 255", "999.999.999.999", "from 0 to 255"},
		{"leading zero", "192.0.2.010", "octal"},
		{"too few parts", "192.0.2", "four parts"},
		{"IPv6 groups", "2001:db8:::1", "groups"},
		{"a name", "heronlake.example", "write it like"},
		{"a port over 65535", "192.0.2.1:70000", "192.0.2.1"},
		{"an unclosed bracket", "[2001:db8::1", "groups"},
		{"brackets around IPv4", "[192.0.2.1]", "write it like"},
		{"text of 64 KB", string(make([]byte, 64<<10)), "longer than any address"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := Parse(tt.in)
			require.ErrorIs(t, err, ErrSyntax)
			assert.Contains(t, err.Error(), tt.reason)
			assert.Less(t, len(err.Error()), 600, "the error quotes a bounded part of its input")
		})
	}
}

func TestParsePrefix(t *testing.T) {
	for in, want := range map[string]string{
		"198.18.0.0/15": "198.18.0.0/15", "192.0.2.1": "192.0.2.1/32", "2001:db8::/32": "2001:db8::/32",
		"::ffff:192.0.2.0/120": "192.0.2.0/24", "2001:db8::1": "2001:db8::1/128",
	} {
		got, err := ParsePrefix(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got.String())
	}
	_, err := ParsePrefix("203.0.113.4/28")
	require.ErrorIs(t, err, ErrSyntax)
	assert.ErrorContains(t, err, "did you mean 203.0.113.0/28?")
	for _, in := range []string{"192.0.2.0/33", "::ffff:0:0/90", "192.0.2.0/", "/24"} {
		_, err := ParsePrefix(in)
		assert.ErrorIs(t, err, ErrSyntax, in)
	}
}

// Every row of the registries' file, at its first and last address and one
// beyond each, against a scan for the longest row.
func TestKindOfEveryRegistryRow(t *testing.T) {
	scan := func(a netip.Addr) Kind {
		best := -1
		kind := kindElsewhere(a)
		for _, b := range Blocks() {
			if b.Prefix.Contains(a) && b.Prefix.Bits() > best {
				best, kind = b.Prefix.Bits(), b.Kind
			}
		}
		return kind
	}
	rows := Blocks()
	require.Len(t, rows, 53, "the mapped row is the only one left out of 54")
	for _, b := range rows {
		r := RangeOf(b.Prefix)
		for _, a := range []netip.Addr{r.First, r.Last, r.First.Prev(), r.Last.Next()} {
			if a.IsValid() {
				assert.Equal(t, scan(Canonical(a)), KindOf(a), "%s, by %s", a, b.Prefix)
			}
		}
	}
}

func TestKindOf(t *testing.T) {
	tests := map[string]Kind{
		"10.1.2.3": Private, "127.0.0.1": Loopback, "169.254.1.1": LinkLocal, "100.64.0.1": Shared,
		"192.0.2.1": Documentation, "198.18.3.40": Benchmarking, "224.0.0.1": Multicast,
		"255.255.255.255": Broadcast, "0.0.0.0": Unspecified, "0.1.2.3": ThisNetwork, "192.0.0.9": Protocol,
		"192.31.196.1": Service, "64:ff9b::c612:328": Translation, "2002::1": Tunnel, "100::1": Discard,
		"240.0.0.1": Reserved, "4000::1": Reserved, "::2": Reserved, "2600::1": Public, "9.9.9.9": Public,
		"::ffff:10.1.2.3": Private, "fd00::1": Private, "fe80::1%eth0": LinkLocal,
	}
	for in, want := range tests {
		assert.Equal(t, want, KindOf(netip.MustParseAddr(in)), in)
	}
	assert.Equal(t, Reserved, KindOf(netip.Addr{}), "what is no address is not public")
}

func TestKindWordsRoundTrip(t *testing.T) {
	for _, k := range Kinds() {
		text, err := json.Marshal(k)
		require.NoError(t, err)
		var back Kind
		require.NoError(t, json.Unmarshal(text, &back))
		assert.Equal(t, k, back)
	}
	var k Kind
	assert.Error(t, json.Unmarshal([]byte(`"mapped"`), &k))
}

func TestEmbedded(t *testing.T) {
	for in, want := range map[string]string{
		"64:ff9b::c612:328":                     "198.18.3.40 NAT64",
		"2002:c612:328::1":                      "198.18.3.40 6to4",
		"2001:0:1:2:3:4:39ed:fcd7":              "198.18.3.40 Teredo",
		"64:ff9b:1::c612:328":                   "",
		"2001:db8::1":                           "",
		"198.18.3.40":                           "",
		"::ffff:198.18.3.40":                    "",
		"2001:1::1":                             "",
		"2003:c612:328::1":                      "",
		"64:ff9b:0:0:0:1:c612:328":              "",
		"2001:0000:ffff:ffff:ffff:ffff:0:0":     "255.255.255.255 Teredo",
		"2002:ffff:ffff:ffff:ffff:ffff:ffff:ff": "255.255.255.255 6to4",
	} {
		inner, by, ok := Embedded(netip.MustParseAddr(in), Embeddings())
		assert.Equal(t, want != "", ok, in)
		if ok {
			assert.Equal(t, want, inner.String()+" "+by.How, in)
		}
	}
}

// The examples of RFC 6052, section 2.4: 192.0.2.33 under each length.
func TestOwnTranslators(t *testing.T) {
	for prefix, in := range map[string]string{
		"2001:db8::/32": "2001:db8:c000:221::", "2001:db8:100::/40": "2001:db8:1c0:2:21::", "2001:db8:122::/48": "2001:db8:122:c000:2:2100::",
		"2001:db8:122:300::/56": "2001:db8:122:3c0:0:221::", "2001:db8:122:344::/64": "2001:db8:122:344:c0:2:2100::",
		"2001:db8:122:344::/96": "2001:db8:122:344::192.0.2.33",
	} {
		inner, by, ok := Embedded(netip.MustParseAddr(in), Embeddings(netip.MustParsePrefix(prefix)))
		assert.True(t, ok, prefix)
		assert.Equal(t, "192.0.2.33 NAT64", inner.String()+" "+by.How, prefix)
	}
	_, _, ok := Embedded(netip.MustParseAddr("64:ff9b:1::c000:221"), Embeddings())
	assert.False(t, ok, "only its owner knows its length")
	inner, _, ok := Embedded(netip.MustParseAddr("64:ff9b:1::c000:221"), Embeddings(netip.MustParsePrefix("64:ff9b:1::/96")))
	assert.True(t, ok)
	assert.Equal(t, "192.0.2.33", inner.String())
}

// Of nested prefixes the longest says where the address is: random prefixes in one
// another, and the model shifts whole numbers.
func TestNestedTranslators(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 5))
	lengths := []int{32, 40, 48, 56, 64, 96}
	tried, differed := 20_000, 0
	for range tried {
		var base [16]byte
		copy(base[:], [][]byte{{0x20, 0x01, 0x0d, 0xb8}, {0x20, 0x02, 1, 2}, {0x20, 0x01, 0, 0}, {0, 0x64, 0xff, 0x9b}, {0xfd, 0, 0, 9}}[r.IntN(5)])
		a := base
		for i := 4; i < 16; i++ {
			a[i] = byte(r.IntN(3))
		}
		var own []netip.Prefix
		for range 1 + r.IntN(4) {
			in := a
			for i := 4 + r.IntN(12); r.IntN(2) == 0 && i < 16; i++ { // some do not hold it
				in[i] = byte(r.IntN(3))
			}
			p, err := netip.AddrFrom16(in).Prefix(lengths[r.IntN(len(lengths))])
			require.NoError(t, err)
			own = append(own, p)
		}
		address := netip.AddrFrom16(a)
		want, longest := "", -1
		for _, p := range own {
			if !p.Contains(address) || p.Bits() <= longest {
				continue
			}
			longest = p.Bits()
			n := new(big.Int).SetBytes(a[:])
			if p.Bits() < 96 { // without bits 64 to 71, from the left
				low := new(big.Int).And(n, new(big.Int).SetUint64(1<<56-1))
				n.Rsh(n, 64).Lsh(n, 56).Or(n, low)
				n.Rsh(n, uint(120-p.Bits()-32))
			}
			want = fmt.Sprint(uint32(new(big.Int).And(n, big.NewInt(1<<32-1)).Uint64()))
		}
		got := ""
		if inner, by, ok := Embedded(address, Embeddings(own...)); ok && by.Own {
			four := inner.As4()
			got = fmt.Sprint(uint32(four[0])<<24 | uint32(four[1])<<16 | uint32(four[2])<<8 | uint32(four[3]))
		} else if ok && longest <= by.Prefix.Bits() {
			continue // a well-known prefix is as long
		}
		if !assert.Equal(t, want, got, "%s in %v", address, own) {
			differed++
		}
	}
	t.Logf("%d addresses: %d differed", tried, differed)
}

func TestPolicy(t *testing.T) {
	p := NewPolicy(
		Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: Resolve},
		Rule{Prefix: netip.MustParsePrefix("198.18.5.0/24"), Action: Skip, Placeholder: "lab"},
		Rule{Kind: Loopback, Action: Skip, Placeholder: "this machine"},
	)
	tests := []struct {
		name, addr  string
		action      Action
		placeholder string
		byPrefix    bool
	}{
		{"a public address is resolved", "9.9.9.9", Resolve, "", false},
		{"a private one is not", "10.1.2.3", Skip, "", false},
		{"a prefix opens", "198.18.3.40", Resolve, "", true},
		{"the longer prefix wins", "198.18.5.1", Skip, "lab", true},
		{"a kind has a word", "127.0.0.1", Skip, "this machine", false},
		{"mapped is the same", "::ffff:198.18.3.40", Resolve, "", true},
		{"translation is resolved by what it embeds", "64:ff9b::1", Resolve, "", false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			rule, byPrefix := p.Decide(netip.MustParseAddr(tt.addr))
			assert.Equal(t, tt.action, rule.Action)
			assert.Equal(t, tt.placeholder, rule.Placeholder)
			assert.Equal(t, tt.byPrefix, byPrefix)
		})
	}
	assert.Equal(t, Skip, Rule{}.Action, "a forgotten field opens nothing")
}

func TestTruncate(t *testing.T) {
	for in, want := range map[string]string{
		"198.18.3.40": "198.18.3.0", "2001:db8:5e1:40::1f": "2001:db8:5e1::",
	} {
		assert.Equal(t, want, Truncate(netip.MustParseAddr(in)).String())
	}
	assert.False(t, Truncate(netip.Addr{}).IsValid())
	for in, want := range map[string]string{
		"198.18.3.0/26": "198.18.3.0/24", "198.18.0.0/17": "198.18.0.0/17", "2001:db8:5e1:40::/64": "2001:db8:5e1::/48",
	} {
		assert.Equal(t, want, TruncatePrefix(netip.MustParsePrefix(in)).String())
	}
}

// A prefix is the range of its addresses, and the other way round.
func TestRangeRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		p := randomPrefix(r)
		rng := RangeOf(p)
		back, ok := rng.Prefix()
		require.True(t, ok, p)
		require.Equal(t, p, back)
		require.True(t, rng.Contains(rng.First) && rng.Contains(rng.Last))
		require.False(t, rng.Contains(rng.Last.Next()), p)
	}
	odd := Range{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.4")}
	assert.Equal(t, "192.0.2.1-192.0.2.4", odd.String())
	assert.Equal(t, "no addresses", Range{}.String())
}

func randomPrefix(r *rand.Rand) netip.Prefix {
	if r.IntN(2) == 0 {
		var b [4]byte
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		return netip.PrefixFrom(netip.AddrFrom4(b), r.IntN(33)).Masked()
	}
	var b [16]byte
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	b[0] |= 0x20 // not IPv4-mapped
	return netip.PrefixFrom(netip.AddrFrom16(b), r.IntN(126)+3).Masked()
}

func TestOptional(t *testing.T) {
	text, err := json.Marshal([]Optional{{}, {netip.MustParseAddr("2001:db8::1")}})
	require.NoError(t, err)
	assert.Equal(t, `[null,"2001:db8::1"]`, string(text))
	var back []Optional
	require.NoError(t, json.Unmarshal(text, &back))
	assert.False(t, back[0].IsValid())
	assert.Equal(t, "2001:db8::1", back[1].String())
	var one Optional
	assert.ErrorIs(t, json.Unmarshal([]byte(`"x"`), &one), ErrSyntax)
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"198.18.3.40:80", "[2001:db8::1%x]:1", "::ffff:1.2.3.4", "01.2.3.4", ":", "[", "\x00"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Parse(s)
		if err != nil {
			return
		}
		if a.Is4In6() || a.Zone() != "" {
			t.Errorf("Parse(%q) = %s is not canonical", s, a)
		}
		if back, err := Parse(a.String()); err != nil || back != a {
			t.Errorf("Parse(%q) = %s does not read back: %s, %v", s, a, back, err)
		}
	})
}

func BenchmarkKindOf(b *testing.B) {
	a := netip.MustParseAddr("198.18.3.40")
	b.ReportAllocs()
	for b.Loop() {
		KindOf(a)
	}
}

// Two addresses whose IPv4 addresses differ in the last 8 bits only are one after
// truncation, however they embed them.
func TestTruncationHidesEmbeddedAddresses(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 13))
	forms := map[string]func(four [4]byte) netip.Addr{
		"mapped": func(four [4]byte) netip.Addr { return netip.AddrFrom16(netip.AddrFrom4(four).As16()) },
		"6to4":   func(four [4]byte) netip.Addr { return six("2002::1", 2, four) },
		"Teredo": func(four [4]byte) netip.Addr {
			return six("2001:0:c000:201:8000:63bf::", 12, [4]byte{^four[0], ^four[1], ^four[2], ^four[3]})
		},
		"Teredo's server":  func(four [4]byte) netip.Addr { return six("2001::", 4, four) },
		"NAT64":            func(four [4]byte) netip.Addr { return six("64:ff9b::", 12, four) },
		"ISATAP":           func(four [4]byte) netip.Addr { return six("2001:db8:1:2:0:5efe::", 12, four) },
		"compatible":       func(four [4]byte) netip.Addr { return six("::", 12, four) },
		"6rd behind a /28": func(four [4]byte) netip.Addr { return six("2001:db8::", 4, four) },
	}
	for _, bits := range []int{32, 40, 48, 56, 64, 96} {
		forms[fmt.Sprintf("own NAT64 /%d", bits)] = func(four [4]byte) netip.Addr {
			b := netip.MustParseAddr("2001:db8:64:64:0:64:64:0").As16()
			at := bits / 8
			for _, c := range four {
				if at == 8 {
					at++
				}
				b[at] = c
				at++
			}
			return netip.AddrFrom16(b)
		}
	}
	for name, form := range forms {
		for range 500 {
			one := [4]byte{byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256))}
			other := one
			other[3] ^= byte(1 + r.IntN(255))
			a, b := form(one), form(other)
			require.Equal(t, Truncate(a), Truncate(b), "%s: %s and %s", name, a, b)
			require.Equal(t, TruncatePrefix(netip.PrefixFrom(a, a.BitLen())), TruncatePrefix(netip.PrefixFrom(b, b.BitLen())), name)
			require.Equal(t, TruncateRange(Range{a, a}), TruncateRange(Range{b, b}), name)
			if a.Is6() {
				require.Equal(t, TruncatePrefix(netip.PrefixFrom(a, 48).Masked()), TruncatePrefix(netip.PrefixFrom(b, 48).Masked()), name)
			}
		}
	}
	assert.Equal(t, "2002::/16", TruncatePrefix(netip.MustParsePrefix("2002::/16")).String())
	assert.Equal(t, "2000::/3", TruncatePrefix(netip.MustParsePrefix("2000::/3")).String())
}

// six puts four bytes into an IPv6 address.
func six(base string, at int, four [4]byte) netip.Addr {
	b := netip.MustParseAddr(base).As16()
	copy(b[at:], four[:])
	return netip.AddrFrom16(b)
}

// The range of a prefix, and the prefix of a range, against addresses taken apart byte by byte.
func TestRangesOfPrefixes(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 1))
	for range 20_000 {
		raw := make([]byte, []int{4, 16}[r.IntN(2)])
		for i := range raw {
			raw[i] = byte(r.UintN(256))
		}
		a, _ := netip.AddrFromSlice(raw)
		p := netip.PrefixFrom(a, r.IntN(a.BitLen()+1))
		first, last := slices.Clone(raw), slices.Clone(raw)
		for bit := p.Bits(); bit < a.BitLen(); bit++ {
			first[bit/8] &^= 0x80 >> (bit % 8)
			last[bit/8] |= 0x80 >> (bit % 8)
		}
		want := Range{}
		want.First, _ = netip.AddrFromSlice(first)
		want.Last, _ = netip.AddrFromSlice(last)
		require.Equal(t, want, RangeOf(p), p)
		back, ok := want.Prefix()
		require.True(t, ok, p)
		require.Equal(t, p.Masked(), back)
		short := Range{want.First, want.Last.Prev()}
		if p.Bits() < a.BitLen() {
			_, ok = short.Prefix()
			require.Equal(t, len(short.Prefixes()) == 1, ok, short)
		}
	}
}

// A zone is the name of an interface, and nothing that somebody would like others to read.
func TestZonesAreNamesOfInterfaces(t *testing.T) {
	for zone, ok := range map[string]bool{
		"eth0": true, "1": true, "wlp3s0.100": true, "br-lan_2": true, "": false,
		"Your account is locked": false, "eth0\nBcc: x@y.example": false, "a/b": false, "a%b": false, "<b>": false, "eth0 ": true, "sixteen-letters0": false, "\u202eeth0": false, "é": false,
	} {
		text := "fe80::1%" + zone
		_, err := Parse(text)
		assert.Equal(t, ok, err == nil, "%q", text)
		_, quick := Quick("[" + strings.TrimSpace(text) + "]:443")
		assert.Equal(t, ok, quick, "%q with a port", text)
		_, _, err = Read(text)
		assert.Equal(t, ok, err == nil, "%q, read", text)
		_, err = ParsePrefix(text)
		assert.Equal(t, ok, err == nil, "%q as a prefix", text)
	}
}
