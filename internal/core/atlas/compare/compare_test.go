package compare

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/plain"
)

func geofeed(t *testing.T, rank int, lines ...string) *atlas.Source {
	t.Helper()
	s, err := source.ReadGeofeed(strings.NewReader(strings.Join(lines, "\n")), atlas.About{Name: "feed", Rank: rank})
	require.NoError(t, err)
	return s
}

// invented makes an edition of two sources of ranges of many sizes.
func invented(t *testing.T, seed uint64) *atlas.Atlas {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, seed))
	var sources []*atlas.Source
	for rank := range 2 {
		var lines []string
		for i := range 80 {
			wide := netip.PrefixFrom(netip.AddrFrom4([4]byte{byte(r.UintN(224)), byte(r.UintN(256)), 0, 0}), 1+r.IntN(16)).Masked()
			near := netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 18, byte(r.UintN(8)), byte(r.UintN(256))}), 20+r.IntN(13)).Masked()
			six := netip.PrefixFrom(netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, byte(r.UintN(256))}), 32+r.IntN(30)).Masked()
			country := []string{"PT", "ES", "GR", "NO"}[r.IntN(4)]
			lines = append(lines, fmt.Sprintf("%s,%s,,Town %d,", []netip.Prefix{wide, near, six}[i%3], country, r.IntN(20)))
		}
		sources = append(sources, geofeed(t, rank+1, lines...))
	}
	return atlas.New(sources...)
}

// probes are addresses anywhere, half of them where most ranges are.
func probes(seed uint64) []netip.Addr {
	r := rand.New(rand.NewPCG(seed, seed))
	var list []netip.Addr
	for range 400 {
		list = append(list, netip.AddrFrom4([4]byte{byte(r.UintN(224)), byte(r.UintN(256)), byte(r.UintN(256)), byte(r.UintN(256))}),
			netip.AddrFrom4([4]byte{198, 18, byte(r.UintN(8)), byte(r.UintN(256))}))
	}
	return list
}

func TestDiffFindsWhatDiffers(t *testing.T) {
	a, b := invented(t, 13), invented(t, 14)
	assert.Zero(t, Diff(a, a, nil).Ranges)
	c := Diff(a, b, nil)
	assert.Positive(t, c.Ranges)
	sum := 0
	for _, tally := range c.Counts {
		sum += tally.Ranges
	}
	assert.Equal(t, c.Ranges, sum)
	back := Diff(b, a, nil)
	assert.Equal(t, c.Ranges, back.Ranges, "there and back is as far")
	comparison := NewComparison(a, b)
	for _, l := range c.Largest {
		r, err := addr.ParseRange(l.Range)
		require.NoError(t, err)
		for _, ip := range []netip.Addr{r.First, r.Last} {
			difference, now, then, _ := comparison.At(ip)
			assert.Equal(t, l.Difference, difference)
			assert.Equal(t, l.Now, now)
			assert.Equal(t, l.Then, then)
		}
	}
	changed := func(ip netip.Addr) bool { d, _, _, _ := comparison.At(ip); return d != "" }
	for _, ip := range probes(15) {
		before, after := a.Lookup(ip).Location, b.Lookup(ip).Location
		same := plain.Value(before.CountryCode) == plain.Value(after.CountryCode) && plain.Value(before.City) == plain.Value(after.City)
		require.Equal(t, !same, changed(ip), "%s", ip)
	}
	stopped := Diff(a, b, func(float64) bool { return false })
	assert.LessOrEqual(t, stopped.Ranges, c.Ranges)
}

// What an edition covers is counted address by address, the most specific range first.
func TestCoverageAndOverlaps(t *testing.T) {
	small := atlas.New(geofeed(t, 1, "198.18.0.0/24,PT,PT-11,Lisbon,", "198.18.0.0/25,ES,,,", "198.18.0.0/26,,,,", "2001:db8::/32,NO,NO-03,,"),
		geofeed(t, 2, "198.18.0.0/23,GR,,,"))
	c := Cover(small)
	assert.InDelta(t, 128, c.Countries["PT"].IPv4, 0)
	assert.InDelta(t, 128, c.Countries["PT"].IPv4City, 0)
	assert.InDelta(t, 64, c.Countries["ES"].IPv4, 0)
	assert.InDelta(t, 256, c.Countries["GR"].IPv4, 0)
	assert.InDelta(t, 64, c.Nowhere.IPv4, 0)
	assert.InDelta(t, 65536, c.Countries["NO"].IPv6Region, 0)
	own := small.Sources()[0].Coverage()
	assert.InDelta(t, 128, own.Countries["PT"].IPv4, 0, "counted while it was built")
	assert.InDelta(t, 64, own.Countries["ES"].IPv4, 0)
	overlaps := Overlaps(small, Known{})
	require.Len(t, overlaps, 1)
	assert.InDelta(t, 256, overlaps[0].IPv4, 0)
	assert.InDelta(t, 0, *overlaps[0].Agree, 0)
}

func TestExpectations(t *testing.T) {
	list, err := ReadExpectations(strings.NewReader("address,country_code\n# ours\n198.18.3.1, pt\n198.18.200.1,NONE\n198.18.7.1,PT\n"))
	require.NoError(t, err)
	a := atlas.New(geofeed(t, 1, "198.18.3.0/24,PT,,,", "198.18.7.0/24,ES,,,", "198.18.200.0/24,,,,"))
	failures := Check(a, list)
	require.Len(t, failures, 1)
	assert.Equal(t, Failure{Line: 5, Address: "198.18.7.1", Expected: "PT", Found: "ES", Source: "feed"}, failures[0])
	for text, says := range map[string]string{
		"198.18.3.1\n": "line 1", "x,PT\n": "line 1", "198.18.3.1,PT\n198.18.3.1,UK\n": "did you mean GB?", "198.18.3.1,\"PT\n": "quote",
	} {
		_, err := ReadExpectations(strings.NewReader(text))
		require.ErrorContains(t, err, says)
	}
}
