package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"eastporch/internal/core/visit"
)

// arrivals is the advisory lock that whoever stores visits, recounts or drops
// them holds, so that visits are counted and numbered in the order in which they
// are committed.
const arrivals = 7263001

// publishing is the one that whoever publishes an edition holds.
const publishing = 7263002

var arrivalColumns = []string{
	"id", "time", "site", "path", "referrer", "referrer_host", "user_agent", "link", "attributes", "marks", "counted", "address", "placeholder", "kind", "skipped",
	"level", "country_code", "region_code", "city", "latitude", "longitude", "radius_km", "time_zone", "place", "network", "labels",
	"language", "week_hour", "unverified", "visitor", "answer", "card", "trail",
}

// Arrive stores visits, each once, with all that counts them, in one
// transaction. An error that wraps [visit.ErrRefused] means that the database
// will not have one of them; any other, that it could not be asked.
func (s *Store) Arrive(ctx context.Context, batch []visit.Arrival) (visit.Outcome, error) {
	var out visit.Outcome
	oldest := s.Oldest(time.Now())
	rows := make([][]any, 0, len(batch))
	answers := map[uuid.UUID]*shared{}
	weeks := map[time.Time]bool{}
	first := map[uuid.UUID]int{} // of each id in the batch
	for i, a := range batch {
		at, ok := visit.TimeOf(a.Row.ID)
		if !ok {
			return out, fmt.Errorf("%w: %s is no id of version 7", visit.ErrRefused, a.Row.ID)
		}
		if at.Before(oldest) {
			out.Expired++
			continue
		}
		if j, ok := first[a.Row.ID]; ok {
			if out.Duplicate++; !batch[j].Row.Same(a.Row) {
				out.Conflicts = append(out.Conflicts, i)
			}
			continue
		}
		first[a.Row.ID] = i
		answer, err := read(answers, a)
		if err != nil {
			return out, fmt.Errorf("%w: %w", visit.ErrRefused, err)
		}
		weeks[weekOf(at)] = true
		rows = append(rows, answer.columns(a.Row, at))
	}
	if len(rows) == 0 {
		return out, nil
	}
	for w := range weeks {
		if err := s.ensureWeek(ctx, w); err != nil {
			return out, err
		}
	}
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return out, away(err)
	}
	defer conn.Release()
	slices.SortFunc(rows, func(a, b []any) int {
		x, y := a[0].(uuid.UUID), b[0].(uuid.UUID)
		return bytes.Compare(x[:], y[:])
	})
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if err := takeTurn(ctx, tx, arrivals); err != nil {
			return err
		}
		// A batch touches few rows of large tables, whose statistics are often behind: always by index.
		// The costs that this gives would have every statement compiled, which takes a second.
		if _, err := tx.Exec(ctx, `SET LOCAL enable_seqscan = off; SET LOCAL jit = off`); err != nil {
			return err
		}
		if err := addAnswers(ctx, tx, answers); err != nil {
			return err
		}
		fresh, err := allFresh(ctx, tx, rows)
		if err != nil {
			return err
		}
		var arrival int64
		if fresh {
			arrival, err = copyAll(ctx, tx, rows, &out)
		} else {
			arrival, err = sortOut(ctx, tx, rows, first, &out)
		}
		if err != nil || out.Stored == 0 {
			return err
		}
		if _, err := tx.Exec(ctx, `SELECT count_arrived($1)`, arrival); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `SELECT pg_notify($1, '')`, arrivedChannel)
		return err
	})
	if err != nil && refused(err, conn.Conn()) {
		return visit.Outcome{}, fmt.Errorf("%w: %w", visit.ErrRefused, err)
	}
	if err != nil {
		return visit.Outcome{}, away(err)
	}
	return out, nil
}

// takeTurn waits for an advisory lock, which the transaction then has.
func takeTurn(ctx context.Context, tx pgx.Tx, lock int) error {
	_, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1)`, lock)
	return err
}

// allFresh says that every row of a batch, which is sorted by id, is new, and
// that nothing was erased that one of them may be of.
func allFresh(ctx context.Context, tx pgx.Tx, rows [][]any) (bool, error) {
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r[0].(uuid.UUID)
	}
	var known bool
	err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM tombstone) OR EXISTS (SELECT FROM visit WHERE id = ANY($1) AND id BETWEEN $2 AND $3)`,
		ids, ids[0], ids[len(ids)-1]).Scan(&known)
	return !known, err
}

