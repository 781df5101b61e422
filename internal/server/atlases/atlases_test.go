package atlases

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/document"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/testkit/papers"
)

var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func edition(t *testing.T, lines ...string) *atlas.Atlas {
	t.Helper()
	feed, err := source.ReadGeofeed(strings.NewReader(strings.Join(lines, "\n")), atlas.About{Name: "feed", Rank: 1})
	require.NoError(t, err)
	return atlas.New(feed)
}

// shelf has one edition in use and others by name.
type shelf struct {
	Shelf
	inUse  *atlas.Atlas
	others map[string]*atlas.Atlas
	opened int
}

func (s *shelf) Current() *atlas.Atlas { return s.inUse }

func (s *shelf) Open(name string) (*atlas.Atlas, error) {
	s.opened++
	if a := s.others[name]; a != nil {
		return a, nil
	}
	return nil, fs.ErrNotExist
}

// idle changes nothing.
type idle struct{}

func (idle) Rebuild() error                         { return nil }
func (idle) Publish(context.Context) (int64, error) { return 0, nil }

// table knows the addresses of visits.
type table struct {
	addresses map[netip.Addr]int
	since     time.Time
}

func (s *table) EachAddress(_ context.Context, since time.Time, do func(netip.Addr, int)) error {
	s.since = since
	for a, n := range s.addresses {
		do(a, n)
	}
	return nil
}

func (s *table) WithoutAddress(context.Context, time.Time) (int, int, error) { return 7, 2, nil }

func service(t *testing.T, inUse *atlas.Atlas, others ...*atlas.Atlas) (*Atlases, *shelf, *table, *papers.Rows) {
	t.Helper()
	on, list := &shelf{inUse: inUse, others: map[string]*atlas.Atlas{}}, &table{}
	for _, a := range others {
		on.others[a.Name()] = a
	}
	rows, base := &papers.Rows{}, inUse
	docs := papers.New(rows, papers.Kinds{document.Correction: {None: ErrNoCorrection}}, func() time.Time { return now }, func(set *document.Set) { // as the service does
		corrected, err := Corrected(set)
		require.NoError(t, err)
		first, err := source.Corrected(corrected)
		require.NoError(t, err)
		on.inUse = base.With(first)
	})
	s, err := New(Options{Shelf: on, Workshop: idle{}, Store: list, Documents: docs, Now: func() time.Time { return now }})
	require.NoError(t, err)
	return s, on, list, rows
}

func TestOptionsAreRequired(t *testing.T) {
	_, err := New(Options{})
	require.Error(t, err)
}

// What an edition changes is what its addresses read differently, one by one.
func TestChangesOfVisitsAreThoseOfTheirAddresses(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 16))
	for range 40 {
		towns := []string{"PT,PT-11,Lisbon,", "PT,PT-13,Porto,", "NO,NO-03,Oslo,", "PT,,,"}
		lines := func() (list []string) {
			for i := range 8 {
				if r.IntN(4) > 0 {
					list = append(list, fmt.Sprintf("198.18.%d.0/24,%s", i, towns[r.IntN(len(towns))]))
				}
			}
			return append(list, "198.18.99.0/24,SE,,,")
		}
		before, after := edition(t, lines()...), edition(t, lines()...)
		s, _, list, _ := service(t, before, after)
		list.addresses = map[netip.Addr]int{}
		differ, visits, all := 0, 0, 0
		for range 60 {
			a := netip.AddrFrom4([4]byte{198, 18, byte(r.IntN(9)), byte(r.IntN(256))})
			if _, known := list.addresses[a]; known {
				continue
			}
			n := 1 + r.IntN(5)
			list.addresses[a] = n
			all += n
			x, y := before.Lookup(a).Location, after.Lookup(a).Location
			if words(x) != words(y) {
				differ++
				visits += n
			}
		}
		c, err := s.Changes(t.Context(), "", after.Name())
		require.NoError(t, err)
		assert.Equal(t, now.AddDate(0, 0, -30), list.since)
		assert.Equal(t, []int{len(list.addresses), all, differ, visits},
			[]int{c.Visits.Addresses, c.Visits.Visits, c.Visits.Differently.Addresses, c.Visits.Differently.Visits})
		sum := 0
		for _, n := range c.Visits.Differently.Counts {
			sum += n
		}
		assert.Equal(t, visits, sum, "the kinds add up")
		assert.Len(t, c.Visits.Differently.Examples, min(differ, visitExamples))
	}
}

// words are what a location says.
func words(l atlas.Location) string {
	return strings.Join([]string{plain.Value(l.CountryCode), plain.Value(l.RegionCode), plain.Value(l.City)}, "/")
}

