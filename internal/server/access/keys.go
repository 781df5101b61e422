package access

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
)

// keyStore is what keys need of the database.
type keyStore interface {
	Keys(ctx context.Context) ([]Key, error)
	AddKey(ctx context.Context, k Key, e Event) error
	RenameKey(ctx context.Context, id uuid.UUID, name string, e Event) error
	// RevokeKey ends a key with its sessions; withMade ends the keys that were made with
	// it too. It gives those that it ended.
	RevokeKey(ctx context.Context, id uuid.UUID, withMade bool, e Event) (ended []uuid.UUID, err error)
	// MadeWith lists what is in force and was made with a key.
	MadeWith(ctx context.Context, id uuid.UUID, now, idleSince time.Time) (Made, error)
	CountKeyUses(ctx context.Context, uses map[uuid.UUID]int64, at time.Time) error
}

// Keys knows the keys. It is safe for concurrent use.
type Keys struct {
	store keyStore
	log   *slog.Logger
	now   func() time.Time

	known atomic.Pointer[map[string]*known] // by start

	mu sync.Mutex // one renewal at a time
}

// known is a key in memory, with the uses that were not written down yet.
type known struct {
	Key
	next *known // another with the same start
	uses atomic.Int64
}

// renewal is how often the copy in memory is renewed and uses are written down.
const renewal = time.Second

// lastCount bounds how long the uses are written down at the end.
const lastCount = time.Second

// NewKeys reads the keys once; [Keys.Run] keeps them fresh.
func NewKeys(ctx context.Context, store keyStore, log *slog.Logger, now func() time.Time) (*Keys, error) {
	k := &Keys{store: store, log: log, now: now}
	k.known.Store(&map[string]*known{})
	return k, k.Renew(ctx)
}

// Run renews the copy every second until ctx ends. While the database is away
// the copy of before stands.
func (k *Keys) Run(ctx context.Context) error {
	tick := time.NewTicker(renewal)
	defer tick.Stop()
	for away := false; ; {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastCount)
			defer cancel()
			_ = k.Renew(last) // what was used since; a database that is away has been told of
			return nil
		case <-tick.C:
		}
		err := k.Renew(ctx)
		if (err != nil) != away && ctx.Err() == nil {
			away = err != nil
			k.log.Warn("keys cannot be renewed, or can again", "away", away, "error", err)
		}
	}
}

// Renew writes down the uses and reads the keys anew.
func (k *Keys) Renew(ctx context.Context) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	before := *k.known.Load()
	uses := map[uuid.UUID]int64{}
	for _, first := range before {
		for one := first; one != nil; one = one.next {
			if n := one.uses.Swap(0); n > 0 {
				uses[one.ID] = n
			}
		}
	}
	if len(uses) > 0 {
		if err := k.store.CountKeyUses(ctx, uses, k.now()); err != nil {
			k.giveBack(before, uses)
			return err
		}
	}
	keys, err := k.store.Keys(ctx)
	if err != nil {
		return err
	}
	fresh := make(map[string]*known, len(keys))
	for _, key := range keys {
		if key.Revoked == nil {
			fresh[key.Start] = &known{Key: key, next: fresh[key.Start]}
		}
	}
	k.known.Store(&fresh)
	return nil
}

func (k *Keys) giveBack(known map[string]*known, uses map[uuid.UUID]int64) {
	for _, first := range known {
		for one := first; one != nil; one = one.next {
			one.uses.Add(uses[one.ID])
		}
	}
}

// Check finds the key of a secret and counts the use. The error is [ErrNoKey]
// for "" and [ErrBadKey] for whatever is not a key in force; it says no more.
func (k *Keys) Check(secret string) (*Key, error) {
	if secret == "" {
		return nil, ErrNoKey
	}
	if len(secret) > 200 || !strings.HasPrefix(secret, secretStart) {
		return nil, ErrBadKey
	}
	hash := sha256.Sum256([]byte(secret))
	for one := (*k.known.Load())[startOf(secret)]; one != nil; one = one.next {
		if subtle.ConstantTimeCompare(one.Hash[:], hash[:]) == 1 {
			one.uses.Add(1)
			return &one.Key, nil
		}
	}
	return nil, ErrBadKey
}

