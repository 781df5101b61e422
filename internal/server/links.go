package server

import (
	"context"
	"sync"
	"time"

	"eastporch/internal/core/link"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/links"
)

// beginClicks makes the service of links, whose clicks are recorded until the listeners have stopped.
func (s *Server) beginClicks() {
	s.links = links.New(links.Options{Rows: copiedLinks{s.store.Links(), s.copy, &sync.Mutex{}, map[string]link.Kept{}}, Counts: s.store, Queue: s.intake, Log: s.opt.Log, Now: time.Now})
	s.begin(s.stages.Add("clicks", nil), "clicks", s.links.Run)
}

// watchLinks keeps the links in memory as they are in the database, and what was counted of them the other
// way, until ctx ends.
func (s *Server) watchLinks(ctx context.Context) error {
	return lifecycle.Every(ctx, links.WatchEvery, func() {
		if err := s.links.Tick(ctx); err != nil && ctx.Err() == nil {
			s.opt.Log.Debug("the links were not looked at", "error", err)
		}
	})
}
