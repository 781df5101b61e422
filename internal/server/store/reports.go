package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/visit"
)

// ScanMost bounds how many rows a question reads where no count answers it.
const ScanMost = 200_000

// dimension is something that visits are counted by.
type dimension struct {
	column string // of visit, or an expression on it: the key, of places its id
	quarts bool   // counted by quarter hours too
}

var dimensions = map[visit.By]dimension{
	visit.ByAll:      {"''", true},
	visit.ByCountry:  {"coalesce(country_code, '')", true},
	visit.ByBasis:    {"coalesce(basis, '')", false},
	visit.ByPlace:    {"place", false},
	visit.ByPath:     {"path", false},
	visit.ByReferrer: {"coalesce(referrer_host, '')", false},
	visit.ByLanguage: {"language", false},
	visit.ByNetwork:  {"coalesce(network, '')", false},
	visit.ByLabel:    {"unnest(labels)", false},
	visit.ByLink:     {"link", false},
	visit.ByHour:     {"week_hour::text", false},
	visit.ByGate:     {"gate", false},
	visit.ByAgent:    {"coalesce(agent, '')", false},

	visit.ByDestination: {"destination", false},
	visit.ByPlaceholder: {"CASE WHEN country_code IS NULL THEN placeholder END", false},
}

// The ids of count_key that stand for something of their own.
const (
	othersKey = 0 // whatever is not counted by its own name
	noneKey   = 1 // the empty key
)

// selected gives the columns id and key of a dimension, from rows of visit: places have
// only an id, all others only a key.
func (d dimension) selected() string {
	if d.column == "place" {
		return "place AS id, NULL::text AS key"
	}
	return "NULL::bigint AS id, " + d.column + " AS key"
}

// summed adds up the visits n of a query with the columns id, key and n by their keys, the
// most first: the key, the place, how many visits there are, and what else is asked for.
func summed(d dimension, query, also string) string {
	if d.column == "place" {
		return `SELECT NULL::text, ` + placeColumns + `, sum(c.n)::bigint AS visits, ` + also + ` FROM (` + query + `) c JOIN place p ON p.id = c.id
			GROUP BY p.id HAVING sum(c.n) > 0 ORDER BY visits DESC, p.id`
	}
	return `SELECT coalesce(g.key, k.text) AS name, ` + noPlace + `, sum(g.n)::bigint AS visits, ` + also + `
		FROM (SELECT id, key, sum(n) AS n FROM (` + query + `) c GROUP BY 1, 2) g LEFT JOIN count_key k ON k.id = g.id
		WHERE coalesce(g.key, k.text) IS NOT NULL GROUP BY name HAVING sum(g.n) > 0 ORDER BY visits DESC, name`
}

const (
	placeColumns = `CASE WHEN p.skipped THEN 'skipped' WHEN p.not_found THEN 'not found' ELSE p.level END, p.country_code, p.region_code, p.city, p.latitude, p.longitude, p.radius_km, p.time_zone`
	noPlace      = `NULL::text, NULL::text, NULL::text, NULL::text, NULL::double precision, NULL::double precision, NULL::double precision, NULL::text`
)

// keyCounts runs what [summed] made; also takes the last column.
func (s *Store) keyCounts(ctx context.Context, sql string, args pgx.NamedArgs, also *int64) ([]visit.KeyCount, error) {
	rows, _ := s.pool.Query(ctx, sql, args)
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (k visit.KeyCount, err error) {
		var key, level *string
		p := &k.Place
		err = row.Scan(&key, &level, &p.CountryCode, &p.RegionCode, &p.City, &p.Latitude, &p.Longitude, &p.RadiusKm, &p.TimeZone, &k.Visits, also)
		if key != nil {
			k.Key = *key
		}
		if level != nil {
			p.Level = *level
		}
		return k, err
	})
}

// Tally counts the visits of a filter by something, the most first. Marked
// visits are left out unless the filter asks for a mark.
func (s *Store) Tally(ctx context.Context, f visit.Filter, by visit.By, now time.Time) (visit.Tally, error) {
	d, ok := dimensions[by]
	if !ok {
		return visit.Tally{}, fmt.Errorf("visits are not counted by %q", by)
	}
	if !f.OnlyTimes() {
		return s.scanTally(ctx, f, d)
	}
	parts, args := s.parts(f, by, d, now, false)
	t := visit.Tally{Counted: true, Keys: []visit.KeyCount{}}
	list, err := s.keyCounts(ctx, summed(d, strings.Join(parts, " UNION ALL "), "0"), args, &t.Scanned)
	for _, k := range list {
		if k.Key == otherNames {
			t.Others = k.Visits
			continue
		}
		t.Keys = append(t.Keys, k)
	}
	return t, away(err)
}

