package httpapi

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/server/gateapi"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/rehearsals"
	"eastporch/internal/server/sites"
)

// gateRows are the tables of gates in memory.
type gateRows struct {
	lock     sync.Mutex
	list     []gate.Revision
	draft    *gate.Draft
	counts   map[gate.CountKey]int64
	refusals []gate.Refused
	used     map[string]bool
	ended    bool // the session that made a pass
	past     []gate.Past
}

func (r *gateRows) Revision(_ context.Context, _ string, n int64) (gate.Revision, error) {
	switch {
	case n == 0 && len(r.list) == 0:
		return gate.Revision{Rules: gate.Rules{Gates: []gate.Gate{}}, Changes: []string{}}, nil
	case n == 0:
		return r.list[len(r.list)-1], nil
	case int(n) > len(r.list):
		return gate.Revision{}, gate.ErrNoRevision
	}
	return r.list[n-1], nil
}

func (r *gateRows) History(context.Context, string, int64, int) ([]gate.Revision, error) {
	newest := slices.Clone(r.list)
	slices.Reverse(newest)
	return newest, nil
}

func (r *gateRows) Save(_ context.Context, _ string, rev gate.Revision) error {
	r.list, r.draft = append(r.list, rev), nil
	return nil
}

func (r *gateRows) Draft(context.Context, string) (*gate.Draft, error) { return r.draft, nil }

func (r *gateRows) SaveDraft(_ context.Context, _ string, d gate.Draft) error {
	r.draft = &d
	return nil
}

func (r *gateRows) DropDraft(context.Context, string) error {
	r.draft = nil
	return nil
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

// gates makes what the API asks about gates.
func (m *memory) gates(cards *card.Pipeline, known *sites.Sites, edition func() *atlas.Atlas, now func() time.Time) gateapi.Gates {
	secret, names := []byte("a secret of the tests"), gate.Known{Groups: almanac.Groups{}, Labels: func(l string) bool { return l == "office" }}
	counter, signer := gates.NewCounter(&m.rules, &m.rules, secret, slog.New(slog.DiscardHandler), now), rehearsals.NewSigner(&m.rules, secret, now)
	local := known.All()[0].Local
	return gateapi.Gates{
		Counter: counter, Signer: signer,
		Rules: gates.NewRulebook(gates.Options{Store: &m.rules, Counter: counter, Known: names, Now: now, Apply: func(ctx context.Context) error {
			rev, err := m.rules.Revision(ctx, "", 0)
			local.UseGates(gate.New(rev.Rules, names))
			return err
		}}),
		Rehearsals: rehearsals.New(rehearsals.Options{Cards: cards, Edition: edition, Signer: signer, Now: now, Gates: rehearsals.Gates{Refer: counter.Refer, Compile: func(_ context.Context, _ string, rules *gate.Rules) (*gate.Set, error) {
			if rules == nil && m.rules.draft == nil {
				return nil, nil
			}
			if rules == nil {
				rules = &m.rules.draft.Rules
			}
			return gate.New(*rules, names), nil
		}}}),
	}
}
