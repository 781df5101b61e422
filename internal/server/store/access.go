package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/server/access"
	"eastporch/internal/server/store/topics"
)

// Keys lists all keys, revoked ones too, the newest first.
func (s *Store) Keys(ctx context.Context) ([]access.Key, error) {
	rows, _ := s.pool.Query(ctx, `SELECT `+keyColumns+` FROM access_key k ORDER BY id DESC`)
	keys, err := pgx.CollectRows(rows, scanKey)
	return keys, away(err)
}

const keyColumns = `k.id, k.name, k.scope, k.start, k.hash, k.sites, k.origins, k.created, k.last_used, k.uses, k.revoked, k.made_by, k.made_by_key, k.made_by_session`

func scanKey(row pgx.CollectableRow) (access.Key, error) {
	var k access.Key
	var hash []byte
	err := row.Scan(&k.ID, &k.Name, &k.Scope, &k.Start, &hash, &k.Sites, &k.Origins, &k.Created, &k.LastUsed, &k.Uses, &k.Revoked, &k.Maker.Name, &k.Maker.Key, &k.Maker.Session)
	copy(k.Hash[:], hash)
	k.Created = k.Created.UTC()
	return k, err
}

// AddKey stores a key and the event of its making; [access.ErrBadKey] where the key that
// it is made with was revoked, which its maker may not have felt yet.
func (s *Store) AddKey(ctx context.Context, k access.Key, e access.Event) error {
	err := s.withEvent(ctx, e, `INSERT INTO access_key (id, name, scope, start, hash, sites, origins, created, made_by, made_by_key, made_by_session)
		SELECT $1, $2, $3, $4, $5, $6, $7, $8, $9, $10::uuid, $11::uuid
		WHERE ($10::uuid IS NULL OR EXISTS (SELECT FROM access_key WHERE id = $10 AND revoked IS NULL FOR SHARE))
			AND ($11::uuid IS NULL OR EXISTS (SELECT FROM session WHERE id = $11 AND ended IS NULL FOR SHARE))`,
		k.ID, k.Name, k.Scope, k.Start, k.Hash[:], k.Sites, k.Origins, k.Created, k.Maker.Name, k.Maker.Key, k.Maker.Session)
	if errors.Is(err, access.ErrNoSuch) {
		return access.ErrBadKey
	}
	return err
}

// RenameKey gives a key another name; [access.ErrNoSuch] where there is none.
func (s *Store) RenameKey(ctx context.Context, id uuid.UUID, name string, e access.Event) error {
	return s.withEvent(ctx, e, `UPDATE access_key SET name = $2 WHERE id = $1`, id, name)
}

// withDescendants names a key and those that were made with it, directly or by way of
// others.
const withDescendants = `WITH RECURSIVE made (id) AS (
	SELECT $1::uuid UNION SELECT k.id FROM access_key k JOIN made ON k.made_by_key = made.id) `

// RevokeKey ends a key and the sessions that it opened, and withMade the keys and sessions
// that were made with it; [access.ErrNoSuch] where there is none in force. It gives the
// keys that it ended.
func (s *Store) RevokeKey(ctx context.Context, id uuid.UUID, withMade bool, e access.Event) (ended []uuid.UUID, err error) {
	which := `SELECT $1::uuid AS id`
	prefix := ``
	if withMade {
		prefix, which = withDescendants, `SELECT id FROM made`
	}
	err = pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, _ := tx.Query(ctx, prefix+`UPDATE access_key SET revoked = $2 WHERE id IN (`+which+`) AND revoked IS NULL RETURNING id`, id, e.Time)
		if ended, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID]); err != nil {
			return err
		}
		if !slices.Contains(ended, id) && (!withMade || len(ended) == 0) {
			return access.ErrNoSuch
		}
		if _, err := tx.Exec(ctx, `UPDATE session SET ended = $2 WHERE key_id = ANY ($1) AND ended IS NULL`, ended, e.Time); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, insertEvent, e.ID, e.Time, e.What, e.Actor, e.Detail); err != nil {
			return err
		}
		return topics.Tell(ctx, tx, topics.Keys)
	})
	if errors.Is(err, access.ErrNoSuch) {
		return nil, err
	}
	return ended, away(err)
}

// MadeWith lists what is in force and was made with a key, directly or by way of others.
func (s *Store) MadeWith(ctx context.Context, id uuid.UUID, now, idleSince time.Time) (m access.Made, err error) {
	rows, _ := s.pool.Query(ctx, withDescendants+`SELECT `+keyColumns+` FROM access_key k JOIN made ON made.id = k.id
		WHERE k.id <> $1 AND k.revoked IS NULL ORDER BY k.id DESC`, id)
	if m.Keys, err = pgx.CollectRows(rows, scanKey); err != nil {
		return m, away(err)
	}
	rows, _ = s.pool.Query(ctx, withDescendants+`SELECT `+sessionColumns+` FROM session s JOIN made ON made.id = s.key_id
		WHERE s.ended IS NULL AND s.expires > $2 AND s.last_seen > $3 ORDER BY s.id DESC`, id, now, idleSince)
	m.Sessions, err = pgx.CollectRows(rows, scanSession)
	return m, away(err)
}

const sessionColumns = `s.id, s.created, s.last_seen, s.expires, s.how, s.user_agent, s.key_id`

// keyInForce holds for sessions whose key, if they have one, is in force: another instance
// may have opened one with a key whose end it had not felt yet.
const keyInForce = `NOT EXISTS (SELECT FROM access_key k WHERE k.id = s.key_id AND k.revoked IS NOT NULL)`

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

