// Package linkrows keeps links, and the codes that were asked for and that no link has, in PostgreSQL.
package linkrows

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"eastporch/internal/core/link"
)

// Rows are the tables of links. They are safe for concurrent use.
type Rows struct {
	pool *pgxpool.Pool
	away func(error) error // tells a database that does not answer from one that refuses
}

// New makes the Rows of a database.
func New(pool *pgxpool.Pool, away func(error) error) *Rows { return &Rows{pool, away} }

// changing is the advisory lock that whoever changes links holds, so that revisions are in the order of the
// commits.
const changing = 7263003

const columns = `code, site, body, disabled, used, not_recorded, made_by, made_at, changed_at, revision`

func scan(row pgx.CollectableRow) (k link.Kept, err error) {
	var body []byte
	if err = row.Scan(&k.Code, &k.Site, &body, &k.Off, &k.Used, &k.ClicksNotRecorded, &k.MadeBy, &k.MadeAt, &k.ChangedAt, &k.Revision); err == nil {
		err = json.Unmarshal(body, &k.Said)
	}
	k.MadeAt, k.ChangedAt = k.MadeAt.UTC(), k.ChangedAt.UTC()
	if k.Off != nil {
		off := k.Off.UTC()
		k.Off = &off
	}
	return k, err
}

// Since gives the links that have changed since a revision, in the order of their changes.
func (r *Rows) Since(ctx context.Context, revision int64) ([]link.Kept, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+columns+` FROM link WHERE revision > $1 ORDER BY revision`, revision)
	list, err := pgx.CollectRows(rows, scan)
	return list, r.away(err)
}

// Add stores a new link; [link.ErrTaken] where its code is another's.
func (r *Rows) Add(ctx context.Context, l link.Link) error {
	return r.change(ctx, l.Said, link.ErrTaken, `INSERT INTO link (code, site, body, ends, most, made_by, made_at, changed_at, revision)
		VALUES (@code, @site, @body, @ends, @most, @by, @at, @at, nextval('link_revision')) ON CONFLICT DO NOTHING`,
		pgx.NamedArgs{"code": l.Code, "site": l.Site, "by": l.MadeBy, "at": l.MadeAt})
}

// Change stores what is said of a link now; [link.ErrNoLink] where there is none, or where it is no longer
// of the revision that was changed.
func (r *Rows) Change(ctx context.Context, k link.Kept) error {
	return r.change(ctx, k.Said, link.ErrNoLink, `UPDATE link SET body = @body, ends = @ends, most = @most, disabled = @off, changed_at = @at, revision = nextval('link_revision')
		WHERE code = @code AND revision = @revision`,
		pgx.NamedArgs{"code": k.Code, "off": k.Off, "at": k.ChangedAt, "revision": k.Revision})
}

func (r *Rows) change(ctx context.Context, said link.Said, none error, sql string, args pgx.NamedArgs) error {
	body, err := json.Marshal(said)
	if err != nil {
		return err
	}
	args["body"], args["ends"], args["most"] = string(body), said.Until, said.Limit
	return r.away(pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1)`, changing); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, sql, args)
		if err == nil && tag.RowsAffected() == 0 {
			return none
		}
		return err
	}))
}

// Get gives a link as it is kept now; [link.ErrNoLink] where there is none.
func (r *Rows) Get(ctx context.Context, code string) (link.Kept, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+columns+` FROM link WHERE code = $1`, code)
	k, err := pgx.CollectExactlyOneRow(rows, scan)
	if errors.Is(err, pgx.ErrNoRows) {
		return k, link.ErrNoLink
	}
	return k, r.away(err)
}

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
		for code, n := range t.Used {
			batch.Queue(`UPDATE link SET used = used + $2 WHERE code = $1`, code, n)
		}
		for code, n := range t.NotRecorded {
			batch.Queue(`UPDATE link SET not_recorded = not_recorded + $2 WHERE code = $1`, code, n)
		}
		for k, n := range t.Asked {
			batch.Queue(`INSERT INTO link_asked AS a SELECT $1, $2, CASE WHEN $3 = '' OR (SELECT count(*) FROM link_asked WHERE site = $1 AND day = $2) >= $4
					AND NOT EXISTS (SELECT FROM link_asked WHERE site = $1 AND day = $2 AND code = $3) THEN $5 ELSE $3 END, $6
				ON CONFLICT (site, day, code) DO UPDATE SET requests = a.requests + excluded.requests`,
				k.Site, t.Day, k.Code, mostAsked, otherCodes, n)
		}
		return tx.SendBatch(ctx, batch).Close()
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
