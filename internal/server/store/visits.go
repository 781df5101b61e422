package store

import (
	"bytes"
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

// where gives the conditions of f over the table visit and their arguments,
// which begin at $1.
func where(f visit.Filter) (string, pgx.NamedArgs) {
	sql, args := "site = @site", pgx.NamedArgs{"site": f.Site}
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
		{"region_code", f.RegionCode},
		{"city", f.City},
		{"level", string(f.Level)},
		{"referrer_host", f.Referrer},
		{"language", f.Language},
		{"time_zone", f.TimeZone},
		{"network", f.Network},
		{"link", f.Link},
	} {
		if equal.value != "" {
			add(equal.column+" = @"+equal.column, equal.column, equal.value)
		}
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

// Arrived lists visits in the order in which they were stored, at most limit of
// them, those after one. That order never changes, and whoever has read up to a
// visit finds all that was stored since behind it.
func (s *Store) Arrived(ctx context.Context, f visit.Filter, after int64, limit int) ([]visit.Arrived, error) {
	conditions, args := where(f)
	args["after"], args["limit"] = after, limit
	rows, _ := s.pool.Query(ctx, `SELECT arrival, `+visitColumns+` FROM visit JOIN answer ON answer.id = visit.answer WHERE arrival > @after AND `+conditions+` ORDER BY arrival LIMIT @limit`, args)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (a visit.Arrived, err error) {
		a.Visit, err = scan(row, &a.Arrival)
		return a, err
	})
	return list, away(err)
}

// LastArrival gives the place of the visit that was stored last, 0 for none.
func (s *Store) LastArrival(ctx context.Context) (n int64, err error) {
	err = s.pool.QueryRow(ctx, `SELECT coalesce((SELECT arrival FROM visit ORDER BY arrival DESC LIMIT 1), 0)`).Scan(&n)
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

// visitColumns are what scan reads.
const visitColumns = `visit.id, site, path, referrer, user_agent, link, attributes::text, marks, visitor, card::text, trail::text, body::text,
	ARRAY(SELECT e.body::text FROM unnest(earlier) WITH ORDINALITY u(id, n) JOIN answer e USING (id) ORDER BY n)`

func (s *Store) visits(ctx context.Context, where string, args pgx.NamedArgs) ([]visit.Visit, error) {
	rows, _ := s.pool.Query(ctx, `SELECT `+visitColumns+` FROM visit JOIN answer ON answer.id = visit.answer WHERE `+where, args)
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (visit.Visit, error) { return scan(row) })
	return list, away(err)
}

// scan reads visitColumns, behind columns that first takes.
func scan(row pgx.CollectableRow, first ...any) (visit.Visit, error) {
	var r visit.Row
	var attributes *string
	var card, trail, body string
	var visitor *int64
	var earlier []string
	if err := row.Scan(append(first, &r.ID, &r.Site, &r.Path, &r.Referrer, &r.UserAgent, &r.Link, &attributes, &r.Marks, &visitor, &card, &trail, &body, &earlier)...); err != nil {
		return visit.Visit{}, err
	}
	r.Card, r.Trail = json.RawMessage(card), json.RawMessage(trail)
	if attributes != nil {
		var short bytes.Buffer
		_ = json.Compact(&short, []byte(*attributes)) // which PostgreSQL wrote
		r.Attributes = short.Bytes()
	}
	if visitor != nil {
		r.Visitor = *visitor
	}
	v, err := r.Visit(json.RawMessage(body))
	if err != nil {
		return v, err
	}
	for _, text := range earlier {
		var a visit.Answer
		if err := json.Unmarshal([]byte(text), &a); err != nil {
			return v, fmt.Errorf("an earlier answer: %w", err)
		}
		v.Earlier = append(v.Earlier, visit.Reading{Edition: a.Edition.Name, Location: a.Location, Network: a.Network})
	}
	return v, nil
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
