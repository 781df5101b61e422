package store

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"sort"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
	"eastporch/internal/testkit/synthetic"
)

// many is how many visits TestManyVisits loads: some in make test, ten million in
// make soak.
var many = flag.Int("visits", 30_000, "how many visits are loaded")

// Many visits of a month: every report answers, its figures are what the rows
// say, and every count of every day equals a recount. It prints how long the
// reports take, and the same by reading rows.
func TestManyVisits(t *testing.T) {
	s := open(t)
	end := start.Truncate(24 * time.Hour).Add(14 * time.Hour)
	begin := end.AddDate(0, 0, -30)
	source := synthetic.NewVisits(11, site, 5000, begin, end)
	loaded := time.Now()
	for done := 0; done < *many; {
		batch := make([]visit.QueuedVisit, min(10_000, *many-done))
		span := end.Sub(begin)
		for i := range batch { // as they come: in the order of time
			batch[i] = source.At(time.Duration(float64(span) * float64(done+i) / float64(*many)))
		}
		out, err := s.Insert(t.Context(), batch)
		require.NoError(t, err)
		require.Equal(t, len(batch), out.Stored)
		if done += len(batch); done%1_000_000 == 0 {
			t.Logf("%d visits loaded, %.0f a second", done, float64(done)/time.Since(loaded).Seconds())
		}
	}
	_, err := s.pool.Exec(t.Context(), `VACUUM ANALYZE`)
	require.NoError(t, err)

	took := func(name string, f func() error) time.Duration {
		best := time.Duration(0)
		for range 3 {
			at := time.Now()
			require.NoError(t, f(), name)
			if d := time.Since(at); best == 0 || d < best {
				best = d
			}
		}
		t.Logf("%-44s %10s", name, best.Round(10*time.Microsecond))
		return best
	}
	all := visit.Filter{Site: site}
	week := visit.Filter{Site: site, From: end.AddDate(0, 0, -7).Truncate(24 * time.Hour)}
	zone, err := time.LoadLocation("Asia/Tokyo")
	require.NoError(t, err)
	elsewhere := visit.Filter{Site: site, From: time.Date(2026, 11, 7, 0, 0, 0, 0, zone)} // midnight in Tokyo is not a midnight of counts
	var names []string
	for by := range dimensions {
		names = append(names, string(by))
	}
	sort.Strings(names)
	slowest := time.Duration(0)
	for _, name := range names {
		by := visit.By(name)
		for label, f := range map[string]visit.Filter{"30 days": all, "7 days": week, "7 days in Tokyo": elsewhere} {
			d := took(fmt.Sprintf("by %s, %s", name, label), func() error { _, err := s.Tally(t.Context(), f, by, end); return err })
			slowest = max(slowest, d)
		}
	}
	for _, unit := range []string{"hour", "day", "month"} {
		slowest = max(slowest, took("timeline by "+unit+" in Tokyo", func() error {
			_, _, err := s.Timeline(t.Context(), all, report.UnitsBetween(unit, end.AddDate(0, 0, -30), end, zone, 5000), end)
			return err
		}))
	}
	took("distinct visitors by day", func() error { _, err := s.Visitors(t.Context(), all); return err })
	took("countries first seen", func() error { _, err := s.FirstSeen(t.Context(), site, visit.ByCountry); return err })
	took("list of 50, the newest", func() error { _, err := s.Visits(t.Context(), all, [16]byte{}, 50); return err })
	took("count of the list of a country", func() error {
		_, err := s.Count(t.Context(), visit.Filter{Site: site, CountryCode: "JP"}, end)
		return err
	})
	took("paths of a country, from rows", func() error {
		_, err := s.Tally(t.Context(), visit.Filter{Site: site, CountryCode: "JP"}, visit.ByPath, end)
		return err
	})
	counted := took("countries of 30 days, from counts", func() error { _, err := s.Tally(t.Context(), all, visit.ByCountry, end); return err })
	raw := map[string]int64{}
	read := took("countries of 30 days, by reading all rows", func() error {
		clear(raw)
		rows, err := s.pool.Query(t.Context(), `SELECT coalesce(country_code, ''), count(*) FROM visit WHERE site = $1 AND counted GROUP BY 1`, site)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var key string
			var n int64
			if err := rows.Scan(&key, &n); err != nil {
				return err
			}
			raw[key] = n
		}
		return rows.Err()
	})
	t.Logf("reading rows takes %.0f times as long; the slowest report from counts took %s", float64(read)/float64(counted), slowest.Round(time.Millisecond))
	tally, err := s.Tally(t.Context(), all, visit.ByCountry, end)
	require.NoError(t, err)
	for _, k := range tally.Keys {
		require.Equal(t, raw[k.Key], k.Visits, k.Key)
	}

	at := time.Now()
	days, err := s.Days(t.Context(), site, end)
	require.NoError(t, err)
	total := int64(0)
	for _, day := range days {
		differs, rows, err := s.Verify(t.Context(), site, day, false)
		require.NoError(t, err)
		require.Empty(t, differs, day)
		total += rows
	}
	assert.Equal(t, int64(*many), total)
	t.Logf("%d rows of %d days recounted in %s: no count differs", total, len(days), time.Since(at).Round(time.Millisecond))
}

