package store

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
	"eastporch/internal/testkit/synthetic"
)

// A visitor who was erased, or whose day is long over, and who comes again is
// counted as the rows say.
func TestDistinctVisitorsStayRight(t *testing.T) {
	t.Parallel()
	s := open(t)
	visitor := func(minute int) visit.Visit {
		v := made(t, minute, "Lisbon")
		v.VisitorHash = 7
		return v
	}
	first := visitor(0)
	add(t, s, first, visitor(1))
	agree(t, s, site)
	_, err := s.Maintain(t.Context(), time.Now().Add(3*day)) // of a day long over, and seen just now
	require.NoError(t, err)
	add(t, s, visitor(2))
	agree(t, s, site)
	_, err = s.Erase(t.Context(), visit.Erasure{Address: first.Card.Address.Text.Addr}, start.Add(3*time.Minute))
	require.NoError(t, err)
	add(t, s, visitor(10))
	agree(t, s, site)
	days, err := s.Visitors(t.Context(), visit.Filter{Site: site})
	require.NoError(t, err)
	require.Len(t, days, 1)
	assert.Equal(t, int64(1), days[0].Visits)
}

// Whatever the times, counts and rows give the same: here of 3,000 visits of four
// days, for random times that begin and end anywhere.
func TestCountsSayWhatRowsSay(t *testing.T) {
	t.Parallel()
	s := open(t)
	from := start.Truncate(24 * time.Hour).Add(-30 * time.Hour)
	source := synthetic.NewVisits(1, site, 60, from, from.Add(4*24*time.Hour))
	for range 3 {
		var batch []visit.QueuedVisit
		for range 1000 {
			batch = append(batch, source.Next())
		}
		out, err := s.Insert(t.Context(), batch)
		require.NoError(t, err)
		require.Equal(t, 1000, out.Stored)
	}
	agree(t, s, site)
	r := rand.New(rand.NewPCG(7, 7))
	moment := func() time.Time {
		at := from.Add(time.Duration(r.Int64N(int64(5 * 24 * time.Hour)))).Truncate(time.Millisecond)
		return at.Truncate([]time.Duration{time.Millisecond, 15 * time.Minute, 24 * time.Hour}[r.IntN(3)])
	}
	now := from.Add(6 * 24 * time.Hour)
	for range 60 {
		f := visit.Filter{Site: site, From: moment(), To: moment()}
		if f.To.Before(f.From) {
			f.From, f.To = f.To, f.From
		}
		switch r.IntN(4) {
		case 0:
			f.From = time.Time{}
		case 1:
			f.To = time.Time{}
		}
		for by, d := range dimensions {
			counted, err := s.Tally(t.Context(), f, by, now)
			require.NoError(t, err)
			read, err := s.scanTally(t.Context(), f, d)
			require.NoError(t, err)
			require.True(t, counted.Counted)
			if by == visit.ByAll && len(read.Keys) == 0 {
				read.Keys = counted.Keys
			}
			require.Equal(t, read.Keys, counted.Keys, "%s from %s to %s", by, f.From, f.To)
		}
	}
	byPath, err := s.Tally(t.Context(), visit.Filter{Site: site, Path: "/page/1"}, visit.ByCountry, now)
	require.NoError(t, err)
	assert.False(t, byPath.Counted, "two filters read rows")
	assert.Equal(t, byPath.Sum(), byPath.Scanned)
}

func TestTimelinesFollowTheZone(t *testing.T) {
	t.Parallel()
	s := open(t)
	kathmandu, err := time.LoadLocation("Asia/Kathmandu") // 5:45 ahead
	require.NoError(t, err)
	add(t, s, made(t, 0, "Lisbon"), made(t, 14, "Lisbon"), made(t, 15, "Porto"), made(t, 12*60+14, "Porto"), made(t, 12*60+15, ""))
	units := func(unit string, from time.Time, zone *time.Location) []time.Time {
		return report.UnitsBetween(unit, from, start.AddDate(0, 0, 1), zone, 100)
	}
	days, how, err := s.Timeline(t.Context(), visit.Filter{Site: site}, units("day", start, kathmandu), start.AddDate(0, 0, 2))
	require.NoError(t, err)
	assert.True(t, how.Counted)
	require.Len(t, days, 2)
	assert.Equal(t, []int64{4, 1}, []int64{days[0].Visits, days[1].Visits}, "midnight there is 18:15 in UTC")
	assert.Equal(t, "2026-11-14T00:00:00+05:45", days[0].From.Format(time.RFC3339))
	portugal, _, err := s.Timeline(t.Context(), visit.Filter{Site: site, CountryCode: "PT", From: start.Add(time.Minute)}, units("quarter", start.Add(time.Minute), time.UTC), start.AddDate(0, 0, 2))
	require.NoError(t, err)
	require.Len(t, portugal, 96)
	assert.Equal(t, int64(1), portugal[0].Visits, "the one before from is left out")
}

