package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/visit"
	"eastporch/internal/server/store/gaterows"
	"eastporch/internal/server/store/linkrows"
	"eastporch/internal/server/store/noticerows"
)

// weeksAhead is how many weeks have their partitions made before they begin.
const weeksAhead = 3

const week = 7 * 24 * time.Hour

// weekOf gives the Monday, in UTC, that begins the week of t.
func weekOf(t time.Time) time.Time {
	day := t.UTC().Truncate(24 * time.Hour)
	return day.AddDate(0, 0, -(int(day.Weekday())+6)%7)
}

// Oldest gives the time before which visits are not kept, which is the beginning
// of a week; the zero time where all are.
func (s *Store) Oldest(now time.Time) time.Time {
	if s.retention <= 0 {
		return time.Time{}
	}
	return weekOf(now.Add(-s.retention))
}

// ensureWeek makes the partition of a week, unless it is known to be there.
func (s *Store) ensureWeek(ctx context.Context, monday time.Time) error {
	if _, ok := s.weeks.Load(monday); ok {
		return nil
	}
	if _, err := s.pool.Exec(ctx, `SELECT ensure_week($1)`, monday); err != nil {
		return away(err)
	}
	s.weeks.Store(monday, true)
	return nil
}

// Kept says what is kept.
func (s *Store) Kept(ctx context.Context) (visit.Kept, error) {
	mondays, err := mondays(ctx, s.pool)
	if err != nil || len(mondays) == 0 {
		return visit.Kept{}, err
	}
	k := visit.Kept{Since: &mondays[0], Weeks: len(mondays)}
	if s.retention > 0 {
		goes := mondays[0].Add(week).Add(s.retention)
		k.NextDrop = &goes
	}
	return k, nil
}

type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// mondays lists the weeks that have partitions, the oldest first.
func mondays(ctx context.Context, db querier) ([]time.Time, error) {
	rows, _ := db.Query(ctx, `SELECT to_date(right(c.relname, 8), 'YYYYMMDD') FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
		WHERE i.inhparent = 'visit'::regclass AND c.relname ~ '^visit_[0-9]{8}$' ORDER BY 1`)
	days, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	return days, away(err)
}

// Maintain makes the partitions of the weeks to come and drops those that are not
// kept, with what only they needed. It gives the weeks that it dropped; counts of
// them stay.
func (s *Store) Maintain(ctx context.Context, now time.Time) (dropped []time.Time, err error) {
	for n := range weeksAhead + 1 {
		if err := s.ensureWeek(ctx, weekOf(now.AddDate(0, 0, 7*n))); err != nil {
			return nil, err
		}
	}
	oldest, keys := s.Oldest(now), int64(0)
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := takeTurn(ctx, tx, storing); err != nil {
			return err
		}
		weeks, err := mondays(ctx, tx)
		if err != nil {
			return err
		}
		for _, monday := range weeks {
			if !monday.Before(oldest) {
				continue
			}
			partition := "visit_" + monday.Format("20060102")
			if _, err := tx.Exec(ctx, `INSERT INTO loose_facts SELECT DISTINCT facts FROM `+partition+` UNION SELECT DISTINCT unnest(earlier) FROM `+partition+` WHERE earlier <> '{}' ON CONFLICT DO NOTHING`); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `DROP TABLE `+partition); err != nil {
				return err
			}
			dropped = append(dropped, monday)
		}
		if err := maintainRefused(ctx, tx, now); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, dropFacts); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, dropKeys)
		if err != nil {
			return err
		}
		keys = tag.RowsAffected()
		if _, err := tx.Exec(ctx, `DELETE FROM audit_log WHERE id < (SELECT id FROM audit_log ORDER BY id DESC OFFSET $1 LIMIT 1)`, auditKept-1); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `DELETE FROM visitor_seen WHERE seen < $1 AND day < $1`, now.Add(-visitorsKept)); err != nil {
			return err
		}
		if err := gaterows.Maintain(ctx, tx, now, oldest); err != nil {
			return err
		}
		if err := linkrows.Maintain(ctx, tx, now); err != nil {
			return err
		}
		if err := noticerows.Maintain(ctx, tx, now); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `DELETE FROM tombstone WHERE erased < $1`, now.Add(-tombstonesKept))
		return err
	})
	if err != nil {
		return nil, away(err)
	}
	for _, monday := range dropped {
		s.weeks.Delete(monday)
	}
	if keys > 0 { // so that their room is used again, and made-up names do not make the tables grow
		_, err = s.pool.Exec(ctx, `VACUUM count_key, rollup`)
	}
	return dropped, away(err)
}

const (
	// visitorsKept is how long the visitors of a day are kept to tell them apart, after
	// the day and after they were seen: longer than the key that does.
	visitorsKept = 4 * 24 * time.Hour
	// tombstonesKept is longer than any queue may hold a visit.
	tombstonesKept = 60 * 24 * time.Hour
	// auditKept is how many lines of the audit log are kept, the newest.
	auditKept = 100_000
)

// dropFacts drops, of the facts that a visit which is gone was of, those that no other shares.
const dropFacts = `WITH loose AS (DELETE FROM loose_facts RETURNING id)
	DELETE FROM edition_facts f USING loose WHERE f.id = loose.id
		AND NOT EXISTS (SELECT FROM visit v WHERE v.facts = f.id) AND NOT EXISTS (SELECT FROM visit v WHERE v.earlier @> ARRAY[f.id] AND v.earlier <> '{}')`

// dropKeys drops the keys that nothing is counted under any more.
const dropKeys = `WITH due AS (UPDATE installation SET loose_keys = false WHERE loose_keys RETURNING true AS yes)
	DELETE FROM count_key k USING due WHERE k.id > 1 AND NOT EXISTS (SELECT FROM rollup r WHERE r.key = k.id AND r.dimension <> 'place')`
