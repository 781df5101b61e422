package store

import (
	"context"
	crypto "crypto/rand"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/report"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
	"eastporch/internal/dbtest"
	"eastporch/internal/server/access"
	"eastporch/internal/synthetic"
)

func TestMain(m *testing.M) { os.Exit(dbtest.Run(m)) }

const site = "heronlake.example"

var start = time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), dbtest.New(t), 0)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func ptr[T any](v T) *T { return &v }

// made is a visit of a minute after start, from a town or from nowhere.
func made(t *testing.T, minute int, city string) visit.Visit {
	t.Helper()
	at := start.Add(time.Duration(minute) * time.Minute)
	id, err := visit.NewID(at, crypto.Reader)
	require.NoError(t, err)
	v := visit.Visit{ID: id, Time: at, Site: site, Path: "/programme", Marks: []string{}, Trail: caller.Trail{Hops: []caller.Hop{}, Notes: []string{}}, Earlier: []visit.EarlierFacts{}}
	kind := addr.Benchmarking
	v.Card.Address = card.Address{Text: addr.Optional{Addr: netip.MustParseAddr("198.18.3.40")}, Kind: &kind, Obtained: "header"}
	v.Card.Location = atlas.Nowhere("made up")
	v.Card.Locale = locale.Locale{
		Language: "pt-PT", Script: "Latn", Direction: "ltr", Formatting: "pt-PT", Reason: locale.ByCountry, Offered: []string{"pt-PT"},
		Names: locale.Names{Language: "português europeu"}, Hints: []string{},
	}
	v.Card.Money.Also, v.Card.Variants = []string{}, variant.Choices{"offer": "early"}
	if city != "" {
		v.Card.Location = atlas.Location{
			Level: atlas.City, CountryCode: ptr("PT"), City: &city, Latitude: ptr(38.7), Longitude: ptr(-9.1), RadiusKm: ptr(15.0),
		}
		v.Card.Locale.Names.Country = ptr("Portugal")
	} else {
		v.Card.Address.Skipped = true
	}
	return v
}

func add(t *testing.T, s *Store, visits ...visit.Visit) {
	t.Helper()
	out := insert(t, s, visits...)
	require.Equal(t, visit.Outcome{Stored: len(visits)}, out)
}

func insert(t *testing.T, s *Store, visits ...visit.Visit) visit.Outcome {
	t.Helper()
	var batch []visit.QueuedVisit
	for _, v := range visits {
		a, err := v.Queued()
		require.NoError(t, err)
		batch = append(batch, a)
	}
	out, err := s.Insert(t.Context(), batch)
	require.NoError(t, err)
	return out
}

// agree fails the test where any count is not what the rows say.
func agree(t *testing.T, s *Store, site string) {
	t.Helper()
	days, err := s.Days(t.Context(), site, time.Now())
	require.NoError(t, err)
	for _, day := range days {
		differs, _, err := s.Verify(t.Context(), site, day, false)
		require.NoError(t, err)
		require.Empty(t, differs, day)
	}
}

