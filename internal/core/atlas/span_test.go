package atlas_test

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

// What a range spans, counted address by address from what Lookup says of each.
func TestSpansAgainstCounting(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 6))
	address := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{198, 18, byte(n >> 8), byte(n)}) }
	places := []string{"PT,PT-11,Lisbon", "PT,PT-13,Porto", "PT,PT-11,", "PT,,", "ES,ES-MD,Madrid", "ES,,", "ZZ,,"}
	tried, differed := 0, 0
	for range 12 {
		var sources []*atlas.Source
		for rank := range 2 {
			seen, lines := map[netip.Prefix]bool{}, []string{"198.19.0.0/24,NO,,,"}
			for range 40 {
				p, err := address(r.IntN(2048)).Prefix(21 + r.IntN(12))
				require.NoError(t, err)
				if !seen[p] {
					seen[p] = true
					lines = append(lines, fmt.Sprintf("%s,%s,", p, places[r.IntN(len(places))]))
				}
			}
			s, err := source.ReadGeofeed(strings.NewReader(strings.Join(lines, "\n")), atlas.About{Name: fmt.Sprint(rank), Rank: rank})
			require.NoError(t, err)
			sources = append(sources, s)
		}
		a := atlas.New(sources...)
		for range 40 {
			first := r.IntN(2000)
			last := first + r.IntN(2047-first)
			counts, stretches, before := map[string]int{}, map[string]int{}, ""
			for n := first; n <= last; n++ {
				w := a.Found(address(n)).Location
				place := "none"
				if w.CountryCode != nil {
					place = plain.Value(w.CountryCode) + " " + plain.Value(w.RegionCode) + " " + plain.Value(w.City)
				}
				if counts[place]++; place != before {
					stretches[place]++
				}
				before = place
			}
			shares, done := a.Span(addr.Range{First: address(first), Last: address(last)}, 1<<20)
			same := done.Last == address(last) && len(shares) == len(counts)
			total := 0.0
			for i, s := range shares {
				place := "none"
				if s.CountryCode != "" {
					place = s.CountryCode + " " + s.RegionCode + " " + s.City
				}
				want := float64(counts[place]) / float64(last-first+1)
				same = same && s.Share-want < 1e-9 && want-s.Share < 1e-9 && s.Ranges == stretches[place] && (i == 0 || s.Share <= shares[i-1].Share)
				total += s.Share
			}
			tried++
			if !assert.True(t, same && total > 1-1e-9 && total < 1+1e-9, "%s-%s: %v, not %v %v", address(first), address(last), shares, counts, stretches) {
				differed++
			}
		}
	}
	t.Logf("%d ranges: %d differed", tried, differed)
}
