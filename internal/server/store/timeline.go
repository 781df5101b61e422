package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/visit"
)

// A piece of time is read from counts of a width, or with 0 from rows. A zero
// from or to is open.
type piece struct {
	width    time.Duration
	from, to time.Time
}

// slots is the condition on rollup that picks the counts of the piece.
func (p piece) slots(args pgx.NamedArgs) string {
	granularity := "day"
	if p.width == quarter {
		granularity = "quarter"
	}
	sql, n := ` AND granularity = '`+granularity+`'`, len(args)
	if !p.from.IsZero() {
		sql += fmt.Sprintf(` AND slot >= @a%d`, n)
		args[fmt.Sprintf("a%d", n)] = p.from
	}
	if !p.to.IsZero() {
		sql += fmt.Sprintf(` AND slot < @b%d`, n)
		args[fmt.Sprintf("b%d", n)] = p.to
	}
	return sql
}

// pieces parts the time from one to another into days in UTC, the quarter hours
// around them where quarters are counted, and what is left. What ends now or
// later has an open end.
func pieces(from, to, now time.Time, quarters bool) []piece {
	if to.IsZero() || !to.Before(now) {
		to = time.Time{}
	}
	if !from.IsZero() && !to.IsZero() && !from.Before(to) {
		return nil
	}
	widths := []time.Duration{day}
	if quarters {
		widths = append(widths, quarter)
	}
	return split(from, to, widths)
}

func split(from, to time.Time, widths []time.Duration) []piece {
	if len(widths) == 0 {
		return []piece{{0, from, to}}
	}
	width, finer := widths[0], widths[1:]
	begin, end := from, to
	if !from.IsZero() {
		begin = ceil(from, width)
	}
	if !to.IsZero() {
		end = to.Truncate(width)
	}
	if !begin.IsZero() && !end.IsZero() && !begin.Before(end) {
		return split(from, to, finer)
	}
	list := []piece{{width, begin, end}}
	if from.Before(begin) {
		list = append(list, split(from, begin, finer)...)
	}
	if end.Before(to) {
		list = append(list, split(end, to, finer)...)
	}
	return list
}

func ceil(t time.Time, width time.Duration) time.Time {
	floor := t.Truncate(width)
	if floor.Equal(t) {
		return floor
	}
	return floor.Add(width)
}

// Timeline counts visits by the units of time that begin at starts (see
// [report.UnitsBetween]), with those that have none. What is later than all counts for the
// last, what is earlier for the first, so that the lines hold every visit of the filter's.
func (s *Store) Timeline(ctx context.Context, f visit.Filter, starts []time.Time, now time.Time) ([]visit.TimeCount, visit.Tally, error) {
	list := make([]visit.TimeCount, len(starts))
	for i := range list {
		list[i].From = starts[i]
	}
	by, key := visit.ByAll, ""
	plain := f
	plain.CountryCode = ""
	if f.CountryCode != "" {
		by, key = visit.ByCountry, f.CountryCode
	}
	how := visit.Tally{Counted: plain.OnlyTimes()}
	var parts []string
	var args pgx.NamedArgs
	if how.Counted {
		args = pgx.NamedArgs{"site": f.Site, "click": f.Click, "counted": f.CountedFor(), "key": key, "by": string(by)}
		for _, p := range pieces(f.From, f.To, now, true) {
			if p.width == 0 {
				a, b := fmt.Sprintf("a%d", len(args)), fmt.Sprintf("b%d", len(args))
				parts = append(parts, fmt.Sprintf(`SELECT time AS t, 1 AS n FROM visit WHERE site = @site%s AND visit.id >= @%s AND visit.id < @%s AND counted AND %s = @key`, clicked(f), a, b, dimensions[by].column))
				args[a], args[b] = floor(p.from), floor(p.to)
				continue
			}
			p.width = quarter // units may begin within a day
			parts = append(parts, `SELECT slot AS t, visits AS n FROM rollup WHERE site = @counted AND dimension = @by AND key = (SELECT id FROM count_key WHERE text = @key)`+p.slots(args))
		}
	} else {
		var conditions string
		conditions, args = where(f)
		if f.Mark == "" {
			conditions += " AND counted"
		}
		args["most"] = ScanMost
		parts = []string{`SELECT time AS t, 1 AS n FROM (SELECT time FROM visit WHERE ` + conditions + ` ORDER BY visit.id DESC LIMIT @most) r`}
	}
	if len(parts) == 0 || len(starts) == 0 {
		return list, how, nil
	}
	args["starts"] = starts
	rows, _ := s.pool.Query(ctx, `SELECT greatest(1, width_bucket(t, @starts::timestamptz[])), sum(n)::bigint FROM (`+strings.Join(parts, " UNION ALL ")+`) c GROUP BY 1`, args)
	var at int
	var visits int64
	_, err := pgx.ForEachRow(rows, []any{&at, &visits}, func() error {
		list[at-1].Visits = visits
		return nil
	})
	if !how.Counted {
		for _, t := range list {
			how.Scanned += t.Visits
		}
		how.Partial = how.Scanned >= ScanMost
	}
	return list, how, away(err)
}
