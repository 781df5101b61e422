package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/visit"
	"eastporch/internal/server/store/noticerows"
)

// erases is the condition of an erasure on the table visit, and the arguments.
func erases(e visit.Erasure) (string, []any, error) {
	switch {
	case e.ID != uuid.Nil:
		return `id = $1`, []any{e.ID}, nil
	case e.Address.IsValid():
		return `address = $1`, []any{e.Address}, nil
	case e.Prefix.IsValid():
		return `address <<= $1`, []any{e.Prefix}, nil
	case len(e.Placeholder) > 0:
		return `placeholder = ANY($1)`, []any{e.Placeholder}, nil
	}
	return "", nil, fmt.Errorf("erasure: nothing is named")
}

// Erase erases visits up to now: their rows, what counts them and what was set
// apart. What is still in a queue, of this service or another, is dropped when it
// would be stored; facts that no visit shares any more go with [Store.Maintain].
func (s *Store) Erase(ctx context.Context, e visit.Erasure, now time.Time) (visit.Erased, error) {
	condition, args, err := erases(e)
	if err != nil {
		return visit.Erased{}, err
	}
	var done visit.Erased
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if err := takeTurn(ctx, tx, storing); err != nil {
			return err
		}
		if err := entomb(ctx, tx, e, now); err != nil {
			return err
		}
		type gone struct {
			ID   uuid.UUID
			Site string
			Day  time.Time
		}
		rows, _ := tx.Query(ctx, `SELECT id, site, date_trunc('day', time, 'UTC') FROM visit WHERE `+condition, args...)
		list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[gone])
		if err != nil {
			return err
		}
		ids, days := make([]uuid.UUID, len(list)), map[string]map[time.Time]bool{}
		for i, g := range list {
			ids[i] = g.ID
			if days[g.Site] == nil {
				days[g.Site] = map[time.Time]bool{}
			}
			days[g.Site][g.Day] = true
		}
		done.Visits = len(ids)
		if _, err := tx.Exec(ctx, `SELECT count_ids($1, -1)`, ids); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `WITH gone AS (DELETE FROM visit WHERE id = ANY($1) RETURNING facts, earlier)
			INSERT INTO loose_facts SELECT facts FROM gone UNION SELECT unnest(earlier) FROM gone ON CONFLICT DO NOTHING`, ids); err != nil {
			return err
		}
		for site, of := range days {
			for day := range of {
				done.Days++
				if _, err := tx.Exec(ctx, `SELECT recount_visitors($1, $2)`, site, day); err != nil {
					return err
				}
			}
		}
		if err := noticerows.Erase(ctx, tx, ids, now); err != nil {
			return err
		}
		done.Quarantine, err = release(ctx, tx, e)
		return err
	})
	if err != nil {
		return visit.Erased{}, away(err)
	}
	return done, nil
}

// entomb leaves a tombstone, which tells whoever has an address that it was
// erased, and nobody else which.
func entomb(ctx context.Context, tx pgx.Tx, e visit.Erasure, now time.Time) error {
	var err error
	switch {
	case e.ID != uuid.Nil:
		_, err = tx.Exec(ctx, `INSERT INTO tombstone (erased, id) VALUES ($1, $2)`, now, e.ID)
	case e.Address.IsValid():
		salt := make([]byte, 16)
		_, _ = rand.Read(salt) // which never fails
		hash := sha256.Sum256(append(append([]byte{}, salt...), e.Address.String()...))
		_, err = tx.Exec(ctx, `INSERT INTO tombstone (erased, salt, hash) VALUES ($1, $2, $3)`, now, salt, hash[:])
	case e.Prefix.IsValid():
		_, err = tx.Exec(ctx, `INSERT INTO tombstone (erased, prefix) VALUES ($1, $2)`, now, e.Prefix)
	default:
		_, err = tx.Exec(ctx, `INSERT INTO tombstone (erased, placeholder) SELECT $1, unnest($2::text[])`, now, e.Placeholder)
	}
	return err
}

// release drops what was set apart and is erased. Records that cannot be read
// stay, for nobody knows whose they are.
func release(ctx context.Context, tx pgx.Tx, e visit.Erasure) (int, error) {
	rows, _ := tx.Query(ctx, `SELECT id, time, reason, record FROM quarantine`)
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[visit.SetApart])
	if err != nil {
		return 0, err
	}
	var ids []uuid.UUID
	for _, q := range list {
		queued, err := q.Queued()
		if err == nil && e.Holds(queued.Row) {
			ids = append(ids, q.ID)
		}
	}
	tag, err := tx.Exec(ctx, `DELETE FROM quarantine WHERE id = ANY($1)`, ids)
	return int(tag.RowsAffected()), err
}