// otherNames is the key of othersKey.
const otherNames = "\x02"

// LeftOut counts the visits of a filter that statistics leave out, by their first mark;
// none where the filter asks for a mark.
func (s *Store) LeftOut(ctx context.Context, f visit.Filter, now time.Time) (map[string]int64, error) {
	left := map[string]int64{}
	if f.Mark != "" {
		return left, nil
	}
	var parts []string
	var args pgx.NamedArgs
	d := dimension{column: "marks[1]", quarts: true}
	if f.OnlyTimes() {
		parts, args = s.parts(f, visit.ByAll, d, now, true)
	} else {
		var conditions string
		conditions, args = where(f)
		args["most"] = ScanMost
		parts = []string{`SELECT ` + d.selected() + `, 1 AS n FROM (SELECT marks FROM visit WHERE ` + conditions + ` AND NOT counted ORDER BY visit.id DESC LIMIT @most) r`}
	}
	var none int64
	list, err := s.keyCounts(ctx, summed(d, strings.Join(parts, " UNION ALL "), "0"), args, &none)
	for _, k := range list {
		left[k.Key] = k.Visits
	}
	return left, away(err)
}

func (s *Store) scanTally(ctx context.Context, f visit.Filter, d dimension) (visit.Tally, error) {
	conditions, args := where(f)
	args["most"] = ScanMost
	if f.Mark == "" {
		conditions += " AND counted"
	}
	// The newest rows first, one more than are read, to know whether there are more.
	read := `WITH read AS MATERIALIZED (SELECT * FROM visit WHERE ` + conditions + ` ORDER BY visit.id DESC LIMIT @most + 1) `
	t := visit.Tally{}
	list, err := s.keyCounts(ctx, read+summed(d, `SELECT `+d.selected()+`, 1 AS n FROM read`, `(SELECT count(*) FROM read)`), args, &t.Scanned)
	t.Keys, t.Partial = list, t.Scanned > ScanMost
	return t, away(err)
}

// parts gives the queries that together hold what a filter with nothing but
// times picks: whole days, the quarter hours around them, and the rows around
// those; of those that statistics leave out where marked is true.
func (s *Store) parts(f visit.Filter, by visit.By, d dimension, now time.Time, marked bool) ([]string, pgx.NamedArgs) {
	var parts []string
	args := pgx.NamedArgs{"site": f.Site, "click": f.Click, "counted": f.CountedFor(), "most": ScanMost, "by": string(by)}
	which := ""
	switch {
	case marked:
		which = fmt.Sprintf(` AND key <> %d`, noneKey)
	case by == visit.ByAll:
		which = fmt.Sprintf(` AND key = %d`, noneKey)
	}
	rows := func(from, to time.Time) {
		n := len(args)
		counted := "counted"
		if marked {
			counted = "NOT counted"
		}
		parts = append(parts, fmt.Sprintf(`(SELECT %s, 1 AS n FROM visit WHERE site = @site%s AND visit.id >= @a%d AND visit.id < @b%d AND %s LIMIT @most)`, d.selected(), clicked(f), n, n, counted))
		args[fmt.Sprintf("a%d", n)], args[fmt.Sprintf("b%d", n)] = floor(from), floor(to)
	}
	for _, p := range pieces(f.From, f.To, now, d.quarts) {
		if p.width == 0 {
			rows(p.from, p.to)
			continue
		}
		parts = append(parts, `SELECT key AS id, NULL::text AS key, visits AS n FROM rollup WHERE site = @counted AND dimension = @by`+p.slots(args)+which)
	}
	if len(parts) == 0 { // nothing lies between
		parts = append(parts, `SELECT NULL::bigint AS id, NULL::text AS key, 0 AS n WHERE false`)
	}
	return parts, args
}

const (
	day     = 24 * time.Hour
	quarter = 15 * time.Minute
)