// InForce says whether a key is in force, without counting a use.
func (k *Keys) InForce(id uuid.UUID) bool {
	for _, first := range *k.known.Load() {
		for one := first; one != nil; one = one.next {
			if one.ID == id {
				return true
			}
		}
	}
	return false
}

// Any says whether there is a key in force with a scope.
func (k *Keys) Any(scope Scope) bool {
	for _, first := range *k.known.Load() {
		for one := first; one != nil; one = one.next {
			if one.Scope == scope {
				return true
			}
		}
	}
	return false
}

// List lists all keys, revoked ones too, the newest first.
func (k *Keys) List(ctx context.Context) ([]Key, error) {
	if err := k.Renew(ctx); err != nil { // so that uses are up to date
		return nil, err
	}
	return k.store.Keys(ctx)
}

// Create makes a key and gives its secret, which is not kept. Name, scope,
// sites and origins must have been checked, and the key names its maker; [ErrBadKey]
// where that one's own key was revoked meanwhile.
func (k *Keys) Create(ctx context.Context, key Key) (Key, string, error) {
	all, err := k.store.Keys(ctx)
	if err != nil {
		return Key{}, "", err
	}
	if len(all) >= maxKeys {
		return Key{}, "", fmt.Errorf("there are %d keys already", maxKeys)
	}
	id, err := uuid.NewV7()
	if err != nil {
		return Key{}, "", err
	}
	secret, hash := newSecret(string(key.Scope))
	key.ID, key.Created, key.Start, key.Hash = id, k.now().UTC().Truncate(time.Millisecond), startOf(secret), hash
	if key.Sites == nil {
		key.Sites = []string{}
	}
	if key.Origins == nil {
		key.Origins = []string{}
	}
	event, err := NewEvent(k.now(), "key created", key.Maker.Name, fmt.Sprintf("%s (%s, %s…)", key.Name, key.Scope, key.Start))
	if err == nil {
		err = k.store.AddKey(ctx, key, event)
	}
	if err != nil {
		return Key{}, "", err
	}
	return key, secret, k.Renew(ctx)
}

// Rename gives a key another name; [ErrNoSuch] where there is none.
func (k *Keys) Rename(ctx context.Context, id uuid.UUID, name, actor string) error {
	event, err := NewEvent(k.now(), "key renamed", actor, name)
	if err != nil {
		return err
	}
	return k.store.RenameKey(ctx, id, name, event)
}

// Revoke ends a key for good, with the sessions that it opened, and on demand the keys
// that were made with it; [ErrNoSuch] where there is none in force. It gives the keys
// that it ended. Other instances feel it within two seconds.
func (k *Keys) Revoke(ctx context.Context, id uuid.UUID, withMade bool, actor string) ([]uuid.UUID, error) {
	event, err := NewEvent(k.now(), "key revoked", actor, id.String())
	if err != nil {
		return nil, err
	}
	ended, err := k.store.RevokeKey(ctx, id, withMade, event)
	if err != nil {
		return nil, err
	}
	return ended, k.Renew(ctx)
}

// MadeWith lists what is in force and was made with a key, directly or by way of others.
func (k *Keys) MadeWith(ctx context.Context, id uuid.UUID) (Made, error) {
	return k.store.MadeWith(ctx, id, k.now(), k.now().Add(-SessionIdle))
}

// NewEvent makes a line of the audit log.
func NewEvent(at time.Time, what, actor, detail string) (Event, error) {
	id, err := uuid.NewV7()
	return Event{ID: id, Time: at.UTC(), What: what, Actor: actor, Detail: detail}, err
}
