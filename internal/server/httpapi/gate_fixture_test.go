package httpapi

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/rehearsals"
)

// gateRows are the tables of gates in memory.
type gateRows struct {
	lock     sync.Mutex
	counts   map[gate.CountKey]int64
	refusals []gate.Refused
	used     map[string]bool
	ended    bool // the session that made a pass
	past     []gate.Past
}

func (r *gateRows) AddCounts(_ context.Context, counts map[gate.CountKey]int64, refusals []gate.Refused) error {
	r.lock.Lock()
	defer r.lock.Unlock()
	if r.counts == nil {
		r.counts = map[gate.CountKey]int64{}
	}
	for k, n := range counts {
		r.counts[k] += n
	}
	r.refusals = append(r.refusals, refusals...)
	return nil
}

func (r *gateRows) Counts(_ context.Context, site string, from, to time.Time) (map[gate.CountKey]int64, error) {
	found := map[gate.CountKey]int64{}
	for k, n := range r.counts {
		if k.Site == site && !k.Slot.Before(from.Truncate(15*time.Minute)) && k.Slot.Before(to) {
			k.Slot = time.Time{}
			found[k] += n
		}
	}
	return found, nil
}

func (r *gateRows) Refused(_ context.Context, _, reference string) (list []gate.Refused, err error) {
	for _, f := range r.refusals {
		if f.Reference == reference {
			list = append(list, f)
		}
	}
	return list, nil
}

func (r *gateRows) UseOnce(_ context.Context, number string, _ time.Time) (bool, error) {
	r.lock.Lock()
	defer r.lock.Unlock()
	if r.used == nil {
		r.used = map[string]bool{}
	}
	before := r.used[number]
	r.used[number] = true
	return !before, nil
}

func (r *gateRows) EachPast(_ context.Context, _ string, from, to time.Time, _ int, do func(*gate.Past)) (read int, err error) {
	for i := range r.past {
		if p := r.past[i]; !p.Time.Before(from) && p.Time.Before(to) {
			read++
			do(&p)
		}
	}
	return read, nil
}

func (r *gateRows) InForce(context.Context, uuid.UUID) (bool, error) { return !r.ended, nil }

// gateNames are what rules may name in the tests.
var gateNames = gate.Known{Groups: almanac.Groups{}, Labels: func(l string) bool { return l == "office" }}

// gates makes what the API asks about gates.
func (m *memory) gates(cards *card.Pipeline, docs *documents.Documents, edition func() *atlas.Atlas, now func() time.Time) gates.Services {
	secret := []byte("a secret of the tests")
	counter, signer := gates.NewCounter(&m.rules, &m.rules, secret, slog.New(slog.DiscardHandler), now), rehearsals.NewSigner(&m.rules, secret, now)
	return gates.Services{
		Counter: counter, Signer: signer, Rules: gates.NewRulebook(gates.Options{Store: &m.rules, Documents: docs, Counter: counter, Known: gateNames, Now: now}),
		Rehearsals: rehearsals.New(rehearsals.Options{Cards: cards, Edition: edition, Signer: signer, Now: now, Gates: rehearsals.Gates{Refer: counter.Refer, Compile: func(_ context.Context, site string, rules *gate.Rules) (*gate.Set, error) {
			draft, err := gates.Draft(docs.Set(), site)
			if rules == nil && (draft == nil || err != nil) {
				return nil, err
			}
			if rules == nil {
				rules = &draft.Rules
			}
			return gate.New(*rules, gateNames), nil
		}}}),
	}
}
