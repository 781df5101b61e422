package server

import (
	"context"
	"time"

	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/links"
)

// openLinks makes the service of links, whose clicks are recorded until the listeners have stopped.
func (s *Server) openLinks() {
	s.links = links.New(links.Options{
		Rows: s.store.Links(), Documents: s.documents, Running: func() *links.Book { return s.inUse.Load().links }, Counts: s.store, Queue: s.intake, Log: s.opt.Log, Now: time.Now,
	})
	s.begin(s.stages.Add("clicks", nil), "clicks", s.links.Run)
}

// countLinks brings what was counted of links into the database until ctx ends.
func (s *Server) countLinks(ctx context.Context) error {
	return lifecycle.Every(ctx, links.FlushEvery, func() {
		if err := s.links.Flush(ctx); err != nil && ctx.Err() == nil {
			s.opt.Log.Debug("what was counted of links waits", "error", err)
		}
	})
}
