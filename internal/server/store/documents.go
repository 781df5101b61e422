package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/document"
	"eastporch/internal/server/store/topics"
)

// changing is the advisory lock that whoever changes documents holds, so that changes are in the order of the commits.
const changing = 7263003

// Documents are what owners wrote down.
func (s *Store) Documents() Documents { return Documents{s} }

// Documents are the rows of the table document. They are safe for concurrent use.
type Documents struct{ *Store }

const documentColumns = `site, kind, name, revision, change, body, changes, made_by, made_at, first_by, first_at`

func scanDocument(row pgx.CollectableRow) (d document.Document, err error) {
	err = row.Scan(&d.Site, &d.Kind, &d.Name, &d.Revision, &d.Change, &d.Body, &d.Changes, &d.MadeBy, &d.MadeAt, &d.FirstBy, &d.FirstAt)
	d.MadeAt, d.FirstAt = d.MadeAt.UTC(), d.FirstAt.UTC()
	return d, err
}

// Since gives the newest revision of every document that has changed since a change, also where it was dropped, in the order
// of the changes.
func (r Documents) Since(ctx context.Context, change int64) ([]document.Document, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+documentColumns+` FROM document WHERE newest AND change > $1 ORDER BY change`, change)
	list, err := pgx.CollectRows(rows, scanDocument)
	return list, away(err)
}

// Save stores the next revision of a document, whose body, sentences, maker and time are given; without a body it drops it.
// With on, it must be made on that revision, or on none where on is 0, else the error is [document.ErrChanged]. most bounds
// how many of its kind a site may have; 0 is no bound. Other errors are [document.ErrNone] where there is nothing to
// drop, [document.ErrTaken] where another site has the name of a link, and [document.ErrFull].
func (r Documents) Save(ctx context.Context, d document.Document, on *int64, most int) (document.Document, error) {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		if err := takeTurn(ctx, tx, changing); err != nil {
			return err
		}
		before, err := newest(ctx, tx, d.Key)
		if err != nil {
			return err
		}
		there := before.Body != nil
		switch {
		case on != nil && *on == 0 && there && d.Kind == document.Link:
			return document.ErrTaken
		case on != nil && (*on == 0) == there, on != nil && *on > 0 && *on != before.Revision:
			return document.ErrChanged
		case d.Body == nil && !there:
			return document.ErrNone
		case !there && most > 0:
			var n int
			err := tx.QueryRow(ctx, `SELECT count(*) FROM document WHERE kind = $1 AND site = $2 AND newest AND body IS NOT NULL`, d.Kind, d.Site).Scan(&n)
			if err != nil {
				return err
			}
			if n >= most {
				return document.ErrFull
			}
		}
		d.Revision, d.FirstBy, d.FirstAt = before.Revision+1, before.FirstBy, before.FirstAt
		if !there {
			d.FirstBy, d.FirstAt = d.MadeBy, d.MadeAt
		}
		if err := put(ctx, tx, &d); err != nil {
			return err
		}
		return topics.Tell(ctx, tx, topics.Documents)
	})
	for _, own := range []error{document.ErrTaken, document.ErrChanged, document.ErrNone, document.ErrFull} {
		if errors.Is(err, own) {
			return d, own
		}
	}
	return d, away(err)
}

// newest gives the newest revision of a document; a zero one where there never was any.
func newest(ctx context.Context, tx pgx.Tx, key document.Key) (document.Document, error) {
	rows, _ := tx.Query(ctx, `SELECT `+documentColumns+` FROM document WHERE kind = $1 AND site = $2 AND name = $3 AND newest`, key.Kind, key.Site, key.Name)
	d, err := pgx.CollectExactlyOneRow(rows, scanDocument)
	if errors.Is(err, pgx.ErrNoRows) {
		return document.Document{}, nil
	}
	return d, err
}

