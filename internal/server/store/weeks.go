package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/visit"
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
	mondays, err := s.mondays(ctx)
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

// mondays lists the weeks that have partitions, the oldest first.
func (s *Store) mondays(ctx context.Context) ([]time.Time, error) {
	rows, _ := s.pool.Query(ctx, `SELECT to_date(right(c.relname, 8), 'YYYYMMDD') FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
		WHERE i.inhparent = 'visit'::regclass AND c.relname ~ '^visit_[0-9]{8}$' ORDER BY 1`)
	days, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	return days, away(err)
}

// Tend makes the partitions of the weeks to come and drops those that are not
// kept, with what only they needed. It gives the weeks that it dropped; counts of
// them stay.
func (s *Store) Tend(ctx context.Context, now time.Time) (dropped []time.Time, err error) {
	for n := range weeksAhead + 1 {
		if err := s.ensureWeek(ctx, weekOf(now.AddDate(0, 0, 7*n))); err != nil {
			return nil, err
		}
	}
	mondays, err := s.mondays(ctx)
	if err != nil {
		return nil, err
	}
	oldest := s.Oldest(now)
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := takeTurn(ctx, tx, arrivals); err != nil {
			return err
		}
		for _, monday := range mondays {
			if !monday.Before(oldest) {
				continue
			}
			if _, err := tx.Exec(ctx, fmt.Sprintf(`DROP TABLE IF EXISTS visit_%s`, monday.Format("20060102"))); err != nil {
				return err
			}
			dropped = append(dropped, monday)
		}
		loose, err := tx.Exec(ctx, `UPDATE installation SET loose_answers = false WHERE loose_answers`)
		if err != nil {
			return err
		}
		if len(dropped) > 0 || loose.RowsAffected() > 0 {
			if _, err := tx.Exec(ctx, dropAnswers); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `DELETE FROM visitor_seen WHERE seen < $1 AND day < $1`, now.Add(-visitorsKept)); err != nil {
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
	return dropped, nil
}

const (
	// visitorsKept is how long the visitors of a day are kept to tell them apart, after
	// the day and after they were seen: longer than the key that does.
	visitorsKept = 4 * 24 * time.Hour
	// tombstonesKept is longer than any queue may hold a visit.
	tombstonesKept = 60 * 24 * time.Hour
)

// dropAnswers drops the answers that no visit shares.
const dropAnswers = `DELETE FROM answer a WHERE NOT EXISTS (SELECT FROM visit v WHERE v.answer = a.id)
	AND a.id NOT IN (SELECT unnest(earlier) FROM visit WHERE earlier <> '{}')`
