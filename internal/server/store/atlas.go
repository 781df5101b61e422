package store

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/visit"
)

// Corrections lists the owner's corrections, the newest first.
func (s *Store) Corrections(ctx context.Context) ([]atlas.Correction, error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, range, do_not_locate, country_code, region_code, city, latitude, longitude,
		radius_km, time_zone, note, made_by, made_at FROM correction ORDER BY made_at DESC, id DESC`)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (c atlas.Correction, err error) {
		err = row.Scan(&c.ID, &c.Range, &c.DoNotLocate, &c.CountryCode, &c.RegionCode, &c.City, &c.Latitude, &c.Longitude,
			&c.RadiusKm, &c.TimeZone, &c.Note, &c.MadeBy, &c.MadeAt)
		c.MadeAt = c.MadeAt.UTC()
		return c, err
	})
	return list, away(err)
}

// Correct stores a correction in place of one of the same range, whose id it
// takes.
func (s *Store) Correct(ctx context.Context, c *atlas.Correction) error {
	err := s.pool.QueryRow(ctx, `INSERT INTO correction (id, range, do_not_locate, country_code, region_code, city, latitude, longitude,
			radius_km, time_zone, note, made_by, made_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
		ON CONFLICT (range) DO UPDATE SET do_not_locate = excluded.do_not_locate, country_code = excluded.country_code,
			region_code = excluded.region_code, city = excluded.city, latitude = excluded.latitude, longitude = excluded.longitude,
			radius_km = excluded.radius_km, time_zone = excluded.time_zone, note = excluded.note, made_by = excluded.made_by,
			made_at = excluded.made_at
		RETURNING id`,
		c.ID, c.Range, c.DoNotLocate, c.CountryCode, c.RegionCode, c.City, c.Latitude, c.Longitude,
		c.RadiusKm, c.TimeZone, c.Note, c.MadeBy, c.MadeAt).Scan(&c.ID)
	return away(err)
}

// DropCorrection removes a correction; ok is false where there was none.
func (s *Store) DropCorrection(ctx context.Context, id uuid.UUID) (ok bool, err error) {
	tag, err := s.pool.Exec(ctx, `DELETE FROM correction WHERE id = $1`, id)
	return err == nil && tag.RowsAffected() == 1, away(err)
}

// EachAddress calls do for every address that visits since a time were stored
// with, with the visits that it has. Truncated addresses are prefixes.
func (s *Store) EachAddress(ctx context.Context, since time.Time, do func(address netip.Addr, visits int)) error {
	rows, err := s.pool.Query(ctx, `SELECT address, count(*) FROM visit WHERE id >= $1 AND address IS NOT NULL AND NOT set_aside GROUP BY address`, floor(since))
	if err != nil {
		return away(err)
	}
	defer rows.Close()
	for rows.Next() {
		var address netip.Addr
		var n int
		if err := rows.Scan(&address, &n); err != nil {
			return err
		}
		do(address, n)
	}
	return away(rows.Err())
}

// rereadBatch is how many visits are read again in one transaction.
const rereadBatch = 500

// Reread reads visits since a time again: again gives a visit's card anew, or ok
// false where the visit stays as it is. The old reading is kept with the visit.
// progress is called after each batch.
func (s *Store) Reread(ctx context.Context, since time.Time, again func(visit.Visit) (card visit.Card, ok bool), progress func(seen, changed int)) error {
	after, seen, changed := floor(since), 0, 0
	for {
		n := 0
		err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
			rows, _ := tx.Query(ctx, `SELECT id, time, site, path, referrer, agent, card, trail, earlier FROM visit WHERE id > $1 ORDER BY id LIMIT $2 FOR UPDATE`, after, rereadBatch)
			visits, err := pgx.CollectRows(rows, scanVisit)
			if err != nil {
				return err
			}
			batch := &pgx.Batch{}
			for _, v := range visits {
				n++
				after = v.ID
				card, ok := again(v)
				if !ok {
					continue
				}
				changed++
				if err := queueReading(batch, v, card); err != nil {
					return err
				}
			}
			return tx.SendBatch(ctx, batch).Close()
		})
		if err != nil {
			return away(err)
		}
		seen += n
		progress(seen, changed)
		if n < rereadBatch {
			return nil
		}
	}
}

func queueReading(batch *pgx.Batch, v visit.Visit, card visit.Card) error {
	text, err := json.Marshal(card)
	if err != nil {
		return fmt.Errorf("card: %w", err)
	}
	old, err := json.Marshal([]visit.Reading{{Edition: v.Card.Edition.Name, Whereabouts: v.Card.Whereabouts, Network: v.Card.Network}})
	if err != nil {
		return fmt.Errorf("reading: %w", err)
	}
	w := card.Whereabouts
	batch.Queue(`UPDATE visit SET card = $2, earlier = earlier || $3::jsonb, level = $4, country_code = $5, region_code = $6, city = $7,
		latitude = $8, longitude = $9, radius_km = $10 WHERE id = $1`,
		v.ID, text, old, string(w.Level), w.CountryCode, w.RegionCode, w.City, w.Latitude, w.Longitude, w.RadiusKm)
	return nil
}
