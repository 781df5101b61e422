package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"eastporch/internal/core/visit"
)

// Add stores a visit, once: for an id that is stored already the first wins,
// and added is false.
func (s *Store) Add(ctx context.Context, v visit.Visit) (added bool, err error) {
	card, err := json.Marshal(v.Card)
	if err != nil {
		return false, fmt.Errorf("card: %w", err)
	}
	trail, err := json.Marshal(v.Trail)
	if err != nil {
		return false, fmt.Errorf("trail: %w", err)
	}
	var address any
	if a := v.Card.Address.Text; a.IsValid() {
		address = a.Addr
	}
	var kind *string
	if k := v.Card.Address.Kind; k != nil {
		word := k.String()
		kind = &word
	}
	w := v.Card.Whereabouts
	tag, err := s.pool.Exec(ctx, `
		INSERT INTO visit (id, time, site, path, referrer, agent, address, kind, set_aside, level,
			country_code, region_code, city, latitude, longitude, radius_km, unverified, card, trail)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19)
		ON CONFLICT (id) DO NOTHING`,
		v.ID, v.Time, v.Site, v.Path, v.Referrer, v.Agent, address, kind, v.Card.Address.SetAside, string(w.Level),
		w.CountryCode, w.RegionCode, w.City, w.Latitude, w.Longitude, w.RadiusKm, v.Trail.Unverified(), card, trail)
	if err != nil {
		return false, away(err)
	}
	return tag.RowsAffected() == 1, nil
}

// where gives the conditions of f over the table visit and their arguments,
// which begin at $1.
func where(f visit.Filter) (string, pgx.NamedArgs) {
	sql, args := "site = @site", pgx.NamedArgs{"site": f.Site}
	add := func(condition, name string, value any) {
		sql += " AND " + condition
		args[name] = value
	}
	if !f.From.IsZero() {
		add("id >= @from", "from", floor(f.From))
	}
	if !f.To.IsZero() {
		add("id < @to", "to", floor(f.To))
	}
	if f.CountryCode != "" {
		add("country_code = @country", "country", f.CountryCode)
	}
	if f.City != "" {
		add("city = @city", "city", f.City)
	}
	if f.Level != "" {
		add("level = @level", "level", string(f.Level))
	}
	if f.SetAside != nil {
		add("set_aside = @set_aside", "set_aside", *f.SetAside)
	}
	if f.Path != "" {
		add("starts_with(path, @path)", "path", f.Path)
	}
	return sql, args
}

// floor is the smallest UUID of version 7 whose time is t.
func floor(t time.Time) uuid.UUID {
	id, _ := visit.NewID(t, zeros{}) // reading zeros does not fail
	id[6], id[8] = 0x70, 0x80
	return id
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

// Visits lists visits, the newest first, at most limit of them, older than
// before where that is an id.
func (s *Store) Visits(ctx context.Context, f visit.Filter, before uuid.UUID, limit int) ([]visit.Visit, error) {
	conditions, args := where(f)
	if before != uuid.Nil {
		conditions += " AND id < @before"
		args["before"] = before
	}
	args["limit"] = limit
	rows, _ := s.pool.Query(ctx, `SELECT id, time, site, path, referrer, agent, card, trail, earlier
		FROM visit WHERE `+conditions+` ORDER BY id DESC LIMIT @limit`, args)
	visits, err := pgx.CollectRows(rows, scanVisit)
	if err != nil {
		return nil, away(err)
	}
	return visits, nil
}

// Visit reads one visit; the error is [visit.ErrNoVisit] where it is not stored.
func (s *Store) Visit(ctx context.Context, id uuid.UUID) (visit.Visit, error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, time, site, path, referrer, agent, card, trail, earlier FROM visit WHERE id = $1`, id)
	v, err := pgx.CollectExactlyOneRow(rows, scanVisit)
	if errors.Is(err, pgx.ErrNoRows) {
		return visit.Visit{}, fmt.Errorf("%s: %w", id, visit.ErrNoVisit)
	}
	return v, away(err)
}

func scanVisit(row pgx.CollectableRow) (visit.Visit, error) {
	var v visit.Visit
	err := row.Scan(&v.ID, &v.Time, &v.Site, &v.Path, &v.Referrer, &v.Agent, &v.Card, &v.Trail, &v.Earlier)
	v.Time = v.Time.UTC()
	return v, err
}

// away marks errors that mean the database could not be reached or is stopping.
func away(err error) error {
	if err == nil {
		return nil
	}
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "57P01", "57P02", "57P03": // it is shutting down or starting up
			return fmt.Errorf("%w: %w", visit.ErrAway, err)
		}
		return err
	}
	if errors.As(err, &connect) || pgconn.SafeToRetry(err) || pgconn.Timeout(err) {
		return fmt.Errorf("%w: %w", visit.ErrAway, err)
	}
	return err
}