// copyAll stores rows that are all new. It gives the place of the first in the
// order of arrival.
func copyAll(ctx context.Context, tx pgx.Tx, rows [][]any, out *visit.Outcome) (first int64, err error) {
	var last int64
	if err := tx.QueryRow(ctx, `SELECT setval('visit_arrival', nextval('visit_arrival') + $1)`, len(rows)).Scan(&last); err != nil {
		return 0, err
	}
	first = last - int64(len(rows)) + 1
	next := 0
	n, err := tx.CopyFrom(ctx, pgx.Identifier{"visit"}, append([]string{"arrival"}, arrivalColumns...), pgx.CopyFromFunc(func() ([]any, error) {
		if next == len(rows) {
			return nil, nil
		}
		next++
		return append([]any{first + int64(next-1)}, rows[next-1]...), nil
	}))
	out.Stored = int(n)
	return first, err
}

// sortOut stores the rows that are new and not erased; places says where in the
// batch each id stands.
func sortOut(ctx context.Context, tx pgx.Tx, rows [][]any, places map[uuid.UUID]int, out *visit.Outcome) (first int64, err error) {
	// It has the columns of visit, and none of its rules.
	if _, err := tx.Exec(ctx, `CREATE TEMP TABLE IF NOT EXISTS arriving ON COMMIT DELETE ROWS AS SELECT * FROM visit WHERE false`); err != nil {
		return 0, err
	}
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{"arriving"}, arrivalColumns, pgx.CopyFromRows(rows)); err != nil {
		return 0, err
	}
	tag, err := tx.Exec(ctx, `DELETE FROM arriving a USING tombstone t WHERE a.id = t.id OR a.time <= t.erased AND
		(a.address <<= t.prefix OR a.placeholder = t.placeholder OR t.hash = sha256(t.salt || host(a.address)::bytea))`)
	if err != nil {
		return 0, err
	}
	out.Erased = int(tag.RowsAffected())
	if err := tx.QueryRow(ctx, `SELECT nextval('visit_arrival')`).Scan(&first); err != nil {
		return 0, err
	}
	list := strings.Join(arrivalColumns, ", ")
	tag, err = tx.Exec(ctx, `INSERT INTO visit (arrival, `+list+`)
		SELECT nextval('visit_arrival'), `+list+` FROM (SELECT * FROM arriving ORDER BY id) a ON CONFLICT (id) DO NOTHING`)
	if err != nil {
		return 0, err
	}
	out.Stored = int(tag.RowsAffected())
	before := len(rows) - out.Erased - out.Stored
	if out.Duplicate += before; before > 0 {
		found, _ := tx.Query(ctx, `SELECT DISTINCT a.id FROM arriving a JOIN visit v USING (id)
			WHERE (a.site, a.path, a.referrer, a.user_agent, a.link, a.address, a.attributes) IS DISTINCT FROM (v.site, v.path, v.referrer, v.user_agent, v.link, v.address, v.attributes)`)
		var ids []uuid.UUID
		ids, err = pgx.CollectRows(found, pgx.RowTo[uuid.UUID])
		for _, id := range ids {
			out.Conflicts = append(out.Conflicts, places[id])
		}
	}
	return first, err
}

