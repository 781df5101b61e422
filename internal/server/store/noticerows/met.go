package noticerows

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/notice"
	"eastporch/internal/server/store/topics"
)

// lateMost is how old a visit may be to have a notice written: what is imported, or waited for long, has not.
const lateMost = `interval '1 day'`

// MeetVisits keeps which notices are met by the visits that this transaction has stored, from a sequence number on, and
// has not counted yet. Visits that are left out of statistics meet none.
func MeetVisits(ctx context.Context, tx pgx.Tx, first int64) error {
	var any bool
	if err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM notice WHERE enabled AND kind IN ('country', 'label'))`).Scan(&any); err != nil || !any {
		return err
	}
	tag, err := tx.Exec(ctx, `WITH fresh AS MATERIALIZED (
			SELECT v.id, v.site, v.time, v.country_code, v.labels FROM visit v
			WHERE v.sequence >= $1 AND v.xmin = pg_current_xact_id()::xid AND v.id > id_floor(now() - `+lateMost+`) AND v.counted)
		INSERT INTO notice_trigger (site, notice, key, at, visit, times)
		SELECT n.site, n.name, v.country_code, now(), (array_agg(v.id ORDER BY v.id))[1], 1
		FROM notice n JOIN fresh v ON v.site = n.site AND v.country_code IS NOT NULL
		WHERE n.enabled AND n.kind = 'country' AND NOT EXISTS (
			SELECT FROM rollup r JOIN count_key k ON k.id = r.key AND k.text = v.country_code
			WHERE r.site = n.site AND r.dimension = 'country' AND r.granularity = 'day'
				AND r.slot >= date_trunc('day', v.time, 'UTC') - make_interval(days => (n.body->'trigger'->>'days')::int))
		GROUP BY 1, 2, 3
		UNION ALL
		SELECT n.site, n.name, l, now(), (array_agg(v.id ORDER BY v.id))[1], count(*)
		FROM notice n JOIN fresh v ON v.site = n.site CROSS JOIN unnest(v.labels) l
		WHERE n.enabled AND n.kind = 'label' AND n.body->'trigger'->'labels' ? l
		GROUP BY 1, 2, 3`, first)
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	return topics.Tell(ctx, tx, topics.Notices)
}

// MeetRefusals keeps which notices are met by what gates refused, of the last hour and the one before it, to the
// quarter. A notice is met once an hour.
func MeetRefusals(ctx context.Context, tx pgx.Tx) error {
	tag, err := tx.Exec(ctx, `WITH jumped AS (
			SELECT n.site, n.name, c.last, c.before FROM notice n CROSS JOIN LATERAL (
				SELECT coalesce(sum(requests) FILTER (WHERE slot > now() - interval '1 hour'), 0) AS last, coalesce(sum(requests) FILTER (WHERE slot <= now() - interval '1 hour'), 0) AS before
				FROM gate_count g WHERE g.site = n.site AND g.outcome = 'refuse' AND g.slot > now() - interval '2 hours') c
			WHERE n.enabled AND n.kind = 'refusals' AND c.last >= (n.body->'trigger'->>'least')::bigint AND c.last >= (n.body->'trigger'->>'times')::numeric * c.before
		), met AS (
			INSERT INTO notice_known AS k SELECT site, name, '{}', now() FROM jumped
			ON CONFLICT (site, notice) DO UPDATE SET at = excluded.at WHERE k.at <= excluded.at - interval '1 hour' RETURNING site, notice
		)
		INSERT INTO notice_trigger (site, notice, key, at, facts, times)
		SELECT j.site, j.name, '', now(), jsonb_build_object('last', j.last::text, 'before', j.before::text), 1 FROM jumped j JOIN met m ON m.site = j.site AND m.notice = j.name`)
	if err != nil || tag.RowsAffected() == 0 {
		return err
	}
	return topics.Tell(ctx, tx, topics.Notices)
}

// Erase takes what messages say of visits that are erased, and drops those that wait.
func Erase(ctx context.Context, tx pgx.Tx, visits []uuid.UUID, now time.Time) error {
	if _, err := tx.Exec(ctx, `DELETE FROM notice_trigger WHERE visit = ANY($1)`, visits); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `UPDATE notice_message SET subject = 'erased', body = '', html = '', facts = '{}', visits = '{}', keys = '{"erased"}',
		result = CASE WHEN state = 'waiting' THEN 'its visit was erased' ELSE result END, finished = coalesce(finished, $2),
		state = CASE WHEN state = 'waiting' THEN 'dropped' ELSE state END WHERE visits && $1`, visits, now)
	return err
}

// pendingKept is how long a link to confirm is good.
const pendingKept = 24 * time.Hour

// Maintain drops what has had its time.
func Maintain(ctx context.Context, tx pgx.Tx, now time.Time) error {
	batch := &pgx.Batch{}
	batch.Queue(`DELETE FROM notice_message WHERE created < $1 AND state <> 'waiting'`, now.Add(-notice.KeptFor))
	batch.Queue(`WITH gone AS (DELETE FROM notice_trigger WHERE at < $1 RETURNING site, notice, times)
		INSERT INTO notice_left_out AS l SELECT site, notice, ($2::timestamptz AT TIME ZONE 'UTC')::date, sum(times) FROM gone GROUP BY 1, 2
		ON CONFLICT (site, notice, day) DO UPDATE SET times = l.times + excluded.times`, now.Add(-notice.KeptFor), now) // of notices that cannot be written
	batch.Queue(`DELETE FROM notice_sent WHERE at < $1`, now.Add(-24*time.Hour))
	batch.Queue(`DELETE FROM notice_left_out WHERE day < $1`, now.Add(-notice.KeptFor).UTC())
	batch.Queue(`DELETE FROM notice_pending WHERE created < $1`, now.Add(-pendingKept))
	return tx.SendBatch(ctx, batch).Close()
}
