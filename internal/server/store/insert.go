package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/store/noticerows"
	"eastporch/internal/server/store/topics"
)

// storing is the advisory lock that whoever stores visits shares with others who do, and that whoever recounts or drops
// them has alone.
const storing = 7263001

// counting is the first key of the advisory locks of sites whose visits are being counted; the second is of the site.
const counting = 7263005

// publishing is the one that whoever publishes an edition holds.
const publishing = 7263002

// Insert stores visits, each once, with all that counts them, in one
// transaction. An error that wraps [visit.ErrRefused] means that the database
// will not have one of them; any other, that it could not be asked.
func (s *Store) Insert(ctx context.Context, batch []visit.QueuedVisit) (visit.Outcome, error) {
	out, err := s.insert(ctx, batch, false)
	for range collisions {
		if !collides(err) {
			break
		}
		out, err = s.insert(ctx, batch, true)
	}
	return out, err
}

// collisions is how often a batch is stored again that came into the way of another.
const collisions = 5

// collides says whether a batch could not be stored because of another at the same moment: it stores the same visits, or
// each waited for the other.
func collides(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "23505" || pg.Code == "40P01")
}

// insert is [Store.Insert]; careful says that rows may be there although nothing shows them yet.
func (s *Store) insert(ctx context.Context, batch []visit.QueuedVisit, careful bool) (visit.Outcome, error) {
	var out visit.Outcome
	oldest := s.Oldest(time.Now())
	rows := make([]*insertRow, 0, len(batch))
	facts := map[uuid.UUID]*sharedFacts{}
	weeks := map[time.Time]bool{}
	first := map[uuid.UUID]int{} // of each id in the batch
	for i := range batch {
		q := &batch[i]
		at, ok := visit.TimeOf(q.Row.ID)
		if !ok {
			return out, fmt.Errorf("%w: %s is not an id of version 7", visit.ErrRefused, q.Row.ID)
		}
		if at.Before(oldest) {
			out.Expired++
			continue
		}
		if j, ok := first[q.Row.ID]; ok {
			if out.Duplicate++; !batch[j].Row.Same(q.Row) {
				out.Conflicts = append(out.Conflicts, i)
			}
			continue
		}
		first[q.Row.ID] = i
		shared, err := s.factsOf(facts, q)
		if err != nil {
			return out, fmt.Errorf("%w: %w", visit.ErrRefused, err)
		}
		weeks[weekOf(at)] = true
		rows = append(rows, &insertRow{Row: &q.Row, at: at, facts: shared})
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
	slices.SortFunc(rows, func(a, b *insertRow) int { return bytes.Compare(a.ID[:], b.ID[:]) })
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock_shared($1)`, storing); err != nil {
			return err
		}
		// A batch touches few rows of large tables, whose statistics are often behind: always by index.
		// The costs that this gives would have every statement compiled, which takes a second.
		if _, err := tx.Exec(ctx, `SET LOCAL enable_seqscan = off; SET LOCAL jit = off`); err != nil {
			return err
		}
		if err := addFacts(ctx, tx, facts); err != nil {
			return err
		}
		if err := addPlaces(ctx, tx, facts); err != nil {
			return err
		}
		fresh, err := allFresh(ctx, tx, rows)
		if err != nil {
			return err
		}
		var sequence int64
		if err := tx.QueryRow(ctx, `SELECT begin_storing()`).Scan(&sequence); err != nil {
			return err
		}
		if fresh && !careful {
			err = copyAll(ctx, tx, rows, &out)
		} else {
			err = sortOut(ctx, tx, rows, first, &out)
		}
		if err != nil || out.Stored == 0 {
			return err
		}
		// From here on one batch of a site comes after the other: what it is counted into waits for the commit anyway, and
		// what a notice is met by depends on what was counted before.
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1, hashtext(s)) FROM (SELECT unnest($2::text[]) s ORDER BY 1) of`, counting, sites(rows)); err != nil {
			return err
		}
		if err := noticerows.MeetVisits(ctx, tx, sequence); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `SELECT count_stored($1)`, sequence); err != nil {
			return err
		}
		return topics.Tell(ctx, tx, topics.Visits)
	})
	if err != nil && refuses(err, conn.Conn()) {
		return visit.Outcome{}, fmt.Errorf("%w: %w", visit.ErrRefused, err)
	}
	if err != nil {
		return visit.Outcome{}, away(err)
	}
	s.remember(facts)
	return out, nil
}

