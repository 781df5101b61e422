// Package noticerows keeps notices, channels and the messages that wait or were sent, in PostgreSQL.
package noticerows

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"eastporch/internal/core/notice"
)

// Rows are the tables of notices. They are safe for concurrent use.
type Rows struct {
	pool *pgxpool.Pool
	away func(error) error // tells a database that does not answer from one that refuses
}

// New makes the Rows of a database.
func New(pool *pgxpool.Pool, away func(error) error) *Rows { return &Rows{pool, away} }

// Notices gives all notices, in the order of their sites and names.
func (r *Rows) Notices(ctx context.Context) ([]notice.Kept, error) {
	rows, _ := r.pool.Query(ctx, `SELECT site, name, body, revision, made_by, changed_at FROM notice ORDER BY site, name`)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (k notice.Kept, err error) {
		var body []byte
		if err = row.Scan(&k.Site, &k.Name, &body, &k.Revision, &k.MadeBy, &k.ChangedAt); err == nil {
			err = json.Unmarshal(body, &k.Said)
		}
		k.ChangedAt = k.ChangedAt.UTC()
		return k, err
	})
	return list, r.away(err)
}

// Channels gives all channels and how they stand, in the order of their sites and names.
func (r *Rows) Channels(ctx context.Context) ([]notice.KeptChannel, error) {
	rows, _ := r.pool.Query(ctx, `SELECT site, name, body, health, revision, made_by, changed_at FROM notice_channel ORDER BY site, name`)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (k notice.KeptChannel, err error) {
		var body, health []byte
		if err = row.Scan(&k.Site, &k.Name, &body, &health, &k.Revision, &k.MadeBy, &k.ChangedAt); err == nil {
			err = json.Unmarshal(body, &k.Said)
		}
		if err == nil {
			err = json.Unmarshal(health, &k.ChannelHealth)
		}
		k.ChangedAt = k.ChangedAt.UTC()
		return k, err
	})
	return list, r.away(err)
}

// SaveNotice stores a notice in place of the one before. With a revision it must be the one that is stored, 0 for
// none; else the error is [notice.ErrChanged].
func (r *Rows) SaveNotice(ctx context.Context, k notice.Kept, revision *int64) error {
	return r.save(ctx, "notice", "", k.Said, pgx.NamedArgs{"site": k.Site, "name": k.Name, "by": k.MadeBy, "at": k.ChangedAt, "revision": revision})
}

// SaveChannel is [Rows.SaveNotice] for a channel, which begins anew with what waits.
func (r *Rows) SaveChannel(ctx context.Context, k notice.KeptChannel, revision *int64) error {
	args := pgx.NamedArgs{"site": k.Site, "name": k.Name, "by": k.MadeBy, "at": k.ChangedAt, "revision": revision}
	err := r.save(ctx, "notice_channel", `, health = '{}'`, k.Said, args)
	if err != nil {
		return err
	}
	_, err = r.pool.Exec(ctx, `UPDATE notice_message SET next_try = @at WHERE site = @site AND channel = @name AND state = 'waiting' AND next_try > @at`, args)
	return r.away(err)
}

func (r *Rows) save(ctx context.Context, table, also string, said any, args pgx.NamedArgs) error {
	body, err := json.Marshal(said)
	if err != nil {
		return err
	}
	args["body"] = string(body)
	tag, err := r.pool.Exec(ctx, `INSERT INTO `+table+` AS c (site, name, body, revision, made_by, changed_at)
		SELECT @site, @name, @body, nextval('notice_revision'), @by, @at
		WHERE @revision::bigint IS NULL OR @revision = 0 OR EXISTS (SELECT FROM `+table+` WHERE site = @site AND name = @name)
		ON CONFLICT (site, name) DO UPDATE SET body = excluded.body, revision = excluded.revision, made_by = excluded.made_by, changed_at = excluded.changed_at`+also+`
		WHERE @revision::bigint IS NULL OR c.revision = @revision`, args)
	if err == nil && tag.RowsAffected() == 0 {
		return notice.ErrChanged
	}
	return r.away(err)
}

// DropNotice removes a notice and what has met it; ok is false where there was none.
func (r *Rows) DropNotice(ctx context.Context, site, name string) (ok bool, err error) {
	tag, err := r.pool.Exec(ctx, `DELETE FROM notice WHERE site = $1 AND name = $2`, site, name)
	return err == nil && tag.RowsAffected() == 1, r.away(err)
}

// DropChannel removes a channel, and drops what waits for it.
func (r *Rows) DropChannel(ctx context.Context, site, name string, now time.Time) (ok bool, err error) {
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `DELETE FROM notice_channel WHERE site = $1 AND name = $2`, site, name)
		if ok = err == nil && tag.RowsAffected() == 1; !ok {
			return err
		}
		_, err = tx.Exec(ctx, `UPDATE notice_message SET state = 'dropped', result = 'the channel was dropped', finished = $3 WHERE site = $1 AND channel = $2 AND state = 'waiting'`, site, name, now)
		return err
	})
	return ok, r.away(err)
}

