package store

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/card"
	"eastporch/internal/core/visit"
)

// EachAddress calls do for every address that visits since a time were stored
// with, with the visits that it has. Truncated addresses are prefixes.
func (s *Store) EachAddress(ctx context.Context, since time.Time, do func(address netip.Addr, visits int)) error {
	rows, err := s.pool.Query(ctx, `SELECT address, count(*) FROM visit WHERE id >= $1 AND address IS NOT NULL AND NOT skipped GROUP BY address`, floor(since))
	if err != nil {
		return away(err)
	}
	defer rows.Close()
	for rows.Next() {
		var address netip.Addr
		var n int
		if err := rows.Scan(&address, &n); err != nil {
			return err
		}
		do(address, n)
	}
	return away(rows.Err())
}

// WithoutAddress counts the visits since a time whose address was not kept, and those that were
// skipped, not looked up.
func (s *Store) WithoutAddress(ctx context.Context, since time.Time) (unkept, skipped int, err error) {
	err = s.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE NOT skipped), count(*) FILTER (WHERE skipped) FROM visit WHERE id >= $1 AND (skipped OR address IS NULL)`, floor(since)).Scan(&unkept, &skipped)
	return unkept, skipped, away(err)
}

// reenrichBatch is how many visits are read again in one transaction.
const reenrichBatch = 500

// Reenrich reads visits since a time again: again gives a visit's card anew, or ok
// false where the visit stays as it is. The old reading is kept with the visit.
// progress is called after each batch.
func (s *Store) Reenrich(ctx context.Context, since time.Time, again func(visit.Visit) (card card.Card, ok bool), progress func(seen, changed int)) error {
	after, seen, changed := floor(since), 0, 0
	for {
		n := 0
		err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
			if err := takeTurn(ctx, tx, storing); err != nil {
				return err
			}
			rows, _ := tx.Query(ctx, selectVisit+`WHERE visit.id > $1 ORDER BY visit.id LIMIT $2 FOR UPDATE OF visit`, after, reenrichBatch)
			visits, err := pgx.CollectRows(rows, scanVisit)
			if err != nil {
				return err
			}
			list := places{}
			var digests []uuid.UUID
			var ids []uuid.UUID
			var changes []visit.Visit
			for _, v := range visits {
				n++
				after = v.ID
				var ok bool
				if v.Card, ok = again(v); !ok {
					continue
				}
				changed++
				ids, changes = append(ids, v.ID), append(changes, v)
				digests = append(digests, list.add(&v.Card.Location, stateBy(v.Card.Address.Skipped, v.Card.Address.Kind != nil, v.Card.Location.CountryCode != nil)))
			}
			if len(ids) == 0 {
				return nil
			}
			if _, err := tx.Exec(ctx, `SELECT count_ids($1, -1)`, ids); err != nil {
				return err
			}
			found, err := list.ids(ctx, tx)
			if err != nil {
				return err
			}
			batch := &pgx.Batch{}
			for i, v := range changes {
				if err := queueFacts(batch, v, found[digests[i]]); err != nil {
					return err
				}
			}
			if err := tx.SendBatch(ctx, batch).Close(); err != nil {
				return err
			}
			_, err = tx.Exec(ctx, `SELECT count_ids($1, 1)`, ids)
			return err
		})
		if err != nil {
			return away(err)
		}
		seen += n
		progress(seen, changed)
		if n < reenrichBatch {
			return nil
		}
	}
}

func queueFacts(batch *pgx.Batch, v visit.Visit, place int64) error {
	row, body, err := v.Row()
	if err != nil {
		return err
	}
	batch.Queue(`INSERT INTO edition_facts VALUES ($1, $2) ON CONFLICT DO NOTHING`, row.FactsID, string(body))
	batch.Queue(`UPDATE visit SET facts = $2, card = $3, earlier = earlier || facts, country_code = $4, place = $5, network = $6, week_hour = $7, basis = $8 WHERE id = $1`,
		v.ID, row.FactsID, string(row.Card), v.Card.Location.CountryCode, place, null(visit.NetworkKey(v.Card.Network)), row.WeekHour, v.Card.Location.Basis)
	return nil
}
