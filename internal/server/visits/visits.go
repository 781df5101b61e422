// Package visits takes visits in, and does with stored ones what their owner asks for:
// recording, import and export, erasure, quarantine, counting anew and reading again. What it
// refuses is an [invalid.FieldError], or one of the errors of packages access, intake and visit.
package visits

import (
	"context"
	"crypto/sha256"
	"errors"
	"net/netip"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// cards makes the cards of visitors.
type cards interface {
	Visitor(peer netip.Addr, header map[string][]string, req card.RequestContext, now time.Time) (card.Card, caller.Trail)
	Found(trail *caller.Trail, header map[string][]string, req card.RequestContext, now time.Time) card.Card
	Given(a netip.Addr, header map[string][]string, req card.RequestContext, now time.Time) (card.Card, caller.Trail)
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
}

// store keeps visits. Its errors may wrap [visit.ErrAway], [visit.ErrNoVisit] and
// [visit.ErrRefused].
type store interface {
	Oldest(now time.Time) time.Time
	Insert(ctx context.Context, batch []visit.QueuedVisit) (visit.Outcome, error)
	Standing(ctx context.Context, rows []visit.Row) ([]visit.Standing, error)
	VisitsFrom(ctx context.Context, f visit.Filter, after uuid.UUID, limit int) ([]visit.Visit, error)
	Erase(ctx context.Context, e visit.Erasure, now time.Time) (visit.Erased, error)
	Quarantine(ctx context.Context, limit int) ([]visit.SetApart, int, error)
	FromQuarantine(ctx context.Context, id uuid.UUID) (visit.SetApart, error)
	Release(ctx context.Context, id uuid.UUID) (bool, error)
	Days(ctx context.Context, site string, now time.Time) ([]time.Time, error)
	Verify(ctx context.Context, site string, of time.Time, mend bool) ([]visit.CountMismatch, int64, error)
	Kept(ctx context.Context) (visit.Kept, error)
	Reenrich(ctx context.Context, since time.Time, again func(visit.Visit) (card.Card, bool), progress func(seen, changed int)) error
}

// queue takes visits in.
type queue interface {
	Accept(ctx context.Context, visits []visit.QueuedVisit) (index uint64, err error)
	Wait(ctx context.Context, index uint64) error
	State() visit.Queue
}

// privacyKeys leaves of a visit what its site keeps.
type privacyKeys interface {
	Keep(v *visit.Visit, mode visit.Mode, private bool) error
	Hashes(site string, a netip.Addr) ([]string, error)
	NextKey(now time.Time) time.Time
}

// Options says what visits are recorded with. Every field is required but Marker, whose zero
// value marks none.
type Options struct {
	Cards   cards
	Store   store
	Queue   queue
	Privacy privacyKeys
	Sites   *sites.Sites
	Marker  visit.Marker
}

// Visits is the service. It is safe for concurrent use.
type Visits struct {
	Options
	facts  *visit.Encoder
	now    func() time.Time
	nonces *lru.Cache[[sha256.Size]byte, time.Time] // of pages whose clock is wrong
}

// New makes the service. The error says which option is missing.
func New(opt Options, now func() time.Time) (*Visits, error) {
	if opt.Cards == nil || opt.Store == nil || opt.Queue == nil || opt.Privacy == nil || opt.Sites == nil {
		return nil, errors.New("visits: cards, store, queue, privacy and sites are required")
	}
	nonces, err := lru.New[[sha256.Size]byte, time.Time](noncesKept)
	return &Visits{Options: opt, facts: visit.NewEncoder(), now: now, nonces: nonces}, err
}

// With is the same service under other options: what it remembers is one memory.
func (s *Visits) With(opt Options) *Visits {
	return &Visits{Options: opt, facts: s.facts, now: s.now, nonces: s.nonces}
}
