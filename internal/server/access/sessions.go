package access

import (
	"context"
	"crypto/sha256"
	"errors"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"
)

// How long things last.
const (
	SessionIdle     = 30 * time.Minute
	SessionAbsolute = 12 * time.Hour
	linkLasts       = time.Hour
)

// TheService names what the service does by itself.
const TheService = "the service"

// fresh is how long a session that was read is believed without reading again.
const fresh = time.Second

// sessionStore is what sessions need of the database.
type sessionStore interface {
	AddLink(ctx context.Context, hash [sha256.Size]byte, expires time.Time, e Event) error
	// UseLink spends a link and says who made it; [ErrBadLink] where it is not good any
	// more.
	UseLink(ctx context.Context, hash [sha256.Size]byte, now time.Time) (maker string, err error)
	AddSession(ctx context.Context, s Session, hash [sha256.Size]byte, e Event) error
	// SessionOf reads a session and notes that it was seen; [ErrBadSession]
	// where it has ended or was idle since before idleSince.
	SessionOf(ctx context.Context, hash [sha256.Size]byte, now, idleSince time.Time) (Session, error)
	Sessions(ctx context.Context, now, idleSince time.Time) ([]Session, error)
	// SessionInForce says whether a session has not ended, without noting that it was seen.
	SessionInForce(ctx context.Context, id uuid.UUID, now, idleSince time.Time) (bool, error)
	EndSession(ctx context.Context, id uuid.UUID, e Event) error
	AddEvent(ctx context.Context, e Event) error
	EverSignedIn(ctx context.Context) (bool, error)
}

// Sessions knows the console's sessions. It is safe for concurrent use.
type Sessions struct {
	store sessionStore
	now   func() time.Time

	seen      *lru.Cache[[sha256.Size]byte, remembered]
	forgotten atomic.Uint64 // how often all were
}

type remembered struct {
	Session
	until time.Time
	at    uint64 // what forgotten was before it was read: what was read before all were forgotten is not believed after
}

const maxSeen = 1000 // sessions that are remembered

// NewSessions makes the sessions of a store.
func NewSessions(store sessionStore, now func() time.Time) *Sessions {
	seen, err := lru.New[[sha256.Size]byte, remembered](maxSeen)
	if err != nil {
		panic("access: " + err.Error()) // the size is above 0
	}
	return &Sessions{store: store, now: now, seen: seen}
}

// Link makes the secret of a one-time link that opens a session within an hour.
func (s *Sessions) Link(ctx context.Context) (string, error) {
	secret, hash := newSecret("once")
	event, err := NewEvent(s.now(), "link made", TheService, "opens one session within an hour")
	if err != nil {
		return "", err
	}
	return secret, s.store.AddLink(ctx, hash, s.now().Add(linkLasts), event)
}

// EverSignedIn says whether anybody ever opened a session here.
func (s *Sessions) EverSignedIn(ctx context.Context) (bool, error) {
	return s.store.EverSignedIn(ctx)
}

// OpenWithLink spends a one-time link and opens a session; [ErrBadLink] where
// the link is not good.
func (s *Sessions) OpenWithLink(ctx context.Context, link, agent string) (Session, string, error) {
	if len(link) > 200 {
		return Session{}, "", ErrBadLink
	}
	maker, err := s.store.UseLink(ctx, sha256.Sum256([]byte(link)), s.now())
	if err != nil {
		return Session{}, "", err
	}
	return s.open(ctx, nil, "link made by "+maker, agent)
}

// Open opens a session by a key, with which it ends, and gives the secret of its cookie.
func (s *Sessions) Open(ctx context.Context, key *Key, agent string) (Session, string, error) {
	return s.open(ctx, &key.ID, "key "+key.Name, agent)
}

func (s *Sessions) open(ctx context.Context, key *uuid.UUID, how, agent string) (Session, string, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return Session{}, "", err
	}
	now := s.now().UTC().Truncate(time.Millisecond)
	one := Session{ID: id, Created: now, LastSeen: now, Expires: now.Add(SessionAbsolute), How: how, UserAgent: agent, Key: key}
	secret, hash := newSecret("session")
	event, err := NewEvent(now, "signed in", how, agent)
	if err == nil {
		err = s.store.AddSession(ctx, one, hash, event)
	}
	return one, secret, err
}

// Check finds the session of a cookie. It asks the database at most once a
// second for each; [ErrBadSession] where it has ended.
func (s *Sessions) Check(ctx context.Context, secret string) (Session, error) {
	if len(secret) > 200 {
		return Session{}, ErrBadSession
	}
	hash, now := sha256.Sum256([]byte(secret)), s.now()
	before := s.forgotten.Load()
	if one, ok := s.seen.Get(hash); ok && now.Before(one.until) && one.at == before {
		return one.Session, nil
	}
	found, err := s.store.SessionOf(ctx, hash, now, now.Add(-SessionIdle))
	if err != nil {
		s.seen.Remove(hash)
		return Session{}, err
	}
	s.seen.Add(hash, remembered{found, now.Add(fresh), before})
	return found, nil
}

// List lists the sessions in force, the newest first.
func (s *Sessions) List(ctx context.Context) ([]Session, error) {
	return s.store.Sessions(ctx, s.now(), s.now().Add(-SessionIdle))
}

// InForce says whether a session has not ended; being asked does not prolong it.
func (s *Sessions) InForce(ctx context.Context, id uuid.UUID) (bool, error) {
	return s.store.SessionInForce(ctx, id, s.now(), s.now().Add(-SessionIdle))
}

// End ends a session; [ErrNoSuch] where there is none.
func (s *Sessions) End(ctx context.Context, id uuid.UUID, actor string) error {
	event, err := NewEvent(s.now(), "signed out", actor, id.String())
	if err == nil {
		err = s.store.EndSession(ctx, id, event)
	}
	s.Forget()
	return err
}

// Forget has every session asked for anew, as after a key was revoked.
func (s *Sessions) Forget() {
	s.forgotten.Add(1)
	s.seen.Purge()
}

// Failed records an attempt to sign in that failed.
func (s *Sessions) Failed(ctx context.Context, from string, reason error) error {
	event, err := NewEvent(s.now(), "sign-in failed", from, reason.Error())
	return errors.Join(err, s.store.AddEvent(ctx, event))
}
