// Package gaterows keeps the rules of gates, what they decided, and the numbers that are good once, in
// PostgreSQL.
package gaterows

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"eastporch/internal/core/gate"
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

// Newest gives the number of the newest revision of every site that has rules.
func (r *Rows) Newest(ctx context.Context) (map[string]int64, error) {
	rows, _ := r.pool.Query(ctx, `SELECT site, max(revision) FROM gate_rules GROUP BY site`)
	newest := map[string]int64{}
	var site string
	var revision int64
	_, err := pgx.ForEachRow(rows, []any{&site, &revision}, func() error {
		newest[site] = revision
		return nil
	})
	return newest, r.away(err)
}

// Revision gives one revision of a site's rules; [gate.ErrNoRevision] where there is none. 0 is the newest,
// and where a site has none at all, empty rules of revision 0.
func (r *Rows) Revision(ctx context.Context, site string, number int64) (rev gate.Revision, err error) {
	err = r.pool.QueryRow(ctx, `SELECT revision, body, changes, made_by, made_at FROM gate_rules
		WHERE site = $1 AND ($2::bigint = 0 OR revision = $2::bigint) ORDER BY revision DESC LIMIT 1`, site, number).
		Scan(&rev.Revision, &rev.Rules, &rev.Changes, &rev.MadeBy, &rev.MadeAt)
	switch {
	case errors.Is(err, pgx.ErrNoRows) && number == 0:
		return gate.Revision{Rules: gate.Rules{Gates: []gate.Gate{}}, Changes: []string{}}, nil
	case errors.Is(err, pgx.ErrNoRows):
		return rev, gate.ErrNoRevision
	}
	rev.MadeAt = rev.MadeAt.UTC()
	return rev, r.away(err)
}

// History lists the revisions of a site's rules, the newest first, older than before where that is not 0.
func (r *Rows) History(ctx context.Context, site string, before int64, limit int) ([]gate.Revision, error) {
	rows, _ := r.pool.Query(ctx, `SELECT revision, body, changes, made_by, made_at FROM gate_rules
		WHERE site = $1 AND ($2::bigint = 0 OR revision < $2::bigint) ORDER BY revision DESC LIMIT $3`, site, before, limit)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (rev gate.Revision, err error) {
		err = row.Scan(&rev.Revision, &rev.Rules, &rev.Changes, &rev.MadeBy, &rev.MadeAt)
		rev.MadeAt = rev.MadeAt.UTC()
		return rev, err
	})
	return list, r.away(err)
}

// Save stores the next revision of a site's rules and drops its draft; [gate.ErrChanged] where the newest is
// not the one before.
func (r *Rows) Save(ctx context.Context, site string, rev gate.Revision) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `INSERT INTO gate_rules (site, revision, body, changes, made_by, made_at)
			SELECT $1::text, $2::bigint, $3::jsonb, $4::text[], $5::text, $6::timestamptz
			WHERE coalesce((SELECT max(revision) FROM gate_rules WHERE site = $1::text), 0) = $2::bigint - 1
			ON CONFLICT DO NOTHING`, site, rev.Revision, rev.Rules, rev.Changes, rev.MadeBy, rev.MadeAt)
		if err == nil && tag.RowsAffected() == 0 {
			return gate.ErrChanged
		}
		if err == nil {
			_, err = tx.Exec(ctx, `DELETE FROM gate_draft WHERE site = $1`, site)
		}
		return err
	})
	if errors.Is(err, gate.ErrChanged) {
		return err
	}
	return r.away(err)
}

// Draft gives the draft of a site's rules; nil for none.
func (r *Rows) Draft(ctx context.Context, site string) (*gate.Draft, error) {
	d := gate.Draft{}
	err := r.pool.QueryRow(ctx, `SELECT body, made_by, made_at FROM gate_draft WHERE site = $1`, site).Scan(&d.Rules, &d.MadeBy, &d.MadeAt)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	d.MadeAt = d.MadeAt.UTC()
	return &d, r.away(err)
}

// SaveDraft stores a draft in place of the one before.
func (r *Rows) SaveDraft(ctx context.Context, site string, d gate.Draft) error {
	_, err := r.pool.Exec(ctx, `INSERT INTO gate_draft (site, body, made_by, made_at) VALUES ($1, $2, $3, $4)
		ON CONFLICT (site) DO UPDATE SET body = excluded.body, made_by = excluded.made_by, made_at = excluded.made_at`, site, d.Rules, d.MadeBy, d.MadeAt)
	return r.away(err)
}

// DropDraft removes the draft of a site, if there is one.
func (r *Rows) DropDraft(ctx context.Context, site string) error {
	_, err := r.pool.Exec(ctx, `DELETE FROM gate_draft WHERE site = $1`, site)
	return r.away(err)
}

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
