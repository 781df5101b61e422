package server

import (
	"context"
	"slices"
	"time"

	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
	"eastporch/internal/server/lastknown"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/rates"
)

// openLocal reads the rates, and puts the content variants into use.
func (s *Server) openLocal(ctx context.Context) error {
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
		s.exchanging.Lock()
		defer s.exchanging.Unlock()
		for _, l := range s.inUse.Load().locals {
			l.UseRates(read)
		}
	})
	if r.File+r.URL != "" {
		if err := s.rates.Read(ctx); err != nil { // visits and places do not wait for money
			s.ratesFailed(err)
		}
	}
	return s.revary(ctx)
}

func (s *Server) ratesFailed(err error) {
	s.opt.Log.Warn("the rates were not read; the old ones stand", "error", err)
}

// revary puts the content variants of the configuration and of the console into use.
func (s *Server) revary(ctx context.Context) error {
	s.exchanging.Lock() // so that an older list never replaces a newer one
	defer s.exchanging.Unlock()
	return s.fillVariants(ctx, s.inUse.Load())
}

// fillVariants puts the content variants into settings, while exchanging is held.
func (s *Server) fillVariants(ctx context.Context, set *settings) error {
	stored, err := lastknown.Read(s.copy, "variants", func() (map[string][]variant.Set, error) { return s.store.VariantSets(ctx) })
	if err != nil {
		return err
	}
	for _, site := range set.cfg.Sites {
		set.locals[site.Host].UseVariants(variant.New(slices.Concat(site.Sets(), stored[site.Host]), set.cfg.CountryGroups(), set.areas))
	}
	return nil
}

// revaryEvery is how soon variants that were changed at another service are used here.
const revaryEvery = 5 * time.Second

// watchVariants looks for changed variants until ctx ends.
func (s *Server) watchVariants(ctx context.Context) error {
	return lifecycle.Every(ctx, revaryEvery, func() {
		if err := s.revary(ctx); err != nil && ctx.Err() == nil {
			s.opt.Log.Debug("content variants were not looked at", "error", err)
		}
	})
}
