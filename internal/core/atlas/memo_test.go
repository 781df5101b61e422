package atlas_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"eastporch/internal/core/atlas"
)

// layered is an atlas of three sources whose ranges nest and overlap, with more nodes
// than are remembered.
func layered(t *testing.T) *atlas.Atlas {
	t.Helper()
	r := rand.New(rand.NewPCG(7, 7))
	places := []string{"PT,PT-11,Lisbon,", "PT,,,", "ES,ES-MD,Madrid,", "NO,NO-03,Oslo,", ",,,", "JP,JP-13,Tokyo,", "US,,,"}
	var sources []*atlas.Source
	for rank := range 3 {
		var lines []string
		for range 14_000 {
			a := netip.AddrFrom4([4]byte{10, byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32())})
			lines = append(lines, fmt.Sprintf("%s,%s", netip.PrefixFrom(a, 12+r.IntN(18)).Masked(), places[r.IntN(len(places))]))
		}
		sources = append(sources, geofeed(t, rank+1, lines...))
	}
	return atlas.New(sources...)
}

// What is remembered is what would be found: whatever was asked before, for every
// address of a node, from many sides at once.
func TestLookupRemembersWhatItFinds(t *testing.T) {
	a := layered(t)
	each := 12_000
	if testing.Short() {
		each = 6000 // still more than are remembered, together
	}
	var group sync.WaitGroup
	for side := range 4 {
		group.Go(func() {
			r := rand.New(rand.NewPCG(uint64(side), 1))
			for range each {
				ip := netip.AddrFrom4([4]byte{10, byte(r.Uint32()), byte(r.Uint32()), byte(r.Uint32())})
				want := a.Found(ip)
				for range 2 {
					if got := a.Lookup(ip); !assert.ObjectsAreEqual(want, got) {
						t.Errorf("%s: remembered otherwise than it is found", ip)
						return
					}
				}
			}
		})
	}
	group.Wait()
	results, places := a.Remembered()
	assert.LessOrEqual(t, results, atlas.ResultsKept, "no more are remembered")
	assert.Greater(t, results, atlas.ResultsKept*3/4)
	assert.Positive(t, places)
}

// A correction, which is one more source, is never answered from what was remembered
// without it; an atlas of too many sources remembers nothing.
func TestWithForgets(t *testing.T) {
	ip := netip.MustParseAddr("198.18.3.40")
	a := atlas.New(geofeed(t, 1, "198.18.0.0/15,PT,,,"))
	assert.Equal(t, "PT", *a.Lookup(ip).Location.CountryCode)
	corrected := a.With(geofeed(t, 1, "198.18.3.0/24,NO,,,"))
	assert.Equal(t, "NO", *corrected.Lookup(ip).Location.CountryCode)
	assert.Equal(t, "PT", *a.Lookup(ip).Location.CountryCode)
	var many []*atlas.Source
	for rank := range atlas.ResultSources + 1 {
		many = append(many, geofeed(t, rank+1, "198.18.0.0/15,PT,,,"))
	}
	b := atlas.New(many...)
	assert.Equal(t, "PT", *b.Lookup(ip).Location.CountryCode)
	results, _ := b.Remembered()
	assert.Zero(t, results)
}