func TestAVisitReadsBackAsItWasStored(t *testing.T) {
	t.Parallel()
	s := open(t)
	v := made(t, 0, "Lisbon")
	v.Referrer, v.UserAgent = ptr("https://heronlake.example/"), ptr("<script>alert(1)</script>")
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
	var stored, duplicate atomic.Int64
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			out := insert(t, s, v, v)
			stored.Add(int64(out.Stored))
			duplicate.Add(int64(out.Duplicate))
		})
	}
	group.Wait()
	assert.Equal(t, int64(1), stored.Load())
	assert.Equal(t, int64(15), duplicate.Load())
	second := v
	second.Path = "/other"
	assert.Equal(t, visit.Outcome{Duplicate: 1, Conflicts: []int{0}}, insert(t, s, second), "and it is reported")
	got, err := s.Visit(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, "/programme", got.Path)

	fresh := made(t, 1, "Porto")
	other := fresh
	other.Path = "/other"
	assert.Equal(t, visit.Outcome{Stored: 1, Duplicate: 2, Conflicts: []int{1}}, insert(t, s, fresh, other, fresh), "the first of a batch too, and only the other is a conflict")
	got, err = s.Visit(t.Context(), fresh.ID)
	require.NoError(t, err)
	assert.Equal(t, "/programme", got.Path)
	agree(t, s, site)
}

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
		{"skipped", visit.Filter{Skipped: ptr(true)}, 3},
		{"not skipped", visit.Filter{Skipped: ptr(false)}, 4},
		{"by path", visit.Filter{Path: "/prog"}, 7},
		{"a path with signs of a pattern", visit.Filter{Path: "/%"}, 0},
		{"nothing of another kind", visit.Filter{CountryCode: "PT", Level: atlas.None}, 0},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			tt.filter.Site = site
			count, err := s.Count(t.Context(), tt.filter, start.Add(time.Hour))
			require.NoError(t, err)
			assert.Equal(t, visit.Count{Matching: tt.want, All: 7}, count)
			list, err := s.Visits(t.Context(), tt.filter, uuid.Nil, 100)
			require.NoError(t, err)
			assert.Len(t, list, int(tt.want))
		})
	}
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

func TestMarkedVisitsAreKeptAndNotCounted(t *testing.T) {
	t.Parallel()
	s := open(t)
	bot, private := made(t, 1, "Lisbon"), made(t, 2, "Lisbon")
	bot.Marks, private.Marks = []string{visit.MarkBot}, []string{visit.MarkPrivate}
	add(t, s, made(t, 0, "Lisbon"), bot, private)
	agree(t, s, site)
	counted, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByCountry, start.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []visit.KeyCount{{Key: "PT", Visits: 2}}, counted.Keys)
	asked, err := s.Tally(t.Context(), visit.Filter{Site: site, Mark: visit.MarkBot}, visit.ByCountry, start.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []visit.KeyCount{{Key: "PT", Visits: 1}}, asked.Keys, "unless one asks for them")
	count, err := s.Count(t.Context(), visit.Filter{Site: site}, start.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, int64(3), count.All, "lists have them all")
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

// The audit log keeps its newest lines, and what it told for ever is not read from it.
func TestTheAuditLogIsBounded(t *testing.T) {
	t.Parallel()
	s := open(t)
	event, err := access.NewEvent(start, "signed in", "somebody", "")
	require.NoError(t, err)
	require.NoError(t, s.AddSession(t.Context(), access.Session{ID: uuid.New(), Expires: start.Add(time.Hour)}, [32]byte{1}, event))
	_, err = s.pool.Exec(t.Context(), `INSERT INTO audit_log SELECT ('7fffffff-ffff-7fff-8000-' || lpad(to_hex(n), 12, '0'))::uuid, now(), 'key made', 'x', n::text FROM generate_series(1, 100050) n`)
	require.NoError(t, err)
	_, err = s.Maintain(t.Context(), start)
	require.NoError(t, err)
	var lines int
	require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM audit_log`).Scan(&lines))
	assert.Equal(t, auditKept, lines)
	newest, err := s.Events(t.Context(), uuid.Nil, 1)
	require.NoError(t, err)
	assert.Equal(t, "100050", newest[0].Detail)
	ever, err := s.EverSignedIn(t.Context())
	require.NoError(t, err)
	assert.True(t, ever)
}

// Facts stay as long as one visit is of them, now or in an older edition.
func TestFactsStayAsLongAsAVisitIsOfThem(t *testing.T) {
	t.Parallel()
	s := open(t)
	one, two := made(t, 0, "Lisbon"), made(t, 1, "Lisbon")
	add(t, s, one, two, made(t, 2, "Porto"))
	facts := func() (n int) {
		_, err := s.Maintain(t.Context(), start)
		require.NoError(t, err)
		require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT count(*) FROM edition_facts`).Scan(&n))
		return n
	}
	require.Equal(t, 2, facts())
	porto := made(t, 9, "Porto").Card
	porto.Edition.Name = "another"
	again := func(v visit.Visit) (card.Card, bool) { return porto, v.ID == one.ID || v.ID == two.ID }
	require.NoError(t, s.Reenrich(t.Context(), start.Add(-time.Hour), again, func(int, int) {}))
	agree(t, s, site)
	require.Equal(t, 3, facts(), "the old ones are told of as earlier")
	for i, v := range []visit.Visit{one, two} {
		_, err := s.Erase(t.Context(), visit.Erasure{ID: v.ID}, start.Add(time.Hour))
		require.NoError(t, err)
		require.Equal(t, []int{3, 1}[i], facts())
	}
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

