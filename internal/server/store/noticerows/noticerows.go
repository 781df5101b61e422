// Package noticerows keeps what met notices, and the messages that wait or were sent, in PostgreSQL.
package noticerows

import (
	"context"
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

// Healths says how channels stand, by site and name, and as which revision they were saved then.
func (r *Rows) Healths(ctx context.Context) (map[[2]string]notice.HealthOf, error) {
	rows, _ := r.pool.Query(ctx, `SELECT site, name, revision, body FROM channel_health`)
	out := map[[2]string]notice.HealthOf{}
	var key [2]string
	var h notice.HealthOf
	_, err := pgx.ForEachRow(rows, []any{&key[0], &key[1], &h.Revision, &h.ChannelHealth}, func() error {
		out[key] = h
		h = notice.HealthOf{}
		return nil
	})
	return out, r.away(err)
}

// Health keeps how a channel stands that was saved as a revision, unless it is known how a later one does.
func (r *Rows) Health(ctx context.Context, site, name string, revision int64, h notice.ChannelHealth) error {
	_, err := r.pool.Exec(ctx, `INSERT INTO channel_health AS c VALUES ($1, $2, $3, $4)
		ON CONFLICT (site, name) DO UPDATE SET revision = excluded.revision, body = excluded.body WHERE c.revision <= excluded.revision`, site, name, revision, h)
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