var hostile = flag.Int("hostile", 3000, "how many visits with made-up names a day of the hostile week has")

// A stranger with a page key makes up paths, referrers and links for a week: the counts stay
// bounded whatever the number, and what remains when the visits are dropped is that.
func TestAHostileWeek(t *testing.T) {
	t.Parallel()
	s := open(t)
	r := rand.New(rand.NewPCG(15, 3))
	now := weekOf(time.Now()).AddDate(0, 0, -7)
	total := 0
	for day := range 7 {
		source := synthetic.NewVisits(uint64(day), site, 20, now.AddDate(0, 0, day), now.AddDate(0, 0, day+1))
		for left := *hostile; left > 0; left -= 5000 {
			var batch []visit.QueuedVisit
			for range min(left, 5000) {
				q := source.Next()
				q.Row.Path = fmt.Sprintf("/made-up/%x", r.Uint64())
				q.Row.Referrer, q.Row.Link, q.Row.Language = ptr(fmt.Sprintf("https://h%x.example/", r.Uint64())), ptr(fmt.Sprintf("l%x", r.Uint64())), fmt.Sprintf("x-%x", r.Uint32())
				batch = append(batch, q)
			}
			out, err := s.Insert(t.Context(), batch)
			require.NoError(t, err)
			total += out.Stored
		}
		_, err := s.Maintain(t.Context(), now.AddDate(0, 0, day+1))
		require.NoError(t, err)
	}
	size := func(tables ...string) (bytes int64) {
		for _, table := range tables {
			var n int64
			require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT pg_total_relation_size($1::text::regclass) + coalesce((SELECT sum(pg_total_relation_size(inhrelid)) FROM pg_inherits WHERE inhparent = $1::text::regclass), 0)::bigint`, table).Scan(&n))
			bytes += n
		}
		return bytes
	}
	during := size("visit")
	var counts, keys, visits int
	read := func() {
		require.NoError(t, s.pool.QueryRow(t.Context(), `SELECT (SELECT count(*) FROM rollup WHERE is_named(dimension)), (SELECT count(*) FROM count_key), (SELECT count(*) FROM visit)`).Scan(&counts, &keys, &visits))
	}
	read()
	t.Logf("%d visits with made-up names in a week: %d counts by name, %d keys, %.1f MB; the visits themselves %.1f MB", total, counts, keys, float64(size("rollup", "count_key"))/1e6, float64(during)/1e6)
	assert.LessOrEqual(t, counts, 7*4*2000)
	assert.LessOrEqual(t, keys, 7*4*2000+2000)
	tally, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByPath, time.Now())
	require.NoError(t, err)
	all, err := s.Tally(t.Context(), visit.Filter{Site: site}, visit.ByAll, time.Now())
	require.NoError(t, err)
	assert.Equal(t, all.Sum(), tally.Sum(), "none is left out")
	s.retention = 24 * time.Hour
	_, err = s.Maintain(t.Context(), now.AddDate(0, 0, 40))
	require.NoError(t, err)
	read()
	assert.Zero(t, visits, "their weeks are over")
	t.Logf("what is left: %d counts by name, %d keys, %.1f MB in all", counts, keys, float64(size("rollup", "count_key", "visit", "edition_facts", "place", "visitor_seen"))/1e6)
}