func TestErasedVisitsAreGoneAndStayGone(t *testing.T) {
	t.Parallel()
	tests := []struct {
		name  string
		what  func(v visit.Visit) visit.Erasure
		leave int
	}{
		{"by id", func(v visit.Visit) visit.Erasure { return visit.Erasure{ID: v.ID} }, 3},
		{"by address", func(visit.Visit) visit.Erasure {
			return visit.Erasure{Address: netip.MustParseAddr("198.18.3.40")}
		}, 2},
		{"by prefix", func(visit.Visit) visit.Erasure {
			return visit.Erasure{Prefix: netip.MustParsePrefix("198.18.3.0/24")}
		}, 1},
		{"by what stands for it", func(visit.Visit) visit.Erasure { return visit.Erasure{Placeholder: []string{"hash 1"}} }, 3},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			s := open(t)
			visits := []visit.Visit{made(t, 0, "Lisbon"), made(t, 1, "Porto"), made(t, 2, "Lisbon"), made(t, 3, "Lisbon")}
			visits[2].Card.Address.Text.Addr = netip.MustParseAddr("198.18.3.41")
			visits[3].Card.Address.Text, visits[3].Card.Address.Placeholder = addr.Optional{}, ptr("hash 1")
			for i := range visits {
				visits[i].VisitorHash = int64(i + 1)
				visits[i].Path = fmt.Sprintf("/about/anna-%d", i)
			}
			add(t, s, visits...)
			apart, err := visits[0].Queued()
			require.NoError(t, err)
			record, err := json.Marshal(apart)
			require.NoError(t, err)
			require.NoError(t, s.SetApart(t.Context(), []visit.SetApart{{ID: visits[0].ID, Time: start, Reason: "made up", Record: record}}))

			done, err := s.Erase(t.Context(), tt.what(visits[0]), start.Add(time.Hour))
			require.NoError(t, err)
			assert.Equal(t, 4-tt.leave, done.Visits)
			assert.Equal(t, 1, done.Days)
			if tt.name != "by what stands for it" {
				assert.Equal(t, 1, done.Quarantine)
			}
			agree(t, s, site)
			paths, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByPath, start.Add(time.Hour))
			require.NoError(t, err)
			assert.Len(t, paths.Keys, tt.leave, "what the erased said is not left in counts")

			out := insert(t, s, visits...) // from the queue of another service
			assert.Equal(t, 4-tt.leave, out.Erased)
			assert.Equal(t, tt.leave, out.Duplicate)
			agree(t, s, site)
		})
	}
}

