package server

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"eastporch/internal/fetch"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/secrets"
)

// openCompanions makes the service of companions, which the sites' cards ask. What is asked is waited for when
// the service stops.
func (s *Server) openCompanions(ctx context.Context) error {
	cfg := s.opt.Config
	s.companions = companions.New(companions.Options{
		Rows: copiedCompanions{s.store.Companions(), s.copy}, Log: s.opt.Log, Now: time.Now,
		Outside: companions.Outside{
			Out: &fetch.Client{Inside: cfg.Companions.FetchInside, InsideKey: "companions.fetch_inside"}, Inside: cfg.Companions.FetchInside,
			Secrets: s.secrets(),
		},
		Count: func(site, name, outcome string) { s.metrics.Companion(site, name, outcome) },
	})
	for host, local := range s.inUse.Load().locals {
		local.Companions = s.companions.Of(host)
	}
	s.begin(s.stages.Add("companions", nil), "companions", s.companions.Run)
	return s.companions.Read(ctx)
}

// secrets are those of the installation.
func (s *Server) secrets() secrets.Store {
	dir := filepath.Join(s.opt.Config.DataDir, "secrets")
	if own := s.opt.Config.Secrets; own != "" {
		dir = s.opt.Input.Path(own)
	}
	return secrets.Store{Dir: dir, Environ: os.Environ}
}

// watchCompanions keeps the companions in memory as they are in the database, until ctx ends.
func (s *Server) watchCompanions(ctx context.Context) error {
	return lifecycle.Every(ctx, companions.WatchEvery, func() {
		if err := s.companions.Tick(ctx); err != nil && ctx.Err() == nil {
			s.opt.Log.Debug("the companions were not looked at", "error", err)
		}
	})
}