// UseLink spends a link and says who made it; [access.ErrBadLink] where it is not good
// any more.
func (s *Store) UseLink(ctx context.Context, hash [sha256.Size]byte, now time.Time) (maker string, err error) {
	err = s.pool.QueryRow(ctx, `UPDATE sign_in_link SET used = $2 WHERE hash = $1 AND used IS NULL AND expires > $2 RETURNING made_by`, hash[:], now).Scan(&maker)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", access.ErrBadLink
	}
	return maker, away(err)
}

// AddSession stores a session and removes those that ended long ago.
func (s *Store) AddSession(ctx context.Context, one access.Session, hash [sha256.Size]byte, e access.Event) error {
	return s.withEvent(ctx, e, `WITH gone AS (DELETE FROM session WHERE expires < $4), ever AS (UPDATE installation SET signed_in = true WHERE NOT signed_in)
		INSERT INTO session (id, hash, created, last_seen, expires, how, user_agent, key_id) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		one.ID, hash[:], one.Created, one.LastSeen, one.Expires, one.How, one.UserAgent, one.Key)
}

// SessionOf reads a session and notes that it was seen; [access.ErrBadSession]
// where it has ended or was idle since before idleSince.
func (s *Store) SessionOf(ctx context.Context, hash [sha256.Size]byte, now, idleSince time.Time) (access.Session, error) {
	rows, _ := s.pool.Query(ctx, `UPDATE session s SET last_seen = $2
		WHERE hash = $1 AND ended IS NULL AND expires > $2 AND last_seen > $3 AND `+keyInForce+`
		RETURNING `+sessionColumns, hash[:], now, idleSince)
	one, err := pgx.CollectExactlyOneRow(rows, scanSession)
	if errors.Is(err, pgx.ErrNoRows) {
		return one, access.ErrBadSession
	}
	return one, away(err)
}

// SessionInForce says whether a session has not ended and was not idle since before idleSince.
func (s *Store) SessionInForce(ctx context.Context, id uuid.UUID, now, idleSince time.Time) (in bool, err error) {
	err = s.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM session s
		WHERE id = $1 AND ended IS NULL AND expires > $2 AND last_seen > $3 AND `+keyInForce+`)`, id, now, idleSince).Scan(&in)
	return in, away(err)
}

// Sessions lists the sessions in force, the newest first.
func (s *Store) Sessions(ctx context.Context, now, idleSince time.Time) ([]access.Session, error) {
	rows, _ := s.pool.Query(ctx, `SELECT `+sessionColumns+` FROM session s
		WHERE ended IS NULL AND expires > $1 AND last_seen > $2 AND `+keyInForce+` ORDER BY id DESC`, now, idleSince)
	list, err := pgx.CollectRows(rows, scanSession)
	return list, away(err)
}

func scanSession(row pgx.CollectableRow) (access.Session, error) {
	var one access.Session
	err := row.Scan(&one.ID, &one.Created, &one.LastSeen, &one.Expires, &one.How, &one.UserAgent, &one.Key)
	one.Created, one.LastSeen, one.Expires = one.Created.UTC(), one.LastSeen.UTC(), one.Expires.UTC()
	return one, err
}

// EndSession ends a session; [access.ErrNoSuch] where there is none.
func (s *Store) EndSession(ctx context.Context, id uuid.UUID, e access.Event) error {
	return s.withEvent(ctx, e, `UPDATE session SET ended = $2 WHERE id = $1 AND ended IS NULL`, id, e.Time)
}

// Installation is what tells this installation from others; its instances share it.
func (s *Store) Installation(ctx context.Context) (id uuid.UUID, err error) {
	err = s.pool.QueryRow(ctx, `SELECT id FROM installation`).Scan(&id)
	return id, away(err)
}

// EverSignedIn says whether a session was ever opened.
func (s *Store) EverSignedIn(ctx context.Context) (ever bool, err error) {
	err = s.pool.QueryRow(ctx, `SELECT signed_in FROM installation`).Scan(&ever)
	return ever, away(err)
}

const insertEvent = `INSERT INTO audit_log (id, time, what, actor, detail) VALUES ($1, $2, $3, $4, $5)`

// AddEvent writes a line of the audit log.
func (s *Store) AddEvent(ctx context.Context, e access.Event) error {
	_, err := s.pool.Exec(ctx, insertEvent, e.ID, e.Time, e.What, e.Actor, e.Detail)
	return away(err)
}

// NoteConfiguration writes a line into the audit log where the configuration
// is another than the last time, by its checksum.
func (s *Store) NoteConfiguration(ctx context.Context, e access.Event) error {
	_, err := s.pool.Exec(ctx, `WITH changed AS (UPDATE installation SET configuration = $5 WHERE configuration <> $5 RETURNING true)
		INSERT INTO audit_log (id, time, what, actor, detail) SELECT $1, $2, $3, $4, $5 FROM changed`, e.ID, e.Time, e.What, e.Actor, e.Detail)
	return away(err)
}

// Events lists the audit log, the newest first, older than before where that
// is an id.
func (s *Store) Events(ctx context.Context, before uuid.UUID, limit int) ([]access.Event, error) {
	rows, _ := s.pool.Query(ctx, `SELECT id, time, what, actor, detail FROM audit_log
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
		if _, err = tx.Exec(ctx, insertEvent, e.ID, e.Time, e.What, e.Actor, e.Detail); err != nil {
			return err
		}
		return topics.Tell(ctx, tx, topics.Keys) // of sessions too, which comes to the same
	})
	if errors.Is(err, access.ErrNoSuch) {
		return err
	}
	return away(err)
}
