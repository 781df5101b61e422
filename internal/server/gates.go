package server

import (
	"context"
	"crypto/rand"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"time"

	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/gateapi"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/lastknown"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/rehearsals"
)

// openGates makes what signs and counts for gates, and puts the rules into use. The key for rehearsals is
// left beside the others, for the middleware of applications.
func (s *Server) openGates(ctx context.Context) error {
	fresh := make([]byte, 32)
	_, _ = rand.Read(fresh) // which never fails
	rows := s.store.Gates()
	secret, err := lastknown.Read(s.copy, "secret", func() ([]byte, error) { return rows.Secret(ctx, fresh) })
	if err != nil {
		return err
	}
	s.openNotices(secret)
	s.counter, s.signer = gates.NewCounter(rows, s.sessions, secret, s.opt.Log, time.Now), rehearsals.NewSigner(rows, secret, time.Now)
	s.counter.Observe = s.metrics.Decisions
	s.begin(s.stages.Add("counts of the gates", nil), "counts of the gates", s.counter.Run)
	file := filepath.Join(s.opt.Config.DataDir, "keys", "rehearsal.key")
	if err := os.WriteFile(file, rehearsals.Key(secret), 0o600); err != nil {
		return fmt.Errorf("key for rehearsals: %w", err)
	}
	return s.regate(ctx)
}

// regate puts the newest rules into use where others are.
func (s *Server) regate(ctx context.Context) error {
	s.exchanging.Lock()
	defer s.exchanging.Unlock()
	return s.fillGates(ctx, s.inUse.Load())
}

// fillGates puts the newest rules into settings, while exchanging is held.
func (s *Server) fillGates(ctx context.Context, set *settings) error {
	newest, err := s.store.Gates().Newest(ctx)
	if set.ruled != nil && (err != nil || maps.Equal(newest, set.ruled)) {
		return err
	}
	revisions, err := lastknown.Read(s.copy, "gates", func() (map[string]gate.Revision, error) {
		if err != nil {
			return nil, err
		}
		return s.gatesRead(ctx, newest)
	})
	if err != nil {
		return err
	}
	known, ruled := set.gateNames(), map[string]int64{}
	for host, rev := range revisions {
		ruled[host] = rev.Revision
	}
	for host, local := range set.locals {
		rev, has := revisions[host]
		if !has {
			local.UseGates(nil)
			continue
		}
		if _, findings := gate.Check(rev.Rules, known, true, time.Now()); len(findings) > 0 {
			if f, bad := gate.Wrong(findings); bad { // it names what the configuration has no more
				s.opt.Log.Error("a gate's rules need to be mended; who such a rule is about counts as unknown", "site", host, "field", f.Field, "reason", f.Text)
			}
		}
		local.UseGates(gate.New(rev.Rules, known))
	}
	set.ruled = ruled
	return nil
}

// gateNames says which names rules of gates may use.
func (set *settings) gateNames() gate.Known {
	return gate.Known{Groups: set.cfg.CountryGroups(), Areas: set.areas, Labels: set.cfg.KnowsLabel}
}

// regateEvery is how soon rules that were changed at another instance are used here.
const regateEvery = time.Second

// watchGates looks for changed rules until ctx ends.
func (s *Server) watchGates(ctx context.Context) error {
	return lifecycle.Every(ctx, regateEvery, func() {
		if err := s.regate(ctx); err != nil && ctx.Err() == nil {
			s.opt.Log.Debug("the rules of gates were not looked at", "error", err)
		}
	})
}

// gates makes the services of gates and rehearsals.
func (s *Server) gates(set *settings, cards *card.Pipeline, areas []string) gateapi.Gates {
	rows, known := s.store.Gates(), set.gateNames()
	return gateapi.Gates{
		Counter: s.counter, Signer: s.signer,
		Rules: gates.NewRulebook(gates.Options{
			Store: rows, Counter: s.counter, Known: known, Names: gates.Names{Areas: areas, Labels: set.cfg.LabelNames()}, Apply: s.regate, Now: time.Now,
		}),
		Rehearsals: rehearsals.New(rehearsals.Options{
			Cards: cards, Edition: s.shelf.Current, Marker: set.marker(), Signer: s.signer, Now: time.Now,
			Gates: rehearsals.Gates{Refer: s.counter.Refer, Compile: func(ctx context.Context, site string, rules *gate.Rules) (*gate.Set, error) {
				if rules == nil {
					draft, err := rows.Draft(ctx, site)
					if err != nil || draft == nil {
						return nil, err
					}
					rules = &draft.Rules
				}
				clean, findings := gate.Check(*rules, known, true, time.Now())
				if f, bad := gate.Wrong(findings); bad {
					return nil, invalid.Field("rules."+f.Field, f.Text, f.Hint)
				}
				return gate.New(clean, known), nil
			}},
		}),
	}
}

// marker says what marks visits.
func (set *settings) marker() visit.Marker {
	m := set.cfg.Marks
	return visit.Marker{BotAgents: m.BotAgents, BotLabels: m.BotLabels, PreviewAgents: m.PreviewAgents, MonitorAgents: m.MonitorAgents, MonitorLabels: m.MonitorLabels}.Lower()
}
