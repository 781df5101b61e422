package demo

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/visit"
)

var until = time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC)

func feed(t *testing.T, name string) *atlas.Source {
	t.Helper()
	text, err := files.ReadFile("files/" + name)
	require.NoError(t, err)
	s, err := source.ReadGeofeed(bytes.NewReader(text), atlas.About{Name: name, Rank: 1})
	require.NoError(t, err)
	return s
}

func TestTheRegattasNetworks(t *testing.T) {
	towns, countries, families := map[string]bool{}, map[string]bool{}, map[int]bool{}
	s := feed(t, "harbour-net.csv")
	assert.Empty(t, s.Rejects())
	assert.Empty(t, s.Remarks())
	a := atlas.New(s)
	for _, nw := range networks {
		w := a.Lookup(nw.prefix.Addr()).Location
		families[nw.prefix.Addr().BitLen()] = true
		if w.City != nil {
			towns[*w.City+*w.CountryCode] = true
			assert.Less(t, *w.RadiusKm, 100.0, "%s is in the gazetteer", *w.City)
		}
		if w.CountryCode != nil {
			countries[*w.CountryCode] = true
		}
	}
	assert.GreaterOrEqual(t, len(towns), 30)
	assert.GreaterOrEqual(t, len(countries), 20)
	assert.Len(t, families, 2)
	assert.Empty(t, feed(t, "lakeside-exchange.csv").Rejects())

	text, err := files.Open("files/registry-statistics.txt")
	require.NoError(t, err)
	registry, err := source.ReadDelegated(text, atlas.About{Name: "registry", Rank: 1})
	require.NoError(t, err)
	assert.Empty(t, registry.Rejects())
	assert.Len(t, registry.Remarks(), 1, "EU is not a country")
}

// Samples come only from blocks that are reserved for documentation and
// benchmarking, or from the regatta's own machines.
func TestAddressesAreNobodys(t *testing.T) {
	for _, v := range Visits(Seed, 2000, until) {
		a := netip.MustParseAddr(*v.Peer)
		assert.NotEqual(t, addr.Public, addr.KindOf(a), *v.Peer)
	}
	for _, nw := range networks {
		assert.NotEqual(t, addr.Public, addr.KindOf(nw.prefix.Addr()), nw.prefix)
	}
}

func TestVisitsAreDeterministic(t *testing.T) {
	one := Visits(Seed, 300, until)
	assert.Equal(t, one, Visits(Seed, 300, until))
	assert.NotEqual(t, one, Visits(Seed+1, 300, until))
	seen := map[string]bool{}
	for i, v := range one {
		at, ok := visit.TimeOf(uuid.MustParse(*v.ID))
		require.True(t, ok)
		assert.False(t, at.After(until))
		assert.WithinDuration(t, until, at, days*24*time.Hour)
		assert.False(t, seen[*v.ID])
		seen[*v.ID] = true
		if i > 0 {
			assert.Less(t, *one[i-1].ID, *v.ID, "the oldest first")
		}
	}
}

func TestUntilStays(t *testing.T) {
	dir := t.TempDir()
	first, err := Until(dir, until)
	require.NoError(t, err)
	assert.Equal(t, until, first)
	again, err := Until(dir, until.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, first, again, "what was cut short is sent again as it was")
	_, err = Until(dir+"/nowhere", until)
	assert.Error(t, err)
}
