package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/variant"
)

// VariantSets lists the sets of content variants that were made in the console, by
// their sites, in the order of their names.
func (s *Store) VariantSets(ctx context.Context) (map[string][]variant.Set, error) {
	type row struct {
		Site string
		Body variant.Set
	}
	rows, _ := s.pool.Query(ctx, `SELECT site, body FROM variant_set ORDER BY site, name`)
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[row])
	if err != nil {
		return nil, away(err)
	}
	sets := map[string][]variant.Set{}
	for _, r := range list {
		sets[r.Site] = append(sets[r.Site], r.Body)
	}
	return sets, nil
}

// SaveVariantSet stores a set in place of one of the same site and name.
func (s *Store) SaveVariantSet(ctx context.Context, site string, set variant.Set, by string, at time.Time) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO variant_set (site, name, body, made_by, made_at) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (site, name) DO UPDATE SET body = excluded.body, made_by = excluded.made_by, made_at = excluded.made_at`,
		site, set.Name, set, by, at)
	return away(err)
}

// DropVariantSet removes a set; ok is false where there was none.
func (s *Store) DropVariantSet(ctx context.Context, site, name string) (ok bool, err error) {
	tag, err := s.pool.Exec(ctx, `DELETE FROM variant_set WHERE site = $1 AND name = $2`, site, name)
	return err == nil && tag.RowsAffected() == 1, away(err)
}