func TestNothingChangesAgainstItself(t *testing.T) {
	a := edition(t, "198.18.3.0/24,PT,PT-11,Lisbon,")
	s, _, list, _ := service(t, a, a)
	list.addresses = map[netip.Addr]int{netip.MustParseAddr("198.18.3.40"): 3}
	c, err := s.Changes(t.Context(), "", a.Name())
	require.NoError(t, err)
	assert.Zero(t, c.Ranges)
	assert.Zero(t, c.Visits.Differently.Visits)
	assert.Equal(t, 3, c.Visits.Visits)
}

func TestAnEditionThatIsNotThereIsAnError(t *testing.T) {
	s, _, _, _ := service(t, edition(t, "198.18.3.0/24,PT,,,"))
	_, err := s.Changes(t.Context(), "", "no-such")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = s.Coverage("no-such")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = s.Accuracy("no-such", strings.NewReader("address\n"))
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// A comparison that was broken off is made anew for the next who asks.
func TestWhatWasBrokenOffIsNotRemembered(t *testing.T) {
	a, b := edition(t, "198.18.3.0/24,PT,,,"), edition(t, "198.18.3.0/24,NO,,,")
	s, _, _, _ := service(t, a, b)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := s.Changes(gone, "", b.Name())
	require.ErrorIs(t, err, context.Canceled)
	c, err := s.Changes(t.Context(), "", b.Name())
	require.NoError(t, err)
	assert.Equal(t, 1, c.Ranges)
}

func TestCoverageCountsAddresses(t *testing.T) {
	s, _, _, _ := service(t, edition(t, "198.18.0.0/22,PT,PT-11,Lisbon,", "198.18.4.0/24,PT,,,", "198.18.8.0/24,NO,NO-03,,", "2001:db8:5e0::/44,NO,NO-03,Oslo,", "198.18.1.0/24,,,,"))
	c, err := s.Coverage("")
	require.NoError(t, err)
	require.Len(t, c.Countries, 2)
	portugal, norway := c.Countries[0], c.Countries[1]
	assert.Equal(t, []any{"PT", "Portugal", "NO", "Norway"}, []any{portugal.CountryCode, portugal.Country, norway.CountryCode, norway.Country})
	assert.InDelta(t, 3*256+256, portugal.IPv4, 0)
	assert.InDelta(t, 3*256, portugal.IPv4City, 0)
	assert.InDelta(t, 256, norway.IPv4, 0)
	assert.InDelta(t, 16, norway.IPv6City, 0)
	assert.InDelta(t, 256, c.Nowhere.IPv4, 0, "a range that is not to be located")
	require.NotNil(t, portugal.Latitude)
	assert.InDelta(t, portugal.IPv4+norway.IPv4, c.Total.IPv4, 0)
}

// What was computed is remembered by what an edition says, not by its name.
func TestCorrectionsAreSeenAtOnce(t *testing.T) {
	s, _, _, rows := service(t, edition(t, "198.18.3.0/24,PT,PT-11,Lisbon,"))
	covered := func() (of string, n float64) {
		c, err := s.Coverage("")
		require.NoError(t, err)
		return c.Countries[0].CountryCode, c.Countries[0].IPv4
	}
	of, n := covered()
	assert.Equal(t, "PT 256", fmt.Sprint(of, " ", n))

	made, err := s.Correct(t.Context(), source.Correction{Range: " 198.18.3.0 - 198.18.3.255 ", CountryCode: ptr("no"), Note: "moved\nhere"}, "Anna")
	require.NoError(t, err)
	assert.Equal(t, "198.18.3.0/24", made.Range, "in its one form")
	assert.Equal(t, []any{"NO", "Anna", now, uuid.Version(7)}, []any{*made.CountryCode, made.MadeBy, made.MadeAt, made.ID.Version()})
	of, n = covered()
	assert.Equal(t, "NO 256", fmt.Sprint(of, " ", n))

	list, err := s.Corrections()
	require.NoError(t, err)
	assert.Len(t, list, 1)
	require.NoError(t, s.Uncorrect(t.Context(), made.ID, "Anna"))
	of, _ = covered()
	assert.Equal(t, "PT", of)
	require.ErrorIs(t, s.Uncorrect(t.Context(), made.ID, "Anna"), ErrNoCorrection)
	list, err = s.Corrections()
	require.NoError(t, err)
	assert.Equal(t, []source.Correction{}, list, "none is an empty list, not null")

	rows.Away = errors.New("no room")
	_, err = s.Correct(t.Context(), source.Correction{Range: "198.18.3.0/24", DoNotLocate: true}, "Anna")
	require.ErrorIs(t, err, rows.Away)
}

func TestCorrectionsThatAreWrongNameTheField(t *testing.T) {
	s, _, _, _ := service(t, edition(t, "198.18.3.0/24,PT,,,"))
	for field, c := range map[string]source.Correction{
		"range":               {Range: "198.18.3.0/99", CountryCode: ptr("NO")},
		"country_code":        {Range: "198.18.3.0/24"},
		"do_not_locate":       {Range: "198.18.3.0/24", DoNotLocate: true, City: ptr("Oslo")},
		"region_code":         {Range: "198.18.3.0/24", CountryCode: ptr("NO"), RegionCode: ptr("PT-11")},
		"latitude, longitude": {Range: "198.18.3.0/24", CountryCode: ptr("NO"), Latitude: ptr(59.9)},
		"radius_km":           {Range: "198.18.3.0/24", CountryCode: ptr("NO"), RadiusKm: ptr(-1.0)},
		"time_zone":           {Range: "198.18.3.0/24", CountryCode: ptr("NO"), TimeZone: ptr("Europe/Olso")},
	} {
		_, err := s.Correct(t.Context(), c, "Anna")
		var wrong *invalid.FieldError
		require.ErrorAs(t, err, &wrong, field)
		assert.Equal(t, field, wrong.Field)
		assert.NotEmpty(t, wrong.Reason)
	}
	list, err := s.Corrections()
	require.NoError(t, err)
	assert.Empty(t, list)
}

func ptr[T any](v T) *T { return &v }

func TestAccuracyIsOfTheReaderOrTheConfiguredFile(t *testing.T) {
	s, _, _, _ := service(t, edition(t, "198.18.3.0/24,PT,PT-11,Lisbon,"))
	_, err := s.Accuracy("", nil)
	require.ErrorIs(t, err, ErrNoTestPoints)

	points := "address,country_code,city\n198.18.3.40,PT,Lisbon\n198.18.9.9,PT,\nnonsense,PT,\n"
	sent, err := s.Accuracy("", strings.NewReader(points))
	require.NoError(t, err)
	assert.Equal(t, 2, sent.All.Points)
	require.Len(t, sent.Rejects, 1)
	assert.Equal(t, 4, sent.Rejects[0].Line)

	s.TestPoints = filepath.Join(t.TempDir(), "points.csv")
	_, err = s.Accuracy("", nil)
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, os.WriteFile(s.TestPoints, []byte(points), 0o600))
	configured, err := s.Accuracy("", nil)
	require.NoError(t, err)
	assert.Equal(t, sent, configured)

	_, err = s.Accuracy("", strings.NewReader("place\nLisbon\n"))
	var wrong *invalid.FieldError
	require.ErrorAs(t, err, &wrong)
}

