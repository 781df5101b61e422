package server

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/lastknown"
	"eastporch/internal/server/rehearsals"
)

// openGates makes what signs and counts for gates. The key for rehearsals is left beside the others, for the middleware of
// applications.
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
	return nil
}

// gateNames says which names rules of gates may use.
func (set *settings) gateNames() gate.Known {
	return gate.Known{Groups: set.cfg.CountryGroups(), Areas: set.areas, Labels: set.cfg.KnowsLabel}
}

// gates makes the services of gates and rehearsals.
func (s *Server) gates(set *settings, areas []string) gates.Services {
	rows, known := s.store.Gates(), set.gateNames()
	return gates.Services{
		Counter: s.counter, Signer: s.signer,
		Rules: gates.NewRulebook(gates.Options{
			Store: rows, Documents: s.documents, Counter: s.counter, Known: known, Names: gates.Names{Areas: areas, Labels: set.cfg.LabelNames()}, Now: time.Now,
		}),
		Rehearsals: rehearsals.New(rehearsals.Options{
			Cards: set.cards, Edition: s.shelf.Current, Marker: set.marker(), Signer: s.signer, Now: time.Now,
			Gates: rehearsals.Gates{Refer: s.counter.Refer, Compile: func(_ context.Context, site string, rules *gate.Rules) (*gate.Set, error) {
				if rules == nil {
					draft, err := gates.Draft(s.documents.Set(), site)
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
