package noticerows

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/notice"
	"eastporch/internal/server/store/topics"
)

// triggersAtOnce bounds how many triggers are looked at in one go.
const triggersAtOnce = 1000

// Triggered gives what has met notices and is not written yet, the oldest first; of the notices that after
// names, which are quiet, none.
func (r *Rows) Triggered(ctx context.Context, after map[[2]string]bool) ([]notice.Triggered, error) {
	sites, names := []string{}, []string{}
	for key := range after {
		sites, names = append(sites, key[0]), append(names, key[1])
	}
	rows, _ := r.pool.Query(ctx, `SELECT t.id, t.site, t.notice, t.key, t.at, t.visit, t.facts, t.times FROM notice_trigger t
		WHERE (t.site, t.notice) NOT IN (SELECT * FROM unnest($1::text[], $2::text[])) ORDER BY t.id LIMIT $3`, sites, names, triggersAtOnce)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (t notice.Triggered, err error) {
		var facts []byte
		if err = row.Scan(&t.ID, &t.Site, &t.Notice, &t.Key, &t.At, &t.Visit, &facts, &t.Times); err == nil {
			err = json.Unmarshal(facts, &t.Facts)
		}
		return t, err
	})
	return list, r.away(err)
}

// Write puts letters in the place of what triggered them.
func (r *Rows) Write(ctx context.Context, w notice.Written, now time.Time) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		if len(w.Triggers) > 0 {
			tag, err := tx.Exec(ctx, `DELETE FROM notice_trigger WHERE id = ANY($1)`, w.Triggers)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				return nil // the notice was dropped meanwhile, or their visits were erased
			}
		}
		for i := range w.Letters {
			if err := add(ctx, tx, &w.Letters[i]); err != nil {
				return err
			}
		}
		if w.LeftOut == 0 {
			return nil
		}
		_, err := tx.Exec(ctx, `INSERT INTO notice_left_out AS l VALUES ($1, $2, ($3::timestamptz AT TIME ZONE 'UTC')::date, $4)
			ON CONFLICT (site, notice, day) DO UPDATE SET times = l.times + excluded.times`, w.Site, w.Notice, now, w.LeftOut)
		return err
	})
	return r.away(err)
}

func add(ctx context.Context, tx pgx.Tx, l *notice.Letter) error {
	recipients, err := json.Marshal(l.Recipients)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `INSERT INTO notice_message (id, site, notice, channel, kind, keys, visits, created, subject, body, html, facts, recipients, state, result, tries, tried, next_try, test, again_of, sender, finished)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, '[]', 0, $16, $17, $18, $19, $20)`,
		l.ID, l.Site, l.Notice, l.Channel, l.Kind, list(l.Keys), ids(l.Visits), l.Created, l.Subject, l.Text, l.HTML, l.Facts, string(recipients), string(l.State), l.Result, l.NextTry, l.Test, l.AgainOf, l.Sender, l.Finished)
	if err != nil {
		return err
	}
	return topics.Tell(ctx, tx, topics.Notices)
}

func list(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

func ids(s []uuid.UUID) []uuid.UUID {
	if s == nil {
		return []uuid.UUID{}
	}
	return s
}

// Counted says how many messages a notice has written since a time, by the keys of its limit; under * all.
func (r *Rows) Counted(ctx context.Context, site, name string, since time.Time) (map[string]int, error) {
	rows, _ := r.pool.Query(ctx, `SELECT k, count(*) FROM notice_message, unnest(keys || '{*}'::text[]) k WHERE site = $1 AND notice = $2 AND created > $3 AND NOT test AND keys <> '{}' AND again_of IS NULL GROUP BY 1`, site, name, since)
	out := map[string]int{}
	var key string
	var n int
	_, err := pgx.ForEachRow(rows, []any{&key, &n}, func() error {
		out[key] = n
		return nil
	})
	return out, r.away(err)
}

const letter = `id, site, notice, channel, kind, keys, visits, created, subject, body, html, facts, recipients, state, result, tries, tried, next_try, finished, test, again_of, sender`

func scan(row pgx.CollectableRow) (l notice.Letter, err error) {
	var recipients, tries []byte
	err = row.Scan(&l.ID, &l.Site, &l.Notice, &l.Channel, &l.Kind, &l.Keys, &l.Visits, &l.Created, &l.Subject, &l.Text, &l.HTML, &l.Facts, &recipients, &l.State, &l.Result, &tries, &l.Tried, &l.NextTry, &l.Finished, &l.Test, &l.AgainOf, &l.Sender)
	if err == nil {
		err = json.Unmarshal(recipients, &l.Recipients)
	}
	if err == nil {
		err = json.Unmarshal(tries, &l.Tries)
	}
	l.Created, l.NextTry = l.Created.UTC(), l.NextTry.UTC()
	if l.Finished != nil {
		at := l.Finished.UTC()
		l.Finished = &at
	}
	return l, err
}

// aheadMost bounds how many letters of a channel are looked at to find one that is due.
const aheadMost = 500

// Waiting gives what waits for a channel, in the order in which it was written.
func (r *Rows) Waiting(ctx context.Context, site, channel string) ([]notice.Letter, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+letter+` FROM notice_message WHERE site = $1 AND channel = $2 AND state = 'waiting' ORDER BY number LIMIT $3`, site, channel, aheadMost)
	list, err := pgx.CollectRows(rows, scan)
	return list, r.away(err)
}

// Due gives the channels that something waits for, and when the first of it may be tried.
func (r *Rows) Due(ctx context.Context) (map[[2]string]time.Time, error) {
	rows, _ := r.pool.Query(ctx, `SELECT site, channel, min(next_try) FROM notice_message WHERE state = 'waiting' GROUP BY 1, 2`)
	out := map[[2]string]time.Time{}
	var key [2]string
	var first time.Time
	_, err := pgx.ForEachRow(rows, []any{&key[0], &key[1], &first}, func() error {
		out[key] = first
		return nil
	})
	return out, r.away(err)
}