// put stores a revision in front of those before, and changes what goes with it.
func put(ctx context.Context, tx pgx.Tx, d *document.Document) error {
	older := `UPDATE document SET newest = false WHERE kind = $1 AND site = $2 AND name = $3 AND newest`
	if d.Kind == document.GateDraft { // which has no history
		older = `DELETE FROM document WHERE kind = $1 AND site = $2 AND name = $3`
	}
	if _, err := tx.Exec(ctx, older, d.Kind, d.Site, d.Name); err != nil {
		return err
	}
	var body *string
	if d.Body != nil {
		text := string(d.Body)
		body = &text
	}
	err := tx.QueryRow(ctx, `INSERT INTO document (site, kind, name, revision, change, newest, body, changes, made_by, made_at, first_by, first_at)
		VALUES ($1, $2, $3, $4, nextval('document_change'), true, $5, $6, $7, $8, $9, $10) ON CONFLICT (name) WHERE newest AND kind = 'link' DO NOTHING
		RETURNING change`,
		d.Site, d.Kind, d.Name, d.Revision, body, list(d.Changes), d.MadeBy, d.MadeAt, d.FirstBy, d.FirstAt).Scan(&d.Change)
	if errors.Is(err, pgx.ErrNoRows) {
		return document.ErrTaken
	}
	if err != nil {
		return err
	}
	return alongside(ctx, tx, d)
}

// alongside changes what is kept beside documents, in the transaction that changes one.
func alongside(ctx context.Context, tx pgx.Tx, d *document.Document) (err error) {
	switch {
	case d.Kind == document.Gate && d.Body != nil: // what was a draft is in force
		draft, err := newest(ctx, tx, document.Key{Site: d.Site, Kind: document.GateDraft})
		if err != nil || draft.Body == nil {
			return err
		}
		draft.Body, draft.Revision, draft.MadeBy, draft.MadeAt = nil, draft.Revision+1, d.MadeBy, d.MadeAt
		return put(ctx, tx, &draft)
	case d.Kind == document.Notice && (d.Body == nil || d.FirstAt.Equal(d.MadeAt)): // nor has a new one met anything yet
		if _, err = tx.Exec(ctx, `DELETE FROM notice_trigger WHERE site = $1 AND notice = $2`, d.Site, d.Name); err == nil {
			_, err = tx.Exec(ctx, `DELETE FROM notice_known WHERE site = $1 AND notice = $2`, d.Site, d.Name)
		}
	case d.Kind == document.Channel && d.Body != nil: // it begins anew with what waits
		_, err = tx.Exec(ctx, `UPDATE notice_message SET next_try = $3 WHERE site = $1 AND channel = $2 AND state = 'waiting' AND next_try > $3`, d.Site, d.Name, d.MadeAt)
	case d.Kind == document.Channel:
		_, err = tx.Exec(ctx, `UPDATE notice_message SET state = 'dropped', result = 'the channel was dropped', finished = $3 WHERE site = $1 AND channel = $2 AND state = 'waiting'`, d.Site, d.Name, d.MadeAt)
	}
	if err == nil && (d.Kind == document.Notice || d.Kind == document.Channel) {
		err = topics.Tell(ctx, tx, topics.Notices)
	}
	return err
}

// History lists the revisions of a document, the newest first, older than before where that is not 0.
func (r Documents) History(ctx context.Context, key document.Key, before int64, limit int) ([]document.Document, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+documentColumns+` FROM document WHERE kind = $1 AND site = $2 AND name = $3 AND ($4::bigint = 0 OR revision < $4) ORDER BY revision DESC LIMIT $5`,
		key.Kind, key.Site, key.Name, before, limit)
	list, err := pgx.CollectRows(rows, scanDocument)
	return list, away(err)
}

// Revision gives one revision of a document; [document.ErrRevision] where there is none.
func (r Documents) Revision(ctx context.Context, key document.Key, number int64) (document.Document, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+documentColumns+` FROM document WHERE kind = $1 AND site = $2 AND name = $3 AND revision = $4`, key.Kind, key.Site, key.Name, number)
	d, err := pgx.CollectExactlyOneRow(rows, scanDocument)
	if errors.Is(err, pgx.ErrNoRows) {
		return d, document.ErrRevision
	}
	return d, away(err)
}