// Health keeps how a channel stands, unless it was saved meanwhile.
func (r *Rows) Health(ctx context.Context, site, name string, revision int64, h notice.ChannelHealth) error {
	body, err := json.Marshal(h)
	if err == nil {
		_, err = r.pool.Exec(ctx, `UPDATE notice_channel SET health = $4 WHERE site = $1 AND name = $2 AND revision = $3`, site, name, revision, string(body))
	}
	return r.away(err)
}

// Standings gives what is counted of the notices of a site.
func (r *Rows) Standings(ctx context.Context, site string, now time.Time) (map[string]notice.Counts, error) {
	rows, _ := r.pool.Query(ctx, `SELECT coalesce(m.notice, l.notice), m.last, coalesce(m.waiting, 0), coalesce(l.times, 0), coalesce(m.failed, '')
		FROM (SELECT notice, max(finished) FILTER (WHERE state = 'delivered' AND NOT test) AS last, count(*) FILTER (WHERE state = 'waiting') AS waiting,
				CASE WHEN (array_agg(state ORDER BY number DESC) FILTER (WHERE NOT test))[1] = 'failed' THEN (array_agg(result ORDER BY number DESC) FILTER (WHERE NOT test))[1] END AS failed
			FROM notice_message WHERE site = $1 AND created > $2 GROUP BY notice) m
		FULL JOIN (SELECT notice, sum(times) AS times FROM notice_left_out WHERE site = $1 AND day > ($2::timestamptz AT TIME ZONE 'UTC')::date GROUP BY notice) l USING (notice)`, site, now.Add(-notice.KeptFor))
	out := map[string]notice.Counts{}
	var name string
	var s notice.Counts
	_, err := pgx.ForEachRow(rows, []any{&name, &s.LastSent, &s.Waiting, &s.LeftOut, &s.Failed}, func() error {
		if s.LastSent != nil {
			at := s.LastSent.UTC()
			s.LastSent = &at
		}
		out[name] = s
		return nil
	})
	return out, r.away(err)
}

// Traffic gives what left the channels of a site since a time, and what waits for them.
func (r *Rows) Traffic(ctx context.Context, site string, since time.Time) (map[string]notice.Traffic, error) {
	rows, _ := r.pool.Query(ctx, `SELECT coalesce(s.channel, m.channel), coalesce(s.n, 0), coalesce(m.n, 0)
		FROM (SELECT channel, count(*) AS n FROM notice_sent WHERE site = $1 AND at > $2 GROUP BY 1) s
		FULL JOIN (SELECT channel, count(*) AS n FROM notice_message WHERE site = $1 AND state = 'waiting' GROUP BY 1) m USING (channel)`, site, since)
	out := map[string]notice.Traffic{}
	var name string
	var t notice.Traffic
	_, err := pgx.ForEachRow(rows, []any{&name, &t.Sent, &t.Waiting}, func() error {
		out[name] = t
		return nil
	})
	return out, r.away(err)
}

// Sums counts the messages of a site that are kept.
func (r *Rows) Sums(ctx context.Context, site string, now time.Time) (s notice.Sums, err error) {
	err = r.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE state = 'delivered'), count(*) FILTER (WHERE state = 'waiting'), count(*) FILTER (WHERE state = 'failed'),
			count(*) FILTER (WHERE state = 'dropped'),
			(SELECT coalesce(sum(times), 0) FROM notice_left_out WHERE site = $1 AND day > ($2::timestamptz AT TIME ZONE 'UTC')::date)::bigint,
			(SELECT count(*) FROM notice_trigger WHERE site = $1)
		FROM notice_message WHERE site = $1 AND created > $2`, site, now.Add(-notice.KeptFor)).Scan(&s.Delivered, &s.Waiting, &s.Failed, &s.Dropped, &s.LeftOut, &s.Held)
	return s, r.away(err)
}

// leading is the advisory lock of the one instance that writes and delivers.
const leading = 7263009

// pingEvery is how often a leader looks whether it still is.
const pingEvery = 2 * time.Second

// Lead has one instance at a time do something: where no other does it, do runs until its context ends, which it
// does where the database is lost. It returns at once where another leads.
func (r *Rows) Lead(ctx context.Context, do func(ctx context.Context)) error {
	pooled, err := r.pool.Acquire(ctx)
	if err != nil {
		return r.away(err)
	}
	conn := pooled.Hijack() // the lock is its, and goes with it
	defer conn.Close(context.WithoutCancel(ctx))
	var leads bool
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock($1)`, leading).Scan(&leads); err != nil || !leads {
		return r.away(err)
	}
	led, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		do(led)
	}()
	ticker := time.NewTicker(pingEvery)
	defer ticker.Stop()
	for err == nil {
		select {
		case <-done:
			stop()
			_, err = conn.Exec(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, leading)
			return r.away(err)
		case <-ticker.C:
			ping, cancel := context.WithTimeout(ctx, 2*pingEvery)
			err = conn.Ping(ping)
			cancel()
		}
	}
	stop()
	<-done
	return r.away(err)
}