func TestSourcesAreSaidWhole(t *testing.T) {
	s, on, _, _ := service(t, edition(t, "198.18.3.0/24,PT,PT-11,Lisbon,", "198.18.4.0/24,XX,,,"))
	answer := s.Sources()
	require.Len(t, answer.Sources, 1)
	of := answer.Sources[0]
	assert.Equal(t, []any{on.inUse.Name(), "feed", 2, 1, 1}, []any{answer.Name, of.Name, of.Rows, of.Accepted, of.Rejected})
	assert.Equal(t, []string{}, answer.Credits)
	assert.Len(t, of.Rejects, 1)
	assert.Nil(t, of.Licence)
}

func TestGeofeedsAreChecked(t *testing.T) {
	good, err := CheckGeofeed(strings.NewReader("198.18.3.0/24,PT,PT-11,Lisbon,\n"))
	require.NoError(t, err)
	assert.Equal(t, api.FeedCheck{Valid: true, Rows: 1, Accepted: 1, Rejects: []atlas.Note{}, Remarks: []atlas.Note{}}, good)
	bad, err := CheckGeofeed(strings.NewReader(strings.Repeat("198.18.3.0/99,PT,,,\n", 3000)))
	require.NoError(t, err, "a feed that is wrong throughout is an answer")
	assert.False(t, bad.Valid)
	assert.Positive(t, len(bad.Rejects))
}

func TestExportsHaveTwoFormats(t *testing.T) {
	for _, word := range []string{"csv", "geofeed"} {
		format, err := ExportFormat(word)
		require.NoError(t, err)
		assert.Equal(t, source.Format(word), format)
	}
	for _, word := range []string{"", "parquet", "CSV", "list"} {
		_, err := ExportFormat(word)
		require.Error(t, err, word)
	}
}

func TestTheEditionInUseIsNotOpenedAgain(t *testing.T) {
	a, b := edition(t, "198.18.3.0/24,PT,,,"), edition(t, "198.18.3.0/24,NO,,,")
	s, on, _, _ := service(t, a, b)
	for _, name := range []string{"", a.Name()} {
		got, err := s.Named(name)
		require.NoError(t, err)
		assert.Same(t, a, got)
	}
	assert.Zero(t, on.opened)
	got, err := s.Named(b.Name())
	require.NoError(t, err)
	assert.Same(t, b, got)
	assert.Equal(t, "NO", *got.Lookup(addr.Canonical(netip.MustParseAddr("::ffff:198.18.3.1"))).Location.CountryCode)
}
