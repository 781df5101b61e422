package card

import (
	"encoding/json"
	"math"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
)

// Cards are written byte for byte as encoding/json writes them.
func TestAppendJSON(t *testing.T) {
	p := pipeline(t)
	rates, err := locale.ReadRates(strings.NewReader("date,base,currency,rate\n2026-11-25,EUR,JPY,161.25\n"), "a <bank> & \"more\"")
	require.NoError(t, err)
	local := Anywhere()
	local.Currency = "EUR"
	ending, err := locale.ParseEnding("x00")
	require.NoError(t, err)
	local.Endings = map[string]locale.Ending{"JPY": ending}
	local.SetRates(rates)
	local.Variants = variant.New([]variant.Set{{Name: "offer", Default: "open"}, {Name: "a", Default: "b"}}, almanac.Groups{}, nil)
	req := RequestContext{AcceptLanguage: "fi,ja;q=0.2", At: local}
	same := func(c Card) {
		t.Helper()
		want, err := json.Marshal(c)
		require.NoError(t, err)
		require.Equal(t, string(want), string(c.AppendJSON(nil)))
	}
	for i := range 1 << 12 {
		same(p.Card(netip.AddrFrom4([4]byte{198, 18, byte(i >> 4), byte(i * 37)}), caller.ObtainedGiven, req, now))
	}
	for _, ip := range []string{"10.1.2.3", "2001:db8::1", "64:ff9b::c612:328", "fe80::1%eth0", "fe80::1%<a>\"", "::1", "3fff::1"} {
		same(p.Card(netip.MustParseAddr(ip), caller.ObtainedGiven, req, now))
	}
	same(p.Card(netip.Addr{}, "", RequestContext{}, now))
	same(Card{})
	c := p.Card(netip.MustParseAddr("198.18.3.40"), caller.ObtainedGiven, req, now)
	c.Locate(geo.Point{Latitude: 41.15, Longitude: -8.61}, nil)
	same(c)
	c.Truncate()
	same(c)
	// Whatever is replaced in a card shows.
	for i := range 16 {
		c := p.Card(netip.MustParseAddr("198.18.3.40"), caller.ObtainedGiven, req, now)
		same(c)
		text, number, as := "changed", 7.5, uint32(64511)
		w, n := &c.Location, &c.Network
		[]func(){
			func() { w.Level = atlas.None }, func() { w.ContinentCode = &text }, func() { w.CountryCode = nil }, func() { w.RegionCode = &text },
			func() { w.City = &text }, func() { w.PostalCode = &text }, func() { w.Latitude = &number }, func() { w.Longitude = nil },
			func() { w.RadiusKm = &number }, func() { w.TimeZone = &text }, func() { w.Names.Region = &text }, func() { w.Missing = map[string]string{"a": "b"} },
			func() { n.Range = addr.OptionalRange{} }, func() { n.ASNumber = &as }, func() { n.Operator = &text }, func() { c.Evidence = c.Evidence[:1] },
		}[i]()
		same(c)
	}
	for _, f := range []float64{0, 1e-7, -1e-7, 1e21, 123456789.125, math.SmallestNonzeroFloat64, -0.1} {
		c.Location.RadiusKm = &f
		same(c)
	}
	for _, text := range []string{"Zürich", "a\u2028b", "\x00", "\xff\xfe", "<script>", "tab\there", "\x7f", "日本", `quo"te`, ""} {
		c.Location.City, c.Labels, c.Edition.Name = &text, []string{text, text}, text
		c.Location.Missing = map[string]string{text: text, "z": "a", "b": "c"}
		same(c)
	}
}

// ranges of many places, none of which is asked twice in a row.
func BenchmarkCardOfManyRanges(b *testing.B) {
	var feed strings.Builder
	const ranges = 40_000
	for i := range ranges {
		a := netip.AddrFrom4([4]byte{198, 18 + byte(i>>15), byte(i >> 7), byte(i << 1)})
		feed.WriteString(netip.PrefixFrom(a, 31).String() + [...]string{",PT,PT-11,Lisbon,\n", ",NO,NO-03,Oslo,\n", ",JP,JP-13,Tokyo,\n", ",CA,CA-QC,Montréal,\n"}[i%4])
	}
	src, err := source.ReadGeofeed(strings.NewReader(feed.String()), atlas.About{Name: "feed", Rank: 1})
	require.NoError(b, err)
	p := Pipeline{Policy: addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: addr.Resolve}), Atlas: atlas.New(src)}
	b.ReportAllocs()
	i := 0
	for b.Loop() {
		i = (i + 7919) % ranges
		p.Card(netip.AddrFrom4([4]byte{198, 18 + byte(i>>15), byte(i >> 7), byte(i << 1)}), caller.ObtainedGiven, RequestContext{AcceptLanguage: "pt-PT,pt;q=0.9"}, now)
	}
}

func BenchmarkAppendJSON(b *testing.B) {
	src, err := source.ReadGeofeed(strings.NewReader("198.18.3.0/26,PT,PT-11,Lisbon,\n"), atlas.About{Name: "feed", Rank: 1})
	require.NoError(b, err)
	p := Pipeline{Policy: addr.NewPolicy(addr.Rule{Prefix: netip.MustParsePrefix("198.18.0.0/15"), Action: addr.Resolve}), Atlas: atlas.New(src)}
	c := p.Card(netip.MustParseAddr("198.18.3.40"), caller.ObtainedGiven, RequestContext{AcceptLanguage: "pt-PT,pt;q=0.9"}, now)
	b.Run("appended", func(b *testing.B) {
		buffer := make([]byte, 0, 4096)
		for b.Loop() {
			buffer = c.AppendJSON(buffer[:0])
		}
	})
	b.Run("reflected", func(b *testing.B) {
		for b.Loop() {
			_, _ = json.Marshal(c)
		}
	})
}
