package gaterows

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/gate"
	"eastporch/internal/server/store/noticerows"
)

// AddCounts adds to what gates decided, and notes refusals. Of a day of a site, paths beyond the first
// thousand are counted together.
func (r *Rows) AddCounts(ctx context.Context, counts map[gate.CountKey]int64, refusals []gate.Refused) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		named, err := namedPaths(ctx, tx, counts)
		if err != nil {
			return err
		}
		bounded := make(map[gate.CountKey]int64, len(counts))
		for k, n := range counts {
			if k.Path != "" {
				day := dayOf{k.Site, k.Slot.UTC().Truncate(24 * time.Hour)}
				if paths := named[day]; !paths[k.Path] && len(paths) >= maxPaths {
					k.Path = otherPaths
				} else {
					paths[k.Path] = true
				}
			}
			bounded[k] += n
		}
		batch := &pgx.Batch{}
		for k, n := range bounded {
			batch.Queue(`INSERT INTO gate_count AS c VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
				ON CONFLICT (site, slot, asked, gate, rule, decided_by, outcome, missing, country_code, path) DO UPDATE SET requests = c.requests + excluded.requests`,
				k.Site, k.Slot, k.Asked, k.Gate, k.Rule, k.By, k.Outcome, k.Missing, k.CountryCode, k.Path, n)
		}
		for _, f := range refusals {
			batch.Queue(`INSERT INTO gate_refusal VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, f.Reference, f.Time, f.Site, f.Gate, f.Rule, f.Reason, f.CountryCode, f.Path)
		}
		if err := tx.SendBatch(ctx, batch).Close(); err != nil {
			return err
		}
		return noticerows.MeetRefusals(ctx, tx)
	})
	return r.away(err)
}

// dayOf is a site's day in UTC.
type dayOf struct {
	site string
	day  time.Time
}

// namedPaths gives the paths that refusals are counted by already, of the days of some counts.
func namedPaths(ctx context.Context, tx pgx.Tx, counts map[gate.CountKey]int64) (map[dayOf]map[string]bool, error) {
	named := map[dayOf]map[string]bool{}
	for k := range counts {
		day := dayOf{k.Site, k.Slot.UTC().Truncate(24 * time.Hour)}
		if k.Path == "" || named[day] != nil {
			continue
		}
		rows, _ := tx.Query(ctx, `SELECT DISTINCT path FROM gate_count WHERE site = $1 AND slot >= $2 AND slot < $3 AND path <> '' LIMIT $4`,
			day.site, day.day, day.day.Add(24*time.Hour), maxPaths)
		paths, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return nil, err
		}
		named[day] = map[string]bool{}
		for _, p := range paths {
			named[day][p] = true
		}
	}
	return named, nil
}

// Counts gives what the gates of a site decided from one time to another, added up by everything but the
// time.
func (r *Rows) Counts(ctx context.Context, site string, from, to time.Time) (map[gate.CountKey]int64, error) {
	rows, _ := r.pool.Query(ctx, `SELECT asked, gate, rule, decided_by, outcome, missing, country_code, path, sum(requests)::bigint FROM gate_count
		WHERE site = $1 AND slot >= $2 AND slot < $3 GROUP BY 1, 2, 3, 4, 5, 6, 7, 8`, site, from, to)
	counts := map[gate.CountKey]int64{}
	k, n := gate.CountKey{Site: site}, int64(0)
	_, err := pgx.ForEachRow(rows, []any{&k.Asked, &k.Gate, &k.Rule, &k.By, &k.Outcome, &k.Missing, &k.CountryCode, &k.Path, &n}, func() error {
		counts[k] = n
		return nil
	})
	return counts, r.away(err)
}

// Refused gives the refusals that were shown a reference; at most 20, the newest first.
func (r *Rows) Refused(ctx context.Context, site, reference string) ([]gate.Refused, error) {
	rows, _ := r.pool.Query(ctx, `SELECT reference, time, site, gate, rule, reason, country_code, path FROM gate_refusal
		WHERE site = $1 AND reference = $2 ORDER BY time DESC LIMIT 20`, site, reference)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (f gate.Refused, err error) {
		err = row.Scan(&f.Reference, &f.Time, &f.Site, &f.Gate, &f.Rule, &f.Reason, &f.CountryCode, &f.Path)
		f.Time = f.Time.UTC()
		return f, err
	})
	return list, r.away(err)
}

// EachPast reads the visits of a site from one time to another, the newest first, until most have been read.
func (r *Rows) EachPast(ctx context.Context, site string, from, to time.Time, most int, do func(*gate.Past)) (read int, err error) {
	rows, _ := r.pool.Query(ctx, `SELECT v.time, v.path, v.address::text, v.skipped, p.not_found, v.country_code, v.basis, p.region_code, p.latitude, p.longitude, v.network, v.labels, v.counted,
			coalesce(f.body->'edition'->>'name', '')
		FROM visit v JOIN place p ON p.id = v.place JOIN edition_facts f ON f.id = v.facts
		WHERE v.site = $1 AND v.id >= id_floor($2) AND v.id < id_floor($3) ORDER BY v.id DESC LIMIT $4`, site, from, to, most)
	var one gate.Past
	_, err = pgx.ForEachRow(rows, []any{
		&one.Time, &one.Path, &one.Address, &one.Skipped, &one.NotFound, &one.CountryCode, &one.Basis, &one.RegionCode, &one.Latitude, &one.Longitude,
		&one.Network, &one.Labels, &one.Counted, &one.Edition,
	}, func() error {
		read++
		do(&one)
		one = gate.Past{}
		return nil
	})
	return read, r.away(err)
}
