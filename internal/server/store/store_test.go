package store

import (
	"context"
	"crypto/rand"
	"net/netip"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/visit"
	"eastporch/internal/dbtest"
)

func TestMain(m *testing.M) { os.Exit(dbtest.Run(m)) }

const site = "heronlake.example"

var start = time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), dbtest.New(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func ptr[T any](v T) *T { return &v }

// made is a visit of a minute after start, from a town or from nowhere.
func made(t *testing.T, minute int, city string) visit.Visit {
	t.Helper()
	at := start.Add(time.Duration(minute) * time.Minute)
	id, err := visit.NewID(at, rand.Reader)
	require.NoError(t, err)
	v := visit.Visit{ID: id, Time: at, Site: site, Path: "/programme", Trail: caller.Trail{Hops: []caller.Hop{}, Notes: []string{}}, Earlier: []visit.Reading{}}
	kind := addr.Benchmarking
	v.Card.Address = visit.Address{Text: addr.Optional{Addr: netip.MustParseAddr("198.18.3.40")}, Kind: &kind, Obtained: "header"}
	v.Card.Whereabouts = atlas.Nowhere("made up")
	if city != "" {
		v.Card.Whereabouts = atlas.Whereabouts{
			Level: atlas.City, CountryCode: ptr("PT"), City: &city, Latitude: ptr(38.7), Longitude: ptr(-9.1), RadiusKm: ptr(15.0),
		}
	} else {
		v.Card.Address.SetAside = true
	}
	return v
}

func add(t *testing.T, s *Store, visits ...visit.Visit) {
	t.Helper()
	for _, v := range visits {
		added, err := s.Add(t.Context(), v)
		require.NoError(t, err)
		require.True(t, added)
	}
}

func TestAVisitReadsBackAsItWasStored(t *testing.T) {
	t.Parallel()
	s := open(t)
	v := made(t, 0, "Lisbon")
	v.Referrer, v.Agent = ptr("https://heronlake.example/"), ptr("<script>alert(1)</script>")
	add(t, s, v)
	got, err := s.Visit(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, v, got)
	_, err = s.Visit(t.Context(), uuid.New())
	assert.ErrorIs(t, err, visit.ErrNoVisit)
}

func TestTheSameIDIsStoredOnceAndTheFirstWins(t *testing.T) {
	t.Parallel()
	s := open(t)
	v := made(t, 0, "Lisbon")
	var added sync.Map
	var group sync.WaitGroup
	for n := range 8 {
		group.Go(func() {
			other := v
			ok, err := s.Add(t.Context(), other)
			assert.NoError(t, err)
			added.Store(n, ok)
		})
	}
	group.Wait()
	once := 0
	added.Range(func(_, ok any) bool {
		if ok.(bool) {
			once++
		}
		return true
	})
	assert.Equal(t, 1, once)
	second := v
	second.Path = "/other"
	ok, err := s.Add(t.Context(), second)
	require.NoError(t, err)
	assert.False(t, ok)
	got, err := s.Visit(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, "/programme", got.Path)
}

func TestListsPageByCursorAndFilter(t *testing.T) {
	t.Parallel()
	s := open(t)
	for i := range 7 {
		city := "Lisbon"
		if i%3 == 0 {
			city = ""
		}
		add(t, s, made(t, i, city))
	}
	other := made(t, 3, "Lisbon")
	other.Site = "other.example"
	add(t, s, other)

	var seen []time.Time
	cursor := uuid.Nil
	for {
		page, err := s.Visits(t.Context(), visit.Filter{Site: site}, cursor, 3)
		require.NoError(t, err)
		if len(page) == 0 {
			break
		}
		for _, v := range page {
			seen = append(seen, v.Time)
		}
		cursor = page[len(page)-1].ID
	}
	require.Len(t, seen, 7)
	for i, at := range seen {
		assert.Equal(t, start.Add(time.Duration(6-i)*time.Minute), at, "newest first, each once")
	}

	tests := []struct {
		name   string
		filter visit.Filter
		want   int64
	}{
		{"everything", visit.Filter{}, 7},
		{"from is included", visit.Filter{From: start.Add(2 * time.Minute)}, 5},
		{"to is not", visit.Filter{To: start.Add(2 * time.Minute)}, 2},
		{"by country", visit.Filter{CountryCode: "PT"}, 4},
		{"by town", visit.Filter{City: "Lisbon"}, 4},
		{"by level", visit.Filter{Level: atlas.None}, 3},
		{"set aside", visit.Filter{SetAside: ptr(true)}, 3},
		{"not set aside", visit.Filter{SetAside: ptr(false)}, 4},
		{"by path", visit.Filter{Path: "/prog"}, 7},
		{"a path with signs of a pattern", visit.Filter{Path: "/%"}, 0},
		{"nothing of another kind", visit.Filter{CountryCode: "PT", Level: atlas.None}, 0},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			tt.filter.Site = site
			count, err := s.Count(t.Context(), tt.filter)
			require.NoError(t, err)
			assert.Equal(t, visit.Count{Matching: tt.want, All: 7}, count)
			list, err := s.Visits(t.Context(), tt.filter, uuid.Nil, 100)
			require.NoError(t, err)
			assert.Len(t, list, int(tt.want))
		})
	}
}

func TestReports(t *testing.T) {
	t.Parallel()
	s := open(t)
	add(t, s, made(t, 0, "Lisbon"), made(t, 1, "Lisbon"), made(t, 2, "Porto"), made(t, 3, ""))
	unknown := made(t, 4, "")
	unknown.Card.Address.SetAside = false
	add(t, s, unknown)
	countries, err := s.Countries(t.Context(), visit.Filter{Site: site})
	require.NoError(t, err)
	assert.Equal(t, []visit.CountryCount{{CountryCode: ptr("PT"), Visits: 3}, {CountryCode: nil, Visits: 2}}, countries)
	places, pointless, err := s.Places(t.Context(), visit.Filter{Site: site})
	require.NoError(t, err)
	require.Len(t, places, 2)
	assert.Equal(t, "Lisbon", *places[0].City)
	assert.Equal(t, int64(2), places[0].Visits)
	assert.Equal(t, visit.Pointless{SetAside: 1, Unknown: 1}, pointless)
}

func TestTwoServicesMigrateOneDatabase(t *testing.T) {
	t.Parallel()
	url := dbtest.New(t)
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			s, err := Open(t.Context(), url)
			if assert.NoError(t, err) {
				s.Close()
			}
		})
	}
	group.Wait()
}

func TestADatabaseThatIsNotThere(t *testing.T) {
	t.Parallel()
	_, err := Open(t.Context(), "postgres://eastporch@127.0.0.1:1/none")
	require.ErrorIs(t, err, visit.ErrAway)
	s := open(t)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, s.Ping(ended), visit.ErrAway)
}
