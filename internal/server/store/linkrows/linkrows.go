// Package linkrows keeps what is counted of links, and the codes that were asked for and that no link has, in PostgreSQL.
package linkrows

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"eastporch/internal/core/link"
	"eastporch/internal/server/store/topics"
)

// Rows are the tables of links. They are safe for concurrent use.
type Rows struct {
	pool *pgxpool.Pool
	away func(error) error // tells a database that does not answer from one that refuses
}

// New makes the Rows of a database.
func New(pool *pgxpool.Pool, away func(error) error) *Rows { return &Rows{pool, away} }

// Limited gives how often the links with a limit have redirected.
func (r *Rows) Limited(ctx context.Context) (map[string]int64, error) {
	rows, _ := r.pool.Query(ctx, `SELECT code, used FROM link WHERE most IS NOT NULL`)
	used, code, n := map[string]int64{}, "", int64(0)
	_, err := pgx.ForEachRow(rows, []any{&code, &n}, func() error {
		used[code] = n
		return nil
	})
	return used, r.away(err)
}

// Counted gives what is counted of a link.
func (r *Rows) Counted(ctx context.Context, code string) (n link.Counted, err error) {
	err = r.pool.QueryRow(ctx, `SELECT used, not_recorded FROM link_count WHERE code = $1`, code).Scan(&n.Used, &n.NotRecorded)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return n, r.away(err)
}

// Bounds of the codes that are counted by name.
const (
	mostAsked  = 500 // of a day and site
	askedKept  = 60 * 24 * time.Hour
	otherCodes = "\x02"
)

// AddTally adds counts, all of them or none.
func (r *Rows) AddTally(ctx context.Context, t link.Tally) error {
	return r.away(pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		batch := &pgx.Batch{}
		for code, n := range t.Counts {
			batch.Queue(`INSERT INTO link_count AS c VALUES ($1, $2, $3) ON CONFLICT (code) DO UPDATE SET used = c.used + excluded.used, not_recorded = c.not_recorded + excluded.not_recorded`, code, n.Used, n.NotRecorded)
		}
		for k, n := range t.Asked {
			batch.Queue(`INSERT INTO link_asked AS a SELECT $1, $2, CASE WHEN $3 = '' OR (SELECT count(*) FROM link_asked WHERE site = $1 AND day = $2) >= $4
					AND NOT EXISTS (SELECT FROM link_asked WHERE site = $1 AND day = $2 AND code = $3) THEN $5 ELSE $3 END, $6
				ON CONFLICT (site, day, code) DO UPDATE SET requests = a.requests + excluded.requests`,
				k.Site, t.Day, k.Code, mostAsked, otherCodes, n)
		}
		if err := tx.SendBatch(ctx, batch).Close(); err != nil || len(t.Counts) == 0 {
			return err
		}
		return topics.Tell(ctx, tx, topics.Links)
	}))
}

// Asked gives the codes of a site that were asked for most since a day, and the requests for others.
func (r *Rows) Asked(ctx context.Context, site string, since time.Time, limit int) (list []link.Asked, others int64, err error) {
	rows, _ := r.pool.Query(ctx, `SELECT code, sum(requests)::bigint AS n FROM link_asked a WHERE site = $1 AND day >= $2
		AND NOT EXISTS (SELECT FROM link l WHERE l.code = a.code) GROUP BY code ORDER BY n DESC, code`, site, since)
	list = []link.Asked{}
	var one link.Asked
	_, err = pgx.ForEachRow(rows, []any{&one.Code, &one.Requests}, func() error {
		if one.Code == otherCodes || len(list) == limit {
			others += one.Requests
			return nil
		}
		list = append(list, one)
		return nil
	})
	return list, others, r.away(err)
}

// Maintain drops what is no longer kept.
func Maintain(ctx context.Context, tx pgx.Tx, now time.Time) error {
	_, err := tx.Exec(ctx, `DELETE FROM link_asked WHERE day < $1`, now.Add(-askedKept))
	return err
}