// The lines of a timeline sum to the visits of its time, by every unit, on days when the
// clock is set by half an hour, by an hour, at midnight, or not at all.
func TestTimelinesLoseNoVisit(t *testing.T) {
	t.Parallel()
	s := open(t)
	r := rand.New(rand.NewPCG(14, 9))
	changes := []time.Time{ // of Lord Howe's, Portugal's and Cuba's clocks
		time.Date(2026, 10, 3, 0, 0, 0, 0, time.UTC), time.Date(2026, 10, 24, 0, 0, 0, 0, time.UTC), time.Date(2026, 10, 31, 0, 0, 0, 0, time.UTC),
	}
	var all []visit.Visit
	for i := range 450 {
		all = append(all, made(t, int(changes[i%3].Sub(start).Minutes())+r.IntN(3*24*60), "Lisbon"))
	}
	add(t, s, all...)
	tried := 0
	for _, name := range []string{"Australia/Lord_Howe", "America/Havana", "America/Santiago", "Europe/Lisbon", "Asia/Kathmandu", "UTC"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		for unit := range report.Units {
			for range 12 {
				from := changes[r.IntN(3)].Add(time.Duration(r.IntN(2*24*60*60)) * time.Second)
				f := visit.Filter{Site: site, From: from, To: from.Add(time.Duration(1+r.IntN(24*60*60)) * time.Second)}
				if r.IntN(2) == 0 {
					f.CountryCode = "PT"
				}
				want := int64(0)
				for _, v := range all {
					if !v.Time.Before(f.From) && v.Time.Before(f.To) {
						want++
					}
				}
				list, _, err := s.Timeline(t.Context(), f, report.UnitsBetween(unit, f.From, f.To, zone, 5000), start.AddDate(1, 0, 0))
				require.NoError(t, err)
				sum := int64(0)
				for _, line := range list {
					sum += line.Visits
				}
				tried++
				require.Equal(t, want, sum, "%s %s from %s to %s", name, unit, f.From, f.To)
			}
		}
	}
	t.Logf("%d timelines tried, 0 differ", tried)
}

