package server

import (
	"context"
	"time"

	"eastporch/internal/core/locale"
	"eastporch/internal/server/rates"
)

// openRates reads the exchange rates.
func (s *Server) openRates(ctx context.Context) {
	cfg := s.opt.Config
	r := rates.Options{
		URL: cfg.Rates.URL, Source: cfg.Rates.Source, Dir: cfg.DataDir, Inside: cfg.Rates.FetchInside,
		StaleDays: cfg.Rates.StaleDays,
	}
	if cfg.Rates.File != "" {
		r.File = s.opt.Input.Path(cfg.Rates.File)
	}
	if r.Source == "" {
		r.Source = cfg.Rates.URL + cfg.Rates.File
	}
	s.rates = rates.New(r, time.Now, func(read locale.Rates) {
		if err := s.exchange(func(next *parts) { next.rates = read }); err != nil {
			s.ratesFailed(err)
		}
	})
	if r.File+r.URL != "" {
		if err := s.rates.Read(ctx); err != nil { // visits and places do not wait for money
			s.ratesFailed(err)
		}
	}
}

func (s *Server) ratesFailed(err error) {
	s.opt.Log.Warn("the rates were not read; the old ones stand", "error", err)
}