// takeTurn waits for an advisory lock, which the transaction then has.
func takeTurn(ctx context.Context, tx pgx.Tx, lock int) error {
	_, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock($1)`, lock)
	return err
}

// allFresh says that every row of a batch, which is sorted by id, is new, and
// that nothing was erased that one of them may be of.
func allFresh(ctx context.Context, tx pgx.Tx, rows []*insertRow) (bool, error) {
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	var known bool
	err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM tombstone) OR EXISTS (SELECT FROM visit WHERE id = ANY($1) AND id BETWEEN $2 AND $3)`,
		ids, ids[0], ids[len(ids)-1]).Scan(&known)
	return !known, err
}

// sites are those of rows, each once.
func sites(rows []*insertRow) []string {
	of := map[string]bool{}
	for _, r := range rows {
		of[r.Site] = true
	}
	return slices.Collect(maps.Keys(of))
}

// copyAll stores rows that are all new.
func copyAll(ctx context.Context, tx pgx.Tx, rows []*insertRow, out *visit.Outcome) error {
	n, err := tx.CopyFrom(ctx, pgx.Identifier{"visit"}, columnNames(), pgx.CopyFromSlice(len(rows), func(i int) ([]any, error) { return rows[i].values(), nil }))
	out.Stored = int(n)
	return err
}

// sortOut stores the rows that are new and not erased; places says where in the
// batch each id stands.
func sortOut(ctx context.Context, tx pgx.Tx, rows []*insertRow, places map[uuid.UUID]int, out *visit.Outcome) error {
	// It has the columns of visit, and none of its rules.
	if _, err := tx.Exec(ctx, `CREATE TEMP TABLE IF NOT EXISTS incoming ON COMMIT DELETE ROWS AS SELECT * FROM visit WHERE false`); err != nil {
		return err
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"incoming"}, columnNames(), pgx.CopyFromSlice(len(rows), func(i int) ([]any, error) { return rows[i].values(), nil }))
	if err != nil {
		return err
	}
	tag, err := tx.Exec(ctx, `DELETE FROM incoming a USING tombstone t WHERE a.id = t.id OR a.time <= t.erased AND
		(a.address <<= t.prefix OR a.placeholder = t.placeholder OR t.hash = sha256(t.salt || host(a.address)::bytea))`)
	if err != nil {
		return err
	}
	out.Erased = int(tag.RowsAffected())
	list := strings.Join(columnNames(), ", ")
	tag, err = tx.Exec(ctx, `INSERT INTO visit (`+list+`)
		SELECT `+list+` FROM (SELECT * FROM incoming ORDER BY id) a ON CONFLICT (id) DO NOTHING`)
	if err != nil {
		return err
	}
	out.Stored = int(tag.RowsAffected())
	before := len(rows) - out.Erased - out.Stored
	if out.Duplicate += before; before == 0 {
		return nil
	}
	found, _ := tx.Query(ctx, `SELECT DISTINCT a.id FROM incoming a JOIN visit v USING (id) WHERE (`+reported("a.")+`) IS DISTINCT FROM (`+reported("v.")+`)`)
	ids, err := pgx.CollectRows(found, pgx.RowTo[uuid.UUID])
	for _, id := range ids {
		out.Conflicts = append(out.Conflicts, places[id])
	}
	return err
}

// Standing says of each row whether the visit that is stored under its id is the same; an
// id that nothing is stored under is left out.
func (s *Store) Standing(ctx context.Context, rows []visit.Row) ([]visit.Standing, error) {
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	args, arrays := []any{ids}, []string{"$1::uuid[]"}
	for _, c := range columns {
		if !c.reported {
			continue
		}
		values := make([]any, len(rows))
		for i := range rows {
			values[i] = c.value(&insertRow{Row: &rows[i]})
		}
		args = append(args, values)
		arrays = append(arrays, fmt.Sprintf("$%d::%s[]", len(args), c.kind))
	}
	found, _ := s.pool.Query(ctx, `SELECT w.n, (`+reported("w.")+`) IS NOT DISTINCT FROM (`+reported("v.")+`)
		FROM unnest(`+strings.Join(arrays, ", ")+`) WITH ORDINALITY AS w(id, `+reported("")+`, n) JOIN visit v ON v.id = w.id`, args...)
	list, err := pgx.CollectRows(found, func(row pgx.CollectableRow) (v visit.Standing, err error) {
		err = row.Scan(&v.Index, &v.Same)
		v.Index--
		return v, err
	})
	return list, away(err)
}

// sharedFacts are the edition facts of all visits that share them.
type sharedFacts struct {
	text     json.RawMessage // of the visit that is stored with them
	location *atlas.Location // nil until it is read
	columnFacts
	used [placeStates]bool // which of the places are asked for
}

