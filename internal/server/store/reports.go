package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/visit"
)

// Count counts the visits of a filter, and all of its site.
func (s *Store) Count(ctx context.Context, f visit.Filter) (visit.Count, error) {
	conditions, args := where(f)
	var c visit.Count
	err := s.pool.QueryRow(ctx, `SELECT (SELECT count(*) FROM visit WHERE `+conditions+`),
		(SELECT count(*) FROM visit WHERE site = @site)`, args).Scan(&c.Matching, &c.All)
	return c, away(err)
}

// Countries counts visits by country, the most first.
func (s *Store) Countries(ctx context.Context, f visit.Filter) ([]visit.CountryCount, error) {
	conditions, args := where(f)
	rows, _ := s.pool.Query(ctx, `SELECT country_code, count(*) FROM visit WHERE `+conditions+`
		GROUP BY country_code ORDER BY count(*) DESC, country_code`, args)
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[visit.CountryCount])
	return list, away(err)
}

// Places counts visits by place, the most first, and those without a point.
func (s *Store) Places(ctx context.Context, f visit.Filter) ([]visit.PlaceCount, visit.Pointless, error) {
	conditions, args := where(f)
	rows, _ := s.pool.Query(ctx, `
		SELECT level, country_code, region_code, city, latitude, longitude, radius_km, count(*)
		FROM visit WHERE `+conditions+` AND latitude IS NOT NULL
		GROUP BY level, country_code, region_code, city, latitude, longitude, radius_km
		ORDER BY count(*) DESC, country_code, city`, args)
	places, err := pgx.CollectRows(rows, pgx.RowToStructByPos[visit.PlaceCount])
	if err != nil {
		return nil, visit.Pointless{}, away(err)
	}
	var p visit.Pointless
	err = s.pool.QueryRow(ctx, `SELECT count(*) FILTER (WHERE set_aside), count(*) FILTER (WHERE NOT set_aside)
		FROM visit WHERE `+conditions+` AND latitude IS NULL`, args).Scan(&p.SetAside, &p.Unknown)
	return places, p, away(err)
}