func TestOldVisitsGoByTheWeekAndTheirCountsStay(t *testing.T) {
	t.Parallel()
	s := open(t)
	s.retention = 30 * 24 * time.Hour
	now := time.Now().UTC().Truncate(time.Millisecond)
	source := synthetic.NewVisits(2, site, 20, now.AddDate(0, 0, -70), now)
	var batch []visit.QueuedVisit
	for range 2000 {
		batch = append(batch, source.Next())
	}
	s.retention = 0
	_, err := s.Insert(t.Context(), batch)
	require.NoError(t, err)
	s.retention = 30 * 24 * time.Hour
	dropped, err := s.Maintain(t.Context(), now)
	require.NoError(t, err)
	assert.NotEmpty(t, dropped)
	kept, err := s.Kept(t.Context())
	require.NoError(t, err)
	assert.Equal(t, s.Oldest(now), *kept.Since)
	assert.Equal(t, kept.Since.AddDate(0, 0, 37), *kept.NextDrop)
	all, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByAll, now)
	require.NoError(t, err)
	bots := 0
	for _, a := range batch {
		if !a.Row.Counted() {
			bots++
		}
	}
	assert.Equal(t, int64(2000-bots), all.Sum(), "counts stay")
	agree(t, s, site)
	out, err := s.Insert(t.Context(), batch)
	require.NoError(t, err)
	assert.Equal(t, 2000, out.Expired+out.Duplicate, "what is too old does not come back")
	assert.NotZero(t, out.Expired)
	count, err := s.Count(t.Context(), visit.Filter{Site: site}, now)
	require.NoError(t, err)
	assert.Equal(t, int64(out.Duplicate), count.All)
}

// Whoever follows stored visits misses nothing that several services store at once,
// whatever their times.
func TestFollowersOfArrivalsMissNothing(t *testing.T) {
	t.Parallel()
	url := dbtest.New(t)
	const services, each, size = 3, 12, 40
	var writers sync.WaitGroup
	var wrote atomic.Bool
	for n := range services {
		s, err := Open(t.Context(), url, 0)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		source := synthetic.NewVisits(uint64(n), site, 10, start.AddDate(0, 0, -20), start)
		writers.Go(func() {
			for range each {
				var batch []visit.QueuedVisit
				for range size {
					batch = append(batch, source.Next())
				}
				_, err := s.Insert(t.Context(), batch)
				assert.NoError(t, err)
			}
		})
	}
	go func() { writers.Wait(); wrote.Store(true) }()
	s, err := Open(t.Context(), url, 0)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	seen, after := map[uuid.UUID]bool{}, int64(0)
	for {
		last := wrote.Load() // before it is asked
		list, err := s.StoredAfter(t.Context(), visit.Filter{Site: site}, after, 100)
		require.NoError(t, err)
		for _, a := range list {
			require.Greater(t, a.Sequence, after)
			after = a.Sequence
			seen[a.Visit.ID] = true
		}
		if last && len(list) == 0 {
			break
		}
	}
	assert.Equal(t, services*each*size, len(seen))
	agree(t, s, site)
}

func TestARefusedVisitIsTheDatasFault(t *testing.T) {
	t.Parallel()
	s := open(t)
	v := made(t, 0, "Lisbon")
	v.Path = "/\x00" // which nobody who checks lets through
	a, err := v.Queued()
	require.NoError(t, err)
	_, err = s.Insert(t.Context(), []visit.QueuedVisit{a})
	require.ErrorIs(t, err, visit.ErrRefused)
	long := made(t, 0, "Lisbon")
	letters, r := make([]byte, 9000), rand.New(rand.NewPCG(1, 1))
	for i := range letters {
		letters[i] = byte('a' + r.IntN(26))
	}
	city := string(letters) // too long for an index
	long.Card.Location.City = &city
	a, err = long.Queued()
	require.NoError(t, err)
	_, err = s.Insert(t.Context(), []visit.QueuedVisit{a})
	require.ErrorIs(t, err, visit.ErrRefused)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = s.Insert(ended, []visit.QueuedVisit{a})
	require.NotErrorIs(t, err, visit.ErrRefused, "which a stop is not")
	agree(t, s, site)
}

func TestTwoServicesMigrateOneDatabase(t *testing.T) {
	t.Parallel()
	url := dbtest.New(t)
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			s, err := Open(t.Context(), url, 0)
			if assert.NoError(t, err) {
				s.Close()
			}
		})
	}
	group.Wait()
}

func TestADatabaseThatIsNotThere(t *testing.T) {
	t.Parallel()
	_, err := Open(t.Context(), "postgres://eastporch@127.0.0.1:1/none", 0)
	require.ErrorIs(t, err, visit.ErrAway)
	s := open(t)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, s.Ping(ended), visit.ErrAway)
}