// FirstSeen says on which day, in UTC, visits of each key were first counted.
func (s *Store) FirstSeen(ctx context.Context, site string, by visit.By) (map[string]time.Time, error) {
	rows, _ := s.pool.Query(ctx, `SELECT k.text, min(r.slot) FROM rollup r JOIN count_key k ON k.id = r.key
		WHERE r.site = $1 AND r.dimension = $2 AND r.granularity = 'day' GROUP BY k.text`, site, string(by))
	defer rows.Close()
	seen := map[string]time.Time{}
	for rows.Next() {
		var key string
		var at time.Time
		if err := rows.Scan(&key, &at); err != nil {
			return nil, err
		}
		seen[key] = at.UTC()
	}
	return seen, away(rows.Err())
}

// Visitors gives the distinct visitors of each day in UTC that begins in the filter's time,
// as far as they could be told apart.
func (s *Store) Visitors(ctx context.Context, f visit.Filter) ([]visit.TimeCount, error) {
	sql, args := `SELECT slot, visits FROM rollup WHERE site = @site AND dimension = 'visitors'`, pgx.NamedArgs{"site": f.CountedFor()}
	if !f.From.IsZero() {
		sql += ` AND slot >= @from`
		args["from"] = f.From
	}
	if !f.To.IsZero() {
		sql += ` AND slot < @to`
		args["to"] = f.To
	}
	rows, _ := s.pool.Query(ctx, sql+` ORDER BY slot`, args)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (t visit.TimeCount, err error) {
		err = row.Scan(&t.From, &t.Visits)
		t.From = t.From.UTC()
		return t, err
	})
	return list, away(err)
}

// Count counts the visits of a filter, and all of its site that are kept; marked
// ones too. Beyond [ScanMost] the matching ones are no longer counted.
func (s *Store) Count(ctx context.Context, f visit.Filter, now time.Time) (visit.Count, error) {
	var c visit.Count
	err := s.pool.QueryRow(ctx, `SELECT coalesce(sum(visits), 0)::bigint FROM rollup WHERE site = $1 AND dimension = 'all' AND granularity = 'day' AND slot >= $2`,
		f.CountedFor(), s.Oldest(now)).Scan(&c.All)
	if err != nil {
		return c, away(err)
	}
	if f.OnlyTimes() && f.From.IsZero() && f.To.IsZero() {
		c.Matching = c.All
		return c, nil
	}
	conditions, args := where(f)
	args["most"] = ScanMost
	err = s.pool.QueryRow(ctx, `SELECT count(*) FROM (SELECT FROM visit WHERE `+conditions+` LIMIT @most + 1) m`, args).Scan(&c.Matching)
	if c.Matching > ScanMost {
		c.Matching, c.More = ScanMost, true
	}
	return c, away(err)
}

// Verify recounts a site's day in UTC from its rows, and gives what differs and
// how many rows there are. Where mend is true, the counts are put right.
func (s *Store) Verify(ctx context.Context, site string, of time.Time, mend bool) (differs []visit.CountMismatch, rows int64, err error) {
	of = of.UTC().Truncate(day)
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if mend {
			if err := takeTurn(ctx, tx, storing); err != nil {
				return err
			}
		} else if _, err := tx.Exec(ctx, `SET TRANSACTION ISOLATION LEVEL REPEATABLE READ`); err != nil { // one snapshot of both
			return err
		}
		list, _ := tx.Query(ctx, `SELECT site, dimension, granularity, slot, key, counted, "rows" FROM miscounted($1, $2)`, site, of)
		if differs, err = pgx.CollectRows(list, pgx.RowToStructByPos[visit.CountMismatch]); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `SELECT count(*) FROM visit WHERE site = $1 AND id >= $2 AND id < $3`, site, floor(of), floor(of.Add(day))).Scan(&rows); err != nil {
			return err
		}
		if !mend || len(differs) == 0 {
			return nil
		}
		_, err := tx.Exec(ctx, `SELECT mend_day($1, $2)`, site, of)
		return err
	})
	return differs, rows, away(err)
}

// Days lists the days in UTC that a site may have rows or counts of and that are
// kept, the oldest first.
func (s *Store) Days(ctx context.Context, site string, now time.Time) ([]time.Time, error) {
	rows, _ := s.pool.Query(ctx, `SELECT DISTINCT date_trunc('day', slot, 'UTC') FROM rollup WHERE site = $1 AND slot >= $2
		UNION SELECT generate_series(
			date_trunc('day', (SELECT time FROM visit WHERE site = $1 ORDER BY id LIMIT 1), 'UTC'),
			(SELECT time FROM visit WHERE site = $1 ORDER BY id DESC LIMIT 1), '1 day') ORDER BY 1`, site, s.Oldest(now))
	list, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	for i := range list {
		list[i] = list[i].UTC()
	}
	return list, away(err)
}
