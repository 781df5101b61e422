package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/visit"
)

// quarantineMost bounds how many visits are set apart; of more only the number
// is known.
const quarantineMost = 100_000

// SetApart keeps visits that could not be stored, each once.
func (s *Store) SetApart(ctx context.Context, list []visit.SetApart) error {
	batch := &pgx.Batch{}
	for _, q := range list {
		batch.Queue(`INSERT INTO quarantine SELECT $1, $2, $3, $4 WHERE (SELECT count(*) FROM quarantine) < $5 ON CONFLICT DO NOTHING`,
			q.ID, q.Time, q.Reason, q.Record, quarantineMost)
	}
	return away(s.pool.SendBatch(ctx, batch).Close())
}

// Quarantine lists the visits that were set apart, the newest first, at most
// limit of them.
func (s *Store) Quarantine(ctx context.Context, limit int) (list []visit.SetApart, all int, err error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, time, reason, record FROM quarantine ORDER BY time DESC, id LIMIT $1`, limit)
	list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[visit.SetApart])
	if err == nil {
		err = s.pool.QueryRow(ctx, `SELECT count(*) FROM quarantine`).Scan(&all)
	}
	return list, all, away(err)
}

// FromQuarantine reads a visit that was set apart.
func (s *Store) FromQuarantine(ctx context.Context, id uuid.UUID) (visit.SetApart, error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, time, reason, record FROM quarantine WHERE id = $1`, id)
	q, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[visit.SetApart])
	if errors.Is(err, pgx.ErrNoRows) {
		return q, fmt.Errorf("%s: %w", id, visit.ErrNoVisit)
	}
	return q, away(err)
}

// Release drops a visit from quarantine; ok is false where it was not there.
func (s *Store) Release(ctx context.Context, id uuid.UUID) (ok bool, err error) {
	tag, err := s.pool.Exec(ctx, `DELETE FROM quarantine WHERE id = $1`, id)
	return err == nil && tag.RowsAffected() == 1, away(err)
}