// A stranger with a page key who makes up paths, referrers and links does not make the
// counts grow without bound; every visit stays counted, and what is frequent by its name.
func TestMadeUpNamesAreBounded(t *testing.T) {
	t.Parallel()
	s := open(t)
	now := start.Add(time.Hour)
	var all []visit.Visit
	r := rand.New(rand.NewPCG(3, 9))
	for i := range 7000 {
		v := made(t, i%50, "Lisbon")
		v.Path, v.Referrer, v.Link = fmt.Sprintf("/made-up/%d", r.IntN(1<<30)), ptr(fmt.Sprintf("https://h%d.example/", i)), ptr(fmt.Sprintf("link-%d", i))
		if i%10 == 0 {
			v.Path = "/programme"
		}
		all = append(all, v)
	}
	for part := range slices.Chunk(all, 1000) {
		add(t, s, part...)
		agree(t, s, site)
	}
	for _, by := range []visit.By{visit.ByPath, visit.ByReferrer, visit.ByLink} {
		var rows int
		require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM rollup WHERE site = $1 AND dimension = $2`, site, string(by)).Scan(&rows))
		assert.LessOrEqual(t, rows, 2000, by)
		tally, err := s.Tally(t.Context(), visit.Filter{Site: site}, by, now)
		require.NoError(t, err)
		assert.Equal(t, int64(7000), tally.Sum(), "all are counted: %s", by)
		assert.Positive(t, tally.Others)
		if by == visit.ByPath {
			assert.Equal(t, visit.KeyCount{Key: "/programme", Visits: 700}, tally.Keys[0], "what is frequent keeps its name")
		}
	}
	// Erasing takes away what was counted among the others, too.
	for _, v := range []visit.Visit{all[1], all[6999], all[0]} {
		_, err := s.Erase(t.Context(), visit.Erasure{ID: v.ID}, now)
		require.NoError(t, err)
		agree(t, s, site)
	}
	tally, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByPath, now)
	require.NoError(t, err)
	assert.Equal(t, int64(6997), tally.Sum())
	// Counts that were tampered with are found, and put right within the bound.
	_, err = s.pool.Exec(t.Context(), `UPDATE rollup SET visits = visits + 1 WHERE site = $1 AND dimension = 'path' AND key = 0`, site)
	require.NoError(t, err)
	differs, _, err := s.Verify(t.Context(), site, start, true)
	require.NoError(t, err)
	require.Len(t, differs, 1)
	agree(t, s, site)
	var rows int
	require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM rollup WHERE site = $1 AND dimension = 'path'`, site).Scan(&rows))
	assert.LessOrEqual(t, rows, 1001)
	// Names that nothing is counted under any more go with maintenance.
	names := func() (n int) {
		require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM count_key`).Scan(&n))
		return n
	}
	assert.Greater(t, names(), 15_000, "the test means to make up many")
	_, err = s.Maintain(t.Context(), now)
	require.NoError(t, err)
	assert.Less(t, names(), 6100, "at most 2,000 of each of three dimensions, and a few that are no names")
	agree(t, s, site)
}

// What statistics leave out is said, by quarter hours, days and rows alike.
func TestLeftOutIsCounted(t *testing.T) {
	t.Parallel()
	s := open(t)
	var list []visit.Visit
	for i := range 40 {
		v := made(t, i*7, "Lisbon")
		v.Marks = [][]string{{}, {visit.MarkBot}, {visit.MarkTest}, {visit.MarkBot, visit.MarkTest}, {visit.MarkPrivate}}[i%5]
		list = append(list, v)
	}
	add(t, s, list...)
	r := rand.New(rand.NewPCG(3, 10))
	for range 100 {
		f := visit.Filter{Site: site, From: start.Add(time.Duration(r.IntN(280)) * time.Minute)}
		f.To = f.From.Add(time.Duration(r.IntN(200)) * time.Minute)
		if r.IntN(3) == 0 {
			f.CountryCode = "PT"
		}
		want := map[string]int64{}
		for _, v := range list {
			if len(v.Marks) > 0 && v.Marks[0] != visit.MarkPrivate && !v.Time.Before(f.From) && v.Time.Before(f.To) {
				want[v.Marks[0]]++
			}
		}
		got, err := s.LeftOut(t.Context(), f, start.Add(48*time.Hour))
		require.NoError(t, err)
		require.Equal(t, want, got, "%+v", f)
	}
	got, err := s.LeftOut(t.Context(), visit.Filter{Site: site, Mark: visit.MarkBot}, start.Add(time.Hour))
	require.NoError(t, err)
	assert.Empty(t, got, "whoever asks for them gets them")
}

// Visits without a place are told apart by why, in counts and in rows, before and after the
// quarters of an hour have become days.
func TestWhyAVisitHasNoPlaceIsCounted(t *testing.T) {
	t.Parallel()
	s := open(t)
	want := map[string]int64{}
	var list []visit.Visit
	r := rand.New(rand.NewPCG(17, 3))
	private := addr.Private
	for i := range 120 {
		v := made(t, i*7, "Lisbon")
		why := []string{"city", "skipped", "not found", "none"}[r.IntN(4)]
		switch why {
		case "skipped":
			v.Card.Address.Skipped, v.Card.Address.Kind, v.Card.Location = true, &private, atlas.Location{Level: atlas.None}
		case "not found":
			v.Card.Address, v.Card.Location = card.Address{}, atlas.Location{Level: atlas.None}
		case "none":
			v.Card.Location = atlas.Location{Level: atlas.None}
		}
		want[why]++
		list = append(list, v)
	}
	add(t, s, list...)
	counted := func(f visit.Filter, now time.Time) map[string]int64 {
		tally, err := s.Tally(t.Context(), f, visit.ByPlace, now)
		require.NoError(t, err)
		got := map[string]int64{}
		for _, k := range tally.Keys {
			got[k.Place.Level] += k.Visits
		}
		return got
	}
	now := start.Add(48 * time.Hour)
	assert.Equal(t, want, counted(visit.Filter{Site: site}, now), "by counts")
	assert.Equal(t, want, counted(visit.Filter{Site: site, Path: list[0].Path[:1]}, now), "by rows")
	_, err := s.Maintain(t.Context(), start.AddDate(0, 0, 40))
	require.NoError(t, err)
	assert.Equal(t, want, counted(visit.Filter{Site: site}, start.AddDate(0, 0, 40)), "by days")
	agree(t, s, site)
}
