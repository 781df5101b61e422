package linkrows

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/link"
	"eastporch/internal/core/visit"
)

const columns = `code, site, body, disabled, used, not_recorded, made_by, made_at, changed_at, revision`

const isActive = `(disabled IS NULL AND (ends IS NULL OR ends > @now) AND (most IS NULL OR used < most))`

// List gives links, the active ones first, of those the most followed, then the newest.
func (r *Rows) List(ctx context.Context, q link.Question, now time.Time) ([]link.Listed, error) {
	args := pgx.NamedArgs{"site": q.Site, "of": q.Site + visit.LinkPath, "search": q.Search, "now": now, "days": q.Days, "limit": q.Limit, "offset": q.Offset}
	which := ""
	switch {
	case q.Active:
		which = ` AND ` + isActive
	case q.Ended:
		which = ` AND NOT ` + isActive
	}
	if q.Search != "" {
		which += ` AND (strpos(code, lower(@search)) > 0 OR strpos(lower(body->>'name'), lower(@search)) > 0 OR strpos(lower(body->>'note'), lower(@search)) > 0 OR strpos(lower(body->>'destination'), lower(@search)) > 0)`
	}
	var list []link.Listed
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) (err error) {
		if _, err = tx.Exec(ctx, `SET LOCAL jit = off`); err != nil { // to compile it takes longer than to run it
			return err
		}
		rows, _ := tx.Query(ctx, `WITH clicked AS MATERIALIZED (
				SELECT site, sum(visits) AS n FROM rollup WHERE slot = ANY(@days) AND dimension = 'all' AND granularity = 'day' AND key = 1 AND strpos(site, '/') > 0 GROUP BY site),
			listed AS (SELECT link.*, `+isActive+` AS active, coalesce(n, 0) AS n FROM link LEFT JOIN clicked c ON c.site = @of || code
				WHERE link.site = @site`+which+` ORDER BY active DESC, n DESC, made_at DESC, code LIMIT @limit OFFSET @offset)
			SELECT `+columns+`, ARRAY(SELECT coalesce(sum(r.visits), 0)::bigint FROM unnest(@days::timestamptz[]) WITH ORDINALITY d(slot, i)
					LEFT JOIN rollup r ON r.site = @of || code AND r.dimension = 'all' AND r.granularity = 'day' AND r.slot = d.slot AND r.key = 1 GROUP BY i ORDER BY i),
				last.time, last.level, last.country_code, last.region_code, last.city, last.latitude, last.longitude, last.radius_km, last.time_zone, last.placeholder
			FROM listed LEFT JOIN LATERAL (
				SELECT v.time, v.placeholder, p.country_code, p.region_code, p.city, p.latitude, p.longitude, p.radius_km, p.time_zone,
					CASE WHEN p.skipped THEN 'skipped' WHEN p.not_found THEN 'not found' ELSE p.level END AS level
				FROM visit v JOIN place p ON p.id = v.place
				WHERE v.site = listed.site AND v.link = listed.code AND v.path = '`+visit.LinkPath+`' || listed.code AND v.counted ORDER BY v.id DESC LIMIT 1) last ON true
			ORDER BY active DESC, n DESC, made_at DESC, code`, args)
		list, err = pgx.CollectRows(rows, scanListed)
		return err
	})
	return list, r.away(err)
}

func scanListed(row pgx.CollectableRow) (l link.Listed, err error) {
	var body []byte
	var at *time.Time
	var level *string
	var last link.Last
	p := &last.Place
	err = row.Scan(&l.Code, &l.Site, &body, &l.Off, &l.Used, &l.ClicksNotRecorded, &l.MadeBy, &l.MadeAt, &l.ChangedAt, &l.Revision, &l.Days,
		&at, &level, &p.CountryCode, &p.RegionCode, &p.City, &p.Latitude, &p.Longitude, &p.RadiusKm, &p.TimeZone, &last.Placeholder)
	if err == nil {
		err = json.Unmarshal(body, &l.Said)
	}
	l.MadeAt, l.ChangedAt = l.MadeAt.UTC(), l.ChangedAt.UTC()
	if at != nil {
		last.Time, p.Level = at.UTC(), *level
		l.Last = &last
	}
	return l, err
}

// Totals gives how many links a site has, and how many of them are active.
func (r *Rows) Totals(ctx context.Context, site string, now time.Time) (all, active int64, err error) {
	err = r.pool.QueryRow(ctx, `SELECT count(*), count(*) FILTER (WHERE `+isActive+`) FROM link WHERE site = @site`,
		pgx.NamedArgs{"site": site, "now": now}).Scan(&all, &active)
	return all, active, r.away(err)
}
