package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/server/access"
)

// Keys lists all keys, revoked ones too, the newest first.
func (s *Store) Keys(ctx context.Context) ([]access.Key, error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, name, scope, start, hash, sites, origins, created, last_used, uses, revoked
		FROM access_key ORDER BY id DESC`)
	keys, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (access.Key, error) {
		var k access.Key
		var hash []byte
		err := row.Scan(&k.ID, &k.Name, &k.Scope, &k.Start, &hash, &k.Sites, &k.Origins, &k.Created, &k.LastUsed, &k.Uses, &k.Revoked)
		copy(k.Hash[:], hash)
		k.Created = k.Created.UTC()
		return k, err
	})
	return keys, away(err)
}

// AddKey stores a key and the event of its making.
func (s *Store) AddKey(ctx context.Context, k access.Key, e access.Event) error {
	return s.withEvent(ctx, e, `INSERT INTO access_key (id, name, scope, start, hash, sites, origins, created)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, k.ID, k.Name, k.Scope, k.Start, k.Hash[:], k.Sites, k.Origins, k.Created)
}

// RenameKey gives a key another name; [access.ErrNoSuch] where there is none.
func (s *Store) RenameKey(ctx context.Context, id uuid.UUID, name string, e access.Event) error {
	return s.withEvent(ctx, e, `UPDATE access_key SET name = $2 WHERE id = $1`, id, name)
}

// RevokeKey ends a key; [access.ErrNoSuch] where there is none in force.
func (s *Store) RevokeKey(ctx context.Context, id uuid.UUID, e access.Event) error {
	return s.withEvent(ctx, e, `UPDATE access_key SET revoked = $2 WHERE id = $1 AND revoked IS NULL`, id, e.Time)
}

// CountKeyUses adds to the uses of keys.
func (s *Store) CountKeyUses(ctx context.Context, uses map[uuid.UUID]int64, at time.Time) error {
	var ids []uuid.UUID
	var counts []int64
	for id, n := range uses {
		ids, counts = append(ids, id), append(counts, n)
	}
	_, err := s.pool.Exec(ctx, `UPDATE access_key k SET uses = k.uses + u.n, last_used = $3
		FROM unnest($1::uuid[], $2::bigint[]) AS u (id, n) WHERE k.id = u.id`, ids, counts, at)
	return away(err)
}

// AddLink stores a one-time link and removes those that have expired.
func (s *Store) AddLink(ctx context.Context, hash [sha256.Size]byte, expires time.Time, e access.Event) error {
	return s.withEvent(ctx, e, `WITH gone AS (DELETE FROM sign_in_link WHERE expires < $3)
		INSERT INTO sign_in_link (hash, expires) VALUES ($1, $2)`, hash[:], expires, e.Time)
}

// UseLink spends a link; [access.ErrBadLink] where it is not good any more.
func (s *Store) UseLink(ctx context.Context, hash [sha256.Size]byte, now time.Time) error {
	tag, err := s.pool.Exec(ctx, `UPDATE sign_in_link SET used = $2 WHERE hash = $1 AND used IS NULL AND expires > $2`, hash[:], now)
	if err == nil && tag.RowsAffected() == 0 {
		return access.ErrBadLink
	}
	return away(err)
}

// AddSession stores a session and removes those that ended long ago.
func (s *Store) AddSession(ctx context.Context, one access.Session, hash [sha256.Size]byte, e access.Event) error {
	return s.withEvent(ctx, e, `WITH gone AS (DELETE FROM session WHERE expires < $4)
		INSERT INTO session (id, hash, created, last_seen, expires, how, agent) VALUES ($1, $2, $3, $4, $5, $6, $7)`,
		one.ID, hash[:], one.Created, one.LastSeen, one.Expires, one.How, one.Agent)
}

