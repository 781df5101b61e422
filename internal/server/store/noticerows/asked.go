package noticerows

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/notice"
)

// Ask keeps a question and the letter that asks to confirm it.
func (r *Rows) Ask(ctx context.Context, p notice.Pending, l notice.Letter) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `INSERT INTO notice_pending VALUES ($1, $2, $3, $4, $5, $6, $7)`, p.ID, p.Site, p.Notice, p.Recipient, p.Question, p.Sender, p.Created); err != nil {
			return err
		}
		return add(ctx, tx, &l)
	})
	return r.away(err)
}

// Pending gives a question that waits to be confirmed; [notice.ErrLink] where there is none.
func (r *Rows) Pending(ctx context.Context, id uuid.UUID) (p notice.Pending, err error) {
	rows, _ := r.pool.Query(ctx, `SELECT id, site, notice, recipient, question, sender, created FROM notice_pending WHERE id = $1`, id)
	p, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[notice.Pending])
	if errors.Is(err, pgx.ErrNoRows) {
		return p, notice.ErrLink
	}
	return p, r.away(err)
}

// Confirm takes a question that waited, once, keeps that its recipient confirmed, and puts a letter in its place.
func (r *Rows) Confirm(ctx context.Context, id uuid.UUID, site string, recipient []byte, l *notice.Letter, now time.Time) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM notice_pending WHERE id = $1`, id)
		if err == nil && tag.RowsAffected() == 0 {
			return notice.ErrLink
		}
		if err == nil {
			err = keep(ctx, tx, site, recipient, true, now)
		}
		if err == nil && l != nil {
			err = add(ctx, tx, l)
		}
		return err
	})
	if errors.Is(err, notice.ErrLink) {
		return err
	}
	return r.away(err)
}

// Stop keeps that a recipient, by all that stand for it, wants no more mails, and drops those that wait for
// nobody else.
func (r *Rows) Stop(ctx context.Context, site string, recipients [][]byte, address string, now time.Time) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		for _, recipient := range recipients {
			if err := keep(ctx, tx, site, recipient, false, now); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `DELETE FROM notice_pending WHERE site = $1 AND recipient = $2`, site, address); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `UPDATE notice_message SET state = 'dropped', result = 'the recipient wants no more', finished = $3
			WHERE site = $1 AND state = 'waiting' AND sender <> '' AND jsonb_array_length(recipients) = 1 AND recipients->0->>'address' = $2`, site, address, now)
		return err
	})
	return r.away(err)
}

func keep(ctx context.Context, tx pgx.Tx, site string, recipient []byte, confirmed bool, now time.Time) error {
	_, err := tx.Exec(ctx, `INSERT INTO notice_recipient VALUES ($1, $2, $3, $4) ON CONFLICT (site, recipient) DO UPDATE SET confirmed = excluded.confirmed, at = excluded.at`, site, recipient, confirmed, now)
	return err
}

// Recipient says whether a recipient confirmed since a time, or wants no mails.
func (r *Rows) Recipient(ctx context.Context, site string, recipient []byte, since time.Time) (confirmed, stopped bool, err error) {
	err = r.pool.QueryRow(ctx, `SELECT confirmed AND at > $3, NOT confirmed FROM notice_recipient WHERE site = $1 AND recipient = $2`, site, recipient, since).Scan(&confirmed, &stopped)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return confirmed, stopped, r.away(err)
}

// Asked lists what somebody asked for since a time.
func (r *Rows) Asked(ctx context.Context, site string, since time.Time) ([]notice.AskedFor, error) {
	rows, _ := r.pool.Query(ctx, `SELECT notice, sender, ARRAY(SELECT e->>'address' FROM jsonb_array_elements(recipients) e), created, NOT test AND keys <> '{}' AND again_of IS NULL
		FROM notice_message WHERE site = $1 AND created > $2 AND sender <> ''`, site, since)
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[notice.AskedFor])
	return list, r.away(err)
}
