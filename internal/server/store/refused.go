package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/server/refused"
)

const (
	refusedFor  = 7 * 24 * time.Hour
	refusedFine = 2 * time.Hour // how long slots of five minutes are kept
)

// AddRefused adds what was counted, with the last example of each.
func (s *Store) AddRefused(ctx context.Context, counts map[refused.Slot]int64, examples map[refused.Key]refused.Example) error {
	return away(pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		batch := &pgx.Batch{}
		for at, n := range counts {
			batch.Queue(`INSERT INTO refused_request VALUES ($1, $2, $3, $4, $5) ON CONFLICT (kind, site, detail, slot) DO UPDATE SET n = refused_request.n + excluded.n`,
				string(at.Kind), at.Site, at.Detail, at.Time, n)
		}
		for of, e := range examples {
			body, err := json.Marshal(e)
			if err != nil {
				return err
			}
			batch.Queue(`INSERT INTO refused_example VALUES ($1, $2, $3, $4, $5) ON CONFLICT (kind, site, detail) DO UPDATE SET body = excluded.body`,
				string(of.Kind), of.Site, of.Detail, e.Time, string(body))
		}
		return tx.SendBatch(ctx, batch).Close()
	}))
}

// Refused gives what was refused since a time, by slots, with the last example of each and when the first came.
func (s *Store) Refused(ctx context.Context, since time.Time) (counts map[refused.Slot]int64, examples map[refused.Key]refused.Kept, err error) {
	counts, examples = map[refused.Slot]int64{}, map[refused.Key]refused.Kept{}
	var at refused.Slot
	var n int64
	rows, _ := s.pool.Query(ctx, `SELECT kind, site, detail, slot, n FROM refused_request WHERE slot >= $1`, since)
	_, err = pgx.ForEachRow(rows, []any{&at.Kind, &at.Site, &at.Detail, &at.Time, &n}, func() error {
		at.Time = at.Time.UTC()
		counts[at] = n
		return nil
	})
	if err != nil {
		return nil, nil, away(err)
	}
	var of refused.Key
	var kept refused.Kept
	var body []byte
	rows, _ = s.pool.Query(ctx, `SELECT kind, site, detail, first, body FROM refused_example`)
	_, err = pgx.ForEachRow(rows, []any{&of.Kind, &of.Site, &of.Detail, &kept.First, &body}, func() error {
		kept.Example = refused.Example{}
		err := json.Unmarshal(body, &kept.Example)
		kept.First = kept.First.UTC()
		examples[of] = kept
		return err
	})
	return counts, examples, away(err)
}

// maintainRefused drops what has had its time, and adds up slots of five minutes by hours.
func maintainRefused(ctx context.Context, tx pgx.Tx, now time.Time) error {
	batch := &pgx.Batch{}
	batch.Queue(`DELETE FROM refused_request WHERE slot < $1`, now.Add(-refusedFor))
	batch.Queue(`WITH fine AS (DELETE FROM refused_request WHERE slot < $1 AND slot <> date_trunc('hour', slot) RETURNING *)
		INSERT INTO refused_request SELECT kind, site, detail, date_trunc('hour', slot), sum(n) FROM fine GROUP BY 1, 2, 3, 4
		ON CONFLICT (kind, site, detail, slot) DO UPDATE SET n = refused_request.n + excluded.n`, now.Add(-refusedFine).Truncate(time.Hour))
	batch.Queue(`DELETE FROM refused_example e WHERE NOT EXISTS (SELECT FROM refused_request r WHERE (r.kind, r.site, r.detail) = (e.kind, e.site, e.detail))`)
	return tx.SendBatch(ctx, batch).Close()
}