// Standing says of each row whether the visit that is stored under its id is the same; an
// id that nothing is stored under is left out.
func (s *Store) Standing(ctx context.Context, rows []visit.Row) ([]visit.Standing, error) {
	var want [7][]any
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
		given := (&shared{places: map[bool]string{}}).columns(r, time.Time{})
		for j, name := range []string{"site", "path", "referrer", "user_agent", "link", "address", "attributes"} {
			want[j] = append(want[j], given[slices.Index(arrivalColumns, name)])
		}
	}
	found, _ := s.pool.Query(ctx, `SELECT w.n, (w.site, w.path, w.referrer, w.user_agent, w.link, w.address, w.attributes) IS NOT DISTINCT FROM (v.site, v.path, v.referrer, v.user_agent, v.link, v.address, v.attributes)
		FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::inet[], $8::jsonb[])
			WITH ORDINALITY AS w(id, site, path, referrer, user_agent, link, address, attributes, n)
		JOIN visit v ON v.id = w.id`, ids, want[0], want[1], want[2], want[3], want[4], want[5], want[6])
	list, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (v visit.Standing, err error) {
		err = row.Scan(&v.Place, &v.Same)
		v.Place--
		return v, err
	})
	return list, away(err)
}

// arrivedChannel is notified when visits have been stored.
const arrivedChannel = "visits_arrived"

// shared is an answer, read once for all visits that share it.
type shared struct {
	text   json.RawMessage
	answer visit.Answer
	places map[bool]string // by whether it was skipped
}

func read(known map[uuid.UUID]*shared, a visit.Arrival) (*shared, error) {
	if s, ok := known[a.Row.AnswerID]; ok {
		return s, nil
	}
	s := &shared{text: a.Answer, places: map[bool]string{}}
	if err := json.Unmarshal(a.Answer, &s.answer); err != nil {
		return nil, fmt.Errorf("the answer of %s: %w", a.Row.ID, err)
	}
	known[a.Row.AnswerID] = s
	return s, nil
}

// columns gives a row's values in the order of arrivalColumns.
func (s *shared) columns(r visit.Row, at time.Time) []any {
	w := s.answer.Location
	place, ok := s.places[r.Skipped]
	if !ok {
		place = visit.PlaceKey(w, r.Skipped)
		s.places[r.Skipped] = place
	}
	var address, attributes any
	if r.Address.IsValid() {
		address = r.Address.Addr
	}
	if len(r.Attributes) > 0 {
		attributes = string(r.Attributes)
	}
	var kind *string
	if r.Kind != nil {
		word := r.Kind.String()
		kind = &word
	}
	return []any{
		r.ID, at, r.Site, r.Path, r.Referrer, null(visit.ReferrerHost(r.Referrer, r.Site)), r.UserAgent, r.Link, attributes, list(r.Marks), r.Counted(),
		address, r.Placeholder, kind, r.Skipped,
		string(w.Level), w.CountryCode, w.RegionCode, w.City, w.Latitude, w.Longitude, w.RadiusKm, w.TimeZone, place, null(visit.NetworkKey(s.answer.Network)), list(r.Labels),
		r.Language, r.WeekHour, r.Unverified,
		pgtype.Int8{Int64: r.Visitor, Valid: r.Visitor != 0},
		r.AnswerID, string(r.Card), string(r.Trail),
	}
}

func null(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func list(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

// addAnswers stores the answers that are not there yet, under the lock.
func addAnswers(ctx context.Context, tx pgx.Tx, answers map[uuid.UUID]*shared) error {
	ids := make([]uuid.UUID, 0, len(answers))
	for id := range answers {
		ids = append(ids, id)
	}
	rows, _ := tx.Query(ctx, `SELECT id FROM answer WHERE id = ANY($1)`, ids)
	there, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	if err != nil {
		return err
	}
	known := make(map[uuid.UUID]bool, len(there))
	for _, id := range there {
		known[id] = true
	}
	var fresh [][]any
	for _, id := range ids {
		if !known[id] {
			fresh = append(fresh, []any{id, string(answers[id].text)})
		}
	}
	_, err = tx.CopyFrom(ctx, pgx.Identifier{"answer"}, []string{"id", "body"}, pgx.CopyFromRows(fresh))
	return err
}

// refused says whether an error is the data's fault: the database does not take
// its values, or they could not be written for it.
func refused(err error, conn *pgx.Conn) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code[:2] {
		case "22", "23", "54": // data exception, integrity violation, limit exceeded
			return true
		}
		return false
	}
	return !conn.IsClosed() && !errors.Is(err, context.Canceled) && !errors.Is(err, context.DeadlineExceeded)
}
