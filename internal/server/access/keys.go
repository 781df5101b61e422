package access

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"log/slog"
	"reflect"
	"slices"
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

	ring atomic.Pointer[Ring]
	take func(*Ring) error // is told of another ring; nil for nobody
	uses sync.Map          // id -> *atomic.Int64, which were not written down yet

	mu sync.Mutex // one renewal at a time
}

// A Ring is all keys that are in force at one time. It never changes.
type Ring struct {
	list []Key
	by   map[string]*known // by start
}

// known is a key in a ring, with the count of its uses.
type known struct {
	Key
	next *known // another with the same start
	uses *atomic.Int64
}

const (
	// countEvery is how often uses are written down, where there are any, and a database that is away is asked again.
	countEvery = time.Second
	// lastCount bounds how long the uses are written down at the end.
	lastCount = time.Second
)

// NewKeys reads the keys once; [Keys.Run] keeps them fresh.
func NewKeys(ctx context.Context, store keyStore, log *slog.Logger, now func() time.Time) (*Keys, error) {
	k := &Keys{store: store, log: log, now: now}
	k.ring.Store(&Ring{})
	return k, k.Renew(ctx)
}

// Use has take put another ring into use, whenever there is one from now on. It is not called at the same time as anything
// else.
func (k *Keys) Use(take func(*Ring) error) { k.take = take }

// Ring gives the newest ring.
func (k *Keys) Ring() *Ring { return k.ring.Load() }

// Run reads the keys anew whenever some have changed, and writes uses down, until ctx ends. While the database is away the
// ring of before stands.
func (k *Keys) Run(ctx context.Context, changed func() <-chan struct{}) error {
	tick := time.NewTicker(countEvery)
	defer tick.Stop()
	for away, next := false, changed(); ; {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastCount)
			defer cancel()
			_ = k.Count(last) // what was used since; a database that is away has been told of
			return nil
		case <-next:
			next = changed()
			away = k.tried(ctx, away, k.Renew(ctx))
		case <-tick.C:
			if err := k.Count(ctx); err != nil || !away {
				away = k.tried(ctx, away, err)
			} else {
				away = k.tried(ctx, away, k.Renew(ctx))
			}
		}
	}
}

func (k *Keys) tried(ctx context.Context, before bool, err error) (away bool) {
	if away = err != nil; away != before && ctx.Err() == nil {
		k.log.Warn("keys cannot be renewed, or can again", "away", away, "error", err)
	}
	return away
}

// Count writes down the uses.
func (k *Keys) Count(ctx context.Context) error {
	uses := map[uuid.UUID]int64{}
	k.uses.Range(func(id, value any) bool {
		if n := value.(*atomic.Int64).Swap(0); n > 0 {
			uses[id.(uuid.UUID)] = n
		}
		return true
	})
	if len(uses) == 0 {
		return nil
	}
	err := k.store.CountKeyUses(ctx, uses, k.now())
	if err != nil {
		for id, n := range uses {
			k.usesOf(id).Add(n)
		}
	}
	return err
}

func (k *Keys) usesOf(id uuid.UUID) *atomic.Int64 {
	value, _ := k.uses.LoadOrStore(id, new(atomic.Int64))
	return value.(*atomic.Int64)
}

// Renew reads the keys anew, and puts them into use where they have changed.
func (k *Keys) Renew(ctx context.Context) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	keys, err := k.store.Keys(ctx)
	if err != nil {
		return err
	}
	fresh := &Ring{by: make(map[string]*known, len(keys))}
	for _, key := range keys {
		if key.Revoked == nil {
			fresh.by[key.Start] = &known{Key: key, next: fresh.by[key.Start], uses: k.usesOf(key.ID)}
			key.Uses, key.LastUsed = 0, nil
			fresh.list = append(fresh.list, key)
		}
	}
	if before := k.ring.Load(); reflect.DeepEqual(before.list, fresh.list) {
		return nil
	}
	k.ring.Store(fresh)
	if k.take != nil {
		return k.take(fresh)
	}
	return nil
}

// Check finds the key of a secret and counts the use. The error is [ErrNoKey]
// for "" and [ErrBadKey] for whatever is not a key in force; it says no more.
func (k *Ring) Check(secret string) (*Key, error) {
	if secret == "" {
		return nil, ErrNoKey
	}
	if len(secret) > 200 || !strings.HasPrefix(secret, secretStart) {
		return nil, ErrBadKey
	}
	hash := sha256.Sum256([]byte(secret))
	for one := k.by[startOf(secret)]; one != nil; one = one.next {
		if subtle.ConstantTimeCompare(one.Hash[:], hash[:]) == 1 {
			one.uses.Add(1)
			return &one.Key, nil
		}
	}
	return nil, ErrBadKey
}

// InForce says whether a key is in force, without counting a use.
func (k *Ring) InForce(id uuid.UUID) bool {
	return slices.ContainsFunc(k.list, func(one Key) bool { return one.ID == id })
}

// Any says whether there is a key in force with a scope.
func (k *Ring) Any(scope Scope) bool {
	return slices.ContainsFunc(k.list, func(one Key) bool { return one.Scope == scope })
}

// List lists all keys, revoked ones too, the newest first.
func (k *Keys) List(ctx context.Context) ([]Key, error) {
	if err := k.Count(ctx); err != nil { // so that uses are up to date
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
// that it ended. Other instances feel it within a second, or ten where nothing tells them.
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
