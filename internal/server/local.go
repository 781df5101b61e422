package server

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/card"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/rates"
)

// openLocal makes what each site offers by where visitors are, and reads the rates.
func (s *Server) openLocal(ctx context.Context) error {
	cfg := s.opt.Config
	s.locals = map[string]*card.Local{}
	for _, site := range cfg.Sites {
		languages, err := locale.NewLanguages(site.Languages, site.Default)
		if err != nil {
			return err
		}
		for _, set := range site.Sets() {
			if field, err := set.Check(s.known()); err != nil {
				return fmt.Errorf("site %s, variants %s, %s: %w", site.Host, set.Name, field, err)
			}
		}
		s.locals[site.Host] = &card.Local{Languages: languages, Hours: site.Hours(), Currency: strings.ToUpper(site.Currency), Endings: site.Endings()}
	}
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
		for _, l := range s.locals {
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

// known says which names rules of variants may use.
func (s *Server) known() variant.Known {
	return variant.Known{
		Groups: s.opt.Config.CountryGroups(), Labels: s.opt.Config.KnowsLabel,
		Areas: func(name string) bool {
			return slices.ContainsFunc(s.areas, func(a geo.Area) bool { return a.Name == name })
		},
	}
}

func (s *Server) ratesFailed(err error) {
	s.opt.Log.Warn("the rates were not read; the old ones stand", "error", err)
}

// revary puts the content variants of the configuration and of the console into use.
func (s *Server) revary(ctx context.Context) error {
	s.varying.Lock() // so that an older list never replaces a newer one
	defer s.varying.Unlock()
	stored, err := s.store.VariantSets(ctx)
	if err != nil {
		return err
	}
	for _, site := range s.opt.Config.Sites {
		s.locals[site.Host].UseVariants(variant.New(slices.Concat(site.Sets(), stored[site.Host]), s.opt.Config.CountryGroups(), s.areas))
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