// SessionOf reads a session and notes that it was seen; [access.ErrBadSession]
// where it has ended or was idle since before idleSince.
func (s *Store) SessionOf(ctx context.Context, hash [sha256.Size]byte, now, idleSince time.Time) (access.Session, error) {
	rows, _ := s.pool.Query(ctx, `UPDATE session SET last_seen = $2
		WHERE hash = $1 AND ended IS NULL AND expires > $2 AND last_seen > $3
		RETURNING id, created, last_seen, expires, how, agent`, hash[:], now, idleSince)
	one, err := pgx.CollectExactlyOneRow(rows, scanSession)
	if errors.Is(err, pgx.ErrNoRows) {
		return one, access.ErrBadSession
	}
	return one, away(err)
}

// Sessions lists the sessions in force, the newest first.
func (s *Store) Sessions(ctx context.Context, now, idleSince time.Time) ([]access.Session, error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, created, last_seen, expires, how, agent FROM session
		WHERE ended IS NULL AND expires > $1 AND last_seen > $2 ORDER BY id DESC`, now, idleSince)
	list, err := pgx.CollectRows(rows, scanSession)
	return list, away(err)
}

func scanSession(row pgx.CollectableRow) (access.Session, error) {
	var one access.Session
	err := row.Scan(&one.ID, &one.Created, &one.LastSeen, &one.Expires, &one.How, &one.Agent)
	one.Created, one.LastSeen, one.Expires = one.Created.UTC(), one.LastSeen.UTC(), one.Expires.UTC()
	return one, err
}

// EndSession ends a session; [access.ErrNoSuch] where there is none.
func (s *Store) EndSession(ctx context.Context, id uuid.UUID, e access.Event) error {
	return s.withEvent(ctx, e, `UPDATE session SET ended = $2 WHERE id = $1 AND ended IS NULL`, id, e.Time)
}

// EverSignedIn says whether a session was ever opened.
func (s *Store) EverSignedIn(ctx context.Context) (ever bool, err error) {
	err = s.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM audit WHERE what = 'signed in')`).Scan(&ever)
	return ever, away(err)
}

const insertEvent = `INSERT INTO audit (id, time, what, actor, detail) VALUES ($1, $2, $3, $4, $5)`

// AddEvent writes a line of the audit log.
func (s *Store) AddEvent(ctx context.Context, e access.Event) error {
	_, err := s.pool.Exec(ctx, insertEvent, e.ID, e.Time, e.What, e.Actor, e.Detail)
	return away(err)
}

// NoteConfiguration writes a line into the audit log where the configuration
// is another than the last time.
func (s *Store) NoteConfiguration(ctx context.Context, e access.Event) error {
	_, err := s.pool.Exec(ctx, `INSERT INTO audit (id, time, what, actor, detail)
		SELECT $1, $2, $3, $4, $5 WHERE $5 IS DISTINCT FROM
			(SELECT detail FROM audit WHERE what = $3 ORDER BY id DESC LIMIT 1)`, e.ID, e.Time, e.What, e.Actor, e.Detail)
	return away(err)
}

// Events lists the audit log, the newest first, older than before where that
// is an id.
func (s *Store) Events(ctx context.Context, before uuid.UUID, limit int) ([]access.Event, error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, time, what, actor, detail FROM audit
		WHERE $1 = '00000000-0000-0000-0000-000000000000'::uuid OR id < $1 ORDER BY id DESC LIMIT $2`, before, limit)
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[access.Event])
	for i := range list {
		list[i].Time = list[i].Time.UTC()
	}
	return list, away(err)
}

// withEvent changes exactly one row and writes the event of it, both or
// neither; [access.ErrNoSuch] where no row fits.
func (s *Store) withEvent(ctx context.Context, e access.Event, sql string, args ...any) error {
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, sql, args...)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return access.ErrNoSuch
		}
		_, err = tx.Exec(ctx, insertEvent, e.ID, e.Time, e.What, e.Actor, e.Detail)
		return err
	})
	if errors.Is(err, access.ErrNoSuch) {
		return err
	}
	return away(err)
}