// Record keeps what became of a letter, and that it went to some recipients, "" for a webhook. One that was dropped
// meanwhile stays so, unless it is finished.
func (r *Rows) Record(ctx context.Context, l *notice.Letter, went []string, now time.Time) error {
	recipients, err := json.Marshal(l.Recipients)
	if err != nil {
		return err
	}
	tries, err := json.Marshal(l.Tries)
	if err != nil {
		return err
	}
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE notice_message SET recipients = $2, state = CASE WHEN state = 'waiting' OR $3 <> 'waiting' THEN $3 ELSE state END,
			result = CASE WHEN state = 'waiting' OR $3 <> 'waiting' THEN $4 ELSE result END, tries = $5, tried = $6, next_try = $7, finished = coalesce($8, finished) WHERE id = $1`,
			l.ID, string(recipients), string(l.State), l.Result, string(tries), l.Tried, l.NextTry, l.Finished)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO notice_sent SELECT $1, $2, unnest($3::text[]), $4`, l.Site, l.Channel, list(went), now)
		return err
	})
	return r.away(err)
}

// Sent gives when mails went to each recipient of a channel since a time, the oldest first; under "" all of them.
func (r *Rows) Sent(ctx context.Context, site, channel string, since time.Time) (map[string][]time.Time, error) {
	rows, _ := r.pool.Query(ctx, `SELECT recipient, at FROM notice_sent WHERE site = $1 AND channel = $2 AND at > $3 ORDER BY at`, site, channel, since)
	out := map[string][]time.Time{}
	var to string
	var at time.Time
	_, err := pgx.ForEachRow(rows, []any{&to, &at}, func() error {
		out[to] = append(out[to], at)
		return nil
	})
	return out, r.away(err)
}

// Messages lists the messages of a site, or of a notice of its, the newest first, before an id where it is given.
func (r *Rows) Messages(ctx context.Context, site, name string, before uuid.UUID, limit int) ([]notice.Letter, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+letter+` FROM notice_message WHERE site = $1 AND ($2 = '' OR notice = $2)
		AND ($3 = '00000000-0000-0000-0000-000000000000'::uuid OR number < (SELECT number FROM notice_message WHERE id = $3)) ORDER BY number DESC LIMIT $4`, site, name, before, limit)
	list, err := pgx.CollectRows(rows, scan)
	return list, r.away(err)
}

// Message gives a message of a site; [notice.ErrNoMessage] where there is none.
func (r *Rows) Message(ctx context.Context, site string, id uuid.UUID) (notice.Letter, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+letter+` FROM notice_message WHERE site = $1 AND id = $2`, site, id)
	l, err := pgx.CollectExactlyOneRow(rows, scan)
	if errors.Is(err, pgx.ErrNoRows) {
		return l, notice.ErrNoMessage
	}
	return l, r.away(err)
}

// DropMessage drops a message that waits; ok is false where it does not.
func (r *Rows) DropMessage(ctx context.Context, site string, id uuid.UUID, now time.Time) (ok bool, err error) {
	tag, err := r.pool.Exec(ctx, `UPDATE notice_message SET state = 'dropped', result = 'dropped by hand', finished = $3 WHERE site = $1 AND id = $2 AND state = 'waiting'`, site, id, now)
	return err == nil && tag.RowsAffected() == 1, r.away(err)
}

// Hasten has a message that waits tried at once.
func (r *Rows) Hasten(ctx context.Context, id uuid.UUID, now time.Time) error {
	_, err := r.pool.Exec(ctx, `UPDATE notice_message SET next_try = $2 WHERE id = $1 AND state = 'waiting'`, id, now)
	if err == nil {
		err = topics.Tell(ctx, r.pool, topics.Notices)
	}
	return r.away(err)
}

// Forget drops triggers of notices that there are no more.
func (r *Rows) Forget(ctx context.Context, triggers []int64) error {
	_, err := r.pool.Exec(ctx, `DELETE FROM notice_trigger t WHERE id = ANY($1) AND NOT EXISTS (SELECT FROM notice n WHERE n.site = t.site AND n.name = t.notice)`, triggers)
	return r.away(err)
}

// Known gives what a notice has met before, nil where nothing.
func (r *Rows) Known(ctx context.Context, site, name string) (body json.RawMessage, err error) {
	err = r.pool.QueryRow(ctx, `SELECT body FROM notice_known WHERE site = $1 AND notice = $2`, site, name).Scan(&body)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return body, r.away(err)
}

// Meet keeps what a notice has met, with what triggers it.
func (r *Rows) Meet(ctx context.Context, site, name string, known any, list []notice.Triggered, now time.Time) error {
	body, err := json.Marshal(known)
	if err != nil {
		return err
	}
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `INSERT INTO notice_known SELECT $1, $2, $3::jsonb, $4 WHERE EXISTS (SELECT FROM notice WHERE site = $1 AND name = $2)
			ON CONFLICT (site, notice) DO UPDATE SET body = excluded.body, at = excluded.at`, site, name, string(body), now)
		for _, t := range list {
			if err == nil {
				_, err = tx.Exec(ctx, `INSERT INTO notice_trigger (site, notice, key, at, facts, times) SELECT $1, $2, $3, $4, $5, $6 WHERE EXISTS (SELECT FROM notice WHERE site = $1 AND name = $2)`, site, name, t.Key, t.At, t.Facts, t.Times)
			}
		}
		return err
	})
	return r.away(err)
}
