package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"math"
	"slices"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/atlas"
)

// places are locations on their way into the table place, each once.
type places map[uuid.UUID]placeRow

type placeRow struct {
	*atlas.Location
	state placeState
}

// placeState is why a place may be none: three places of one location.
type placeState int

const (
	lookedUp placeState = iota
	skipped             // the address was never looked up
	notFound            // there was no address
	placeStates
)

// add gives the digest that [places.ids] knows the place by.
func (p places) add(w *atlas.Location, state placeState) uuid.UUID {
	row := placeRow{w, state}
	digest := row.digest()
	p[digest] = row
	return digest
}

// digest tells places apart by all that the table has of them.
func (r placeRow) digest() uuid.UUID {
	b := make([]byte, 0, 128)
	text := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	text(string(r.Level))
	switch r.state {
	case skipped:
		text("skipped")
	case notFound:
		text("not found")
	}
	for _, s := range []*string{r.CountryCode, r.RegionCode, r.City, r.TimeZone} {
		if b = append(b, '-'); s != nil {
			text(*s)
		}
	}
	for _, f := range []*float64{r.Latitude, r.Longitude, r.RadiusKm} {
		if b = append(b, '-'); f != nil {
			b = binary.BigEndian.AppendUint64(b, math.Float64bits(*f))
		}
	}
	sum := sha256.Sum256(b)
	id, _ := uuid.FromBytes(sum[:16]) // which are 16
	return id
}

// ids gives the ids of the places by their digests; new ones are stored, in one order, so that no two transactions wait for
// each other.
func (p places) ids(ctx context.Context, tx pgx.Tx) (map[uuid.UUID]int64, error) {
	digests := make([]uuid.UUID, 0, len(p))
	for digest := range p {
		digests = append(digests, digest)
	}
	ids := make(map[uuid.UUID]int64, len(p))
	read := func(rows pgx.Rows) error {
		var digest uuid.UUID
		var id int64
		_, err := pgx.ForEachRow(rows, []any{&digest, &id}, func() error {
			ids[digest] = id
			return nil
		})
		return err
	}
	rows, _ := tx.Query(ctx, `SELECT digest, id FROM place WHERE digest = ANY($1)`, digests)
	if err := read(rows); err != nil || len(ids) == len(p) {
		return ids, err
	}
	slices.SortFunc(digests, func(a, b uuid.UUID) int { return bytes.Compare(a[:], b[:]) })
	batch := &pgx.Batch{}
	for _, digest := range digests {
		if _, known := ids[digest]; !known {
			r := p[digest]
			batch.Queue(`INSERT INTO place (digest, level, skipped, country_code, region_code, city, latitude, longitude, radius_km, time_zone, not_found)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) ON CONFLICT DO NOTHING`,
				digest, string(r.Level), r.state == skipped, r.CountryCode, r.RegionCode, r.City, r.Latitude, r.Longitude, r.RadiusKm, r.TimeZone, r.state == notFound)
		}
	}
	if err := tx.SendBatch(ctx, batch).Close(); err != nil {
		return nil, err
	}
	rows, _ = tx.Query(ctx, `SELECT digest, id FROM place WHERE digest = ANY($1)`, digests)
	return ids, read(rows)
}