// columnFacts are what of edition facts has columns. Facts are named by their content and
// places are never dropped, so they hold for ever.
type columnFacts struct {
	country, basis, network *string
	place                   [placeStates]int64 // the ids of the place; 0 where it is not known yet
}

var errNoLocation = errors.New("they have no location")

// factsKept bounds how many facts are remembered with their columns.
const factsKept = 50_000

// factsOf gives the facts of a visit; known has those of its batch.
func (s *Store) factsOf(known map[uuid.UUID]*sharedFacts, q *visit.QueuedVisit) (*sharedFacts, error) {
	f, ok := known[q.Row.FactsID]
	if !ok {
		f = &sharedFacts{text: q.Facts}
		remembered, ok := s.facts.Load(q.Row.FactsID)
		if ok {
			f.columnFacts = remembered.(columnFacts)
		} else {
			var read struct {
				Location *atlas.Location `json:"location"`
				Network  atlas.Network   `json:"network"`
			}
			if err := json.Unmarshal(q.Facts, &read); err != nil || read.Location == nil {
				return nil, fmt.Errorf("the edition facts of %s: %w", q.Row.ID, cmp.Or(err, errNoLocation))
			}
			f.location, f.country, f.basis, f.network = read.Location, read.Location.CountryCode, read.Location.Basis, null(visit.NetworkKey(read.Network))
		}
		known[q.Row.FactsID] = f
	}
	f.used[f.state(&q.Row)] = true
	return f, nil
}

// remember keeps the facts of a batch that was stored.
func (s *Store) remember(facts map[uuid.UUID]*sharedFacts) {
	for id, f := range facts {
		if _, loaded := s.facts.Swap(id, f.columnFacts); !loaded {
			s.factsCount.Add(1)
		}
	}
	if s.factsCount.Load() > factsKept {
		s.facts.Clear()
		s.factsCount.Store(0)
	}
}

// state says which place of its facts a visit is at.
func (f *columnFacts) state(r *visit.Row) placeState {
	return stateBy(r.Skipped, r.Kind != nil, f.country != nil)
}

// stateBy is state of what was read elsewhere; a visit that the owner names a place for is there.
func stateBy(isSkipped, isFound, hasCountry bool) placeState {
	switch {
	case hasCountry:
		return lookedUp
	case isSkipped:
		return skipped
	case !isFound:
		return notFound
	}
	return lookedUp
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

// addFacts stores the facts that are not there yet, in one order, so that no two transactions wait for each other.
func addFacts(ctx context.Context, tx pgx.Tx, facts map[uuid.UUID]*sharedFacts) error {
	ids := slices.Collect(maps.Keys(facts))
	rows, _ := tx.Query(ctx, `SELECT id FROM edition_facts WHERE id = ANY($1)`, ids)
	there, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	if err != nil {
		return err
	}
	known := make(map[uuid.UUID]bool, len(there))
	for _, id := range there {
		known[id] = true
	}
	var fresh []uuid.UUID
	var bodies []string
	for _, id := range ids {
		if !known[id] {
			fresh, bodies = append(fresh, id), append(bodies, string(facts[id].text))
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	_, err = tx.Exec(ctx, `INSERT INTO edition_facts SELECT id, body::json FROM unnest($1::uuid[], $2::text[]) f(id, body) ORDER BY id ON CONFLICT DO NOTHING`, fresh, bodies)
	return err
}

// addPlaces stores the places that are not there yet, and fills in the ids of all.
func addPlaces(ctx context.Context, tx pgx.Tx, facts map[uuid.UUID]*sharedFacts) error {
	list := places{}
	digests := map[*int64]uuid.UUID{}
	for _, f := range facts {
		for i, used := range f.used {
			if !used || f.place[i] != 0 {
				continue
			}
			if f.location == nil { // it is known from before, but not at this place
				var read struct {
					Location *atlas.Location `json:"location"`
				}
				if err := json.Unmarshal(f.text, &read); err != nil || read.Location == nil {
					return cmp.Or(err, errNoLocation)
				}
				f.location = read.Location
			}
			digests[&f.place[i]] = list.add(f.location, placeState(i))
		}
	}
	if len(list) == 0 {
		return nil
	}
	ids, err := list.ids(ctx, tx)
	for place, digest := range digests {
		*place = ids[digest]
	}
	return err
}

// refuses says whether an error is the data's fault: the database does not take
// its values, or they could not be written for it.
func refuses(err error, conn *pgx.Conn) bool {
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
