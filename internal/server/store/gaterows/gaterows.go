// Package gaterows keeps what gates decided, and the numbers that are good once, in PostgreSQL.
package gaterows

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Rows are the tables of gates. They are safe for concurrent use.
type Rows struct {
	pool *pgxpool.Pool
	away func(error) error // tells a database that does not answer from one that refuses
}

// New makes the Rows of a database.
func New(pool *pgxpool.Pool, away func(error) error) *Rows { return &Rows{pool, away} }

// Bounds of what is kept.
const (
	refusalsLast = 30 * 24 * time.Hour
	mostRefusals = 100_000 // of all sites
	maxPaths     = 1000    // of a site and day that refusals are counted by
)

// otherPaths stands for the paths that are not counted by name.
const otherPaths = "\x02"

// UseOnce notes that a number was used; false where it was before, at any instance.
func (r *Rows) UseOnce(ctx context.Context, number string, expires time.Time) (bool, error) {
	tag, err := r.pool.Exec(ctx, `INSERT INTO used_number (number, expires) VALUES ($1, $2) ON CONFLICT DO NOTHING`, number, expires)
	return err == nil && tag.RowsAffected() == 1, r.away(err)
}

// Secret gives what the instances of an installation sign with; the first that asks makes it of fresh.
func (r *Rows) Secret(ctx context.Context, fresh []byte) (secret []byte, err error) {
	err = r.pool.QueryRow(ctx, `UPDATE installation SET secret = coalesce(secret, $1) RETURNING secret`, fresh).Scan(&secret)
	return secret, r.away(err)
}

// Maintain drops what is not kept any longer, and counts older than oldest.
func Maintain(ctx context.Context, tx pgx.Tx, now, oldest time.Time) error {
	for _, drop := range []struct {
		sql string
		arg any
	}{
		{`DELETE FROM used_number WHERE expires < $1`, now},
		{`DELETE FROM gate_refusal WHERE time < $1`, now.Add(-refusalsLast)},
		{`DELETE FROM gate_refusal WHERE time < (SELECT time FROM gate_refusal ORDER BY time DESC OFFSET $1 LIMIT 1)`, mostRefusals},
		{`DELETE FROM gate_count WHERE slot < $1`, oldest},
	} {
		if _, err := tx.Exec(ctx, drop.sql, drop.arg); err != nil {
			return err
		}
	}
	return nil
}
