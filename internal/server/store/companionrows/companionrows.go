// Package companionrows keeps what companions were asked, in PostgreSQL.
package companionrows

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"eastporch/internal/core/companion"
	"eastporch/internal/server/store/topics"
)

// Rows is the table of what companions were asked. They are safe for concurrent use.
type Rows struct {
	pool *pgxpool.Pool
	away func(error) error // tells a database that does not answer from one that refuses
}

// New makes the Rows of a database.
func New(pool *pgxpool.Pool, away func(error) error) *Rows { return &Rows{pool, away} }

const spent = `day, asked, minute, asked_in_minute`

// Claim counts one more question, unless as many were asked as may be; ok says which. A day or a minute that
// comes before the one that was counted last adds to it, so that a clock that is put back gives nothing
// twice; by more than one it is taken for the truth, and the count goes on.
func (r *Rows) Claim(ctx context.Context, site, name string, c companion.Claim) (s companion.Spent, ok bool, err error) {
	args := pgx.NamedArgs{"site": site, "name": name, "day": c.Day, "minute": c.Minute, "most": c.MostDay, "mostMinute": c.MostMinute}
	err = r.pool.QueryRow(ctx, `INSERT INTO companion_spent AS s (site, name, `+spent+`)
		SELECT @site, @name, @day::date, 1, @minute::bigint, 1 WHERE @most::bigint > 0 AND @mostMinute::bigint > 0
		ON CONFLICT (site, name) DO UPDATE SET
			day = CASE WHEN s.day - @day::date BETWEEN 0 AND 1 THEN s.day ELSE @day::date END,
			asked = CASE WHEN @day::date > s.day THEN 1 ELSE s.asked + 1 END,
			minute = CASE WHEN s.minute - @minute BETWEEN 0 AND 1 THEN s.minute ELSE @minute END,
			asked_in_minute = CASE WHEN @minute > s.minute THEN 1 ELSE s.asked_in_minute + 1 END
		WHERE (@day::date > s.day OR s.asked < @most) AND (@minute > s.minute OR s.asked_in_minute < @mostMinute)
		RETURNING `+spent, args).Scan(&s.Day, &s.Asked, &s.Minute, &s.AskedInMinute)
	if err == nil {
		err = topics.Tell(ctx, r.pool, topics.Companions)
	}
	if !errors.Is(err, pgx.ErrNoRows) {
		return s, err == nil, r.away(err)
	}
	err = r.pool.QueryRow(ctx, `SELECT `+spent+` FROM companion_spent WHERE site = @site AND name = @name`, args).Scan(&s.Day, &s.Asked, &s.Minute, &s.AskedInMinute)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return s, false, r.away(err)
}

// Spent gives what was asked of all allowances, by site and name.
func (r *Rows) Spent(ctx context.Context) (map[[2]string]companion.Spent, error) {
	rows, _ := r.pool.Query(ctx, `SELECT site, name, `+spent+` FROM companion_spent`)
	all := map[[2]string]companion.Spent{}
	var key [2]string
	var s companion.Spent
	_, err := pgx.ForEachRow(rows, []any{&key[0], &key[1], &s.Day, &s.Asked, &s.Minute, &s.AskedInMinute}, func() error {
		all[key] = s
		return nil
	})
	return all, r.away(err)
}
