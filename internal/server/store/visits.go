package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"eastporch/internal/core/visit"
)

// where gives the conditions of f over the table visit and their arguments,
// which begin at $1.
func where(f visit.Filter) (string, pgx.NamedArgs) {
	sql, args := "site = @site"+clicked(f), pgx.NamedArgs{"site": f.Site, "click": f.Click}
	add := func(condition, name string, value any) {
		sql += " AND " + condition
		args[name] = value
	}
	if !f.From.IsZero() {
		add("visit.id >= @from", "from", floor(f.From))
	}
	if !f.To.IsZero() {
		add("visit.id < @to", "to", floor(f.To))
	}
	for _, equal := range []struct{ column, value string }{
		{"country_code", f.CountryCode},
		{"basis", f.Basis},
		{"referrer_host", f.Referrer},
		{"language", f.Language},
		{"network", f.Network},
		{"link", f.Link},
	} {
		if equal.value != "" {
			add(equal.column+" = @"+equal.column, equal.column, equal.value)
		}
	}
	var of []string // of the place
	for _, equal := range []struct{ column, value string }{
		{"region_code", f.RegionCode},
		{"city", f.City},
		{"level", string(f.Level)},
		{"time_zone", f.TimeZone},
	} {
		if equal.value != "" {
			of = append(of, equal.column+" = @"+equal.column)
			args[equal.column] = equal.value
		}
	}
	if len(of) > 0 {
		sql += " AND place = ANY(ARRAY(SELECT id FROM place WHERE " + strings.Join(of, " AND ") + "))"
	}
	if f.Skipped != nil {
		add("skipped = @skipped", "skipped", *f.Skipped)
	}
	if f.Path != "" {
		add("starts_with(path, @path)", "path", f.Path)
	}
	if f.Label != "" {
		add("labels @> ARRAY[@label]", "label", f.Label)
	}
	if f.Mark != "" {
		add("marks @> ARRAY[@mark]", "mark", f.Mark)
	}
	if f.Placeholder != "" {
		add("placeholder = ANY(string_to_array(@placeholder, E'\n'))", "placeholder", f.Placeholder)
	}
	if f.Within.IsValid() {
		add("address <<= @within", "within", f.Within)
	}
	return sql, args
}

// clicked is the condition that picks the clicks on a filter's link.
func clicked(f visit.Filter) string {
	if f.Click == "" {
		return ""
	}
	return " AND link = @click AND path = '" + visit.LinkPath + "' || @click"
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
		conditions += " AND visit.id < @before"
		args["before"] = before
	}
	args["limit"] = limit
	return s.visits(ctx, conditions+` ORDER BY visit.id DESC LIMIT @limit`, args)
}

// VisitsFrom lists visits, the oldest first, at most limit of them, newer than
// after where that is an id.
func (s *Store) VisitsFrom(ctx context.Context, f visit.Filter, after uuid.UUID, limit int) ([]visit.Visit, error) {
	conditions, args := where(f)
	args["after"], args["limit"] = after, limit
	return s.visits(ctx, conditions+` AND visit.id > @after ORDER BY visit.id LIMIT @limit`, args)
}

// StoredAfter lists visits in the order of their sequence numbers, at most limit of them, those after one and up to another
// that [Store.StoredThrough] gave: whoever reads on from there misses none.
func (s *Store) StoredAfter(ctx context.Context, f visit.Filter, after, through int64, limit int) ([]visit.StoredVisit, error) {
	conditions, args := where(f)
	args["after"], args["through"], args["limit"] = after, through, limit
	rows, _ := s.pool.Query(ctx, selectVisit+`WHERE sequence > @after AND sequence <= @through AND `+conditions+` ORDER BY sequence LIMIT @limit`, args)
	list, err := pgx.CollectRows(rows, scan)
	return list, away(err)
}

// StoredThrough gives the sequence number up to which every visit is stored that ever will have one.
func (s *Store) StoredThrough(ctx context.Context) (n int64, err error) {
	err = s.pool.QueryRow(ctx, `SELECT stored_through()`).Scan(&n)
	return n, away(err)
}

// Visit reads one visit; the error is [visit.ErrNoVisit] where it is not stored.
func (s *Store) Visit(ctx context.Context, id uuid.UUID) (visit.Visit, error) {
	list, err := s.visits(ctx, `visit.id = @id`, pgx.NamedArgs{"id": id})
	if err == nil && len(list) == 0 {
		return visit.Visit{}, fmt.Errorf("%s: %w", id, visit.ErrNoVisit)
	}
	if err != nil {
		return visit.Visit{}, err
	}
	return list[0], nil
}

func (s *Store) visits(ctx context.Context, where string, args pgx.NamedArgs) ([]visit.Visit, error) {
	rows, _ := s.pool.Query(ctx, selectVisit+`WHERE `+where, args)
	list, err := pgx.CollectRows(rows, scanVisit)
	return list, away(err)
}

// passing are SQLSTATEs of a database that takes nothing now, and may again: it is shutting down or starting up, its
// disk fails, or it is a copy that only reads.
var passing = []string{"57P01", "57P02", "57P03", "58030", "25006"}

// insufficientResources is the class of a disk that is full, too little memory, and too many connections.
const insufficientResources = "53"

// away marks errors that mean the database could not be reached, or takes nothing now.
func away(err error) error {
	if err == nil || errors.Is(err, visit.ErrAway) {
		return err
	}
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	if errors.As(err, &pg) {
		switch {
		case slices.Contains(passing, pg.Code), strings.HasPrefix(pg.Code, insufficientResources):
			return fmt.Errorf("%w: %w", visit.ErrAway, err)
		}
		return err
	}
	if errors.As(err, &connect) || pgconn.SafeToRetry(err) || pgconn.Timeout(err) {
		return fmt.Errorf("%w: %w", visit.ErrAway, err)
	}
	return err
}
