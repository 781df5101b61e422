package server

import (
	"os"
	"path/filepath"
	"time"

	"eastporch/internal/fetch"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/secrets"
)

// openCompanions makes the service of companions, which the sites' cards ask. What is asked is waited for when
// the service stops.
func (s *Server) openCompanions() {
	cfg := s.opt.Config
	s.companions = companions.New(companions.Options{
		Rows: s.store.Companions(), Documents: s.documents, Running: func(host string) *companions.Site { return s.inUse.Load().companions[host] }, Log: s.opt.Log, Now: time.Now,
		Outside: companions.Outside{
			Out: &fetch.Client{Inside: cfg.Companions.FetchInside, InsideKey: "companions.fetch_inside"}, Inside: cfg.Companions.FetchInside,
			Secrets: s.secrets(),
		},
		Count: func(site, name, outcome string) { s.metrics.Companion(site, name, outcome) },
	})
	s.begin(s.stages.Add("companions", nil), "companions", s.companions.Run)
}

// secrets are those of the installation.
func (s *Server) secrets() secrets.Store {
	dir := filepath.Join(s.opt.Config.DataDir, "secrets")
	if own := s.opt.Config.Secrets; own != "" {
		dir = s.opt.Input.Path(own)
	}
	return secrets.Store{Dir: dir, Environ: os.Environ}
}
