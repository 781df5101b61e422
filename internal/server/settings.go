package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/config"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/link"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/refusal"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
	"eastporch/internal/editions"
	"eastporch/internal/files/whole"
	"eastporch/internal/server/problem"
)

// settings is all that follows from the configuration alone. They never change.
type settings struct {
	cfg       *config.Config
	areas     []geo.Area
	languages map[string]*locale.Languages // by the sites' hosts
	sources   []editions.SourceConfig
	labels    map[string][]netip.Prefix
	finder    caller.Finder
	places    map[string]*atlas.LookupResult // of addresses that are skipped, by placeholder
	// refusals are the pages for those whom gates refuse, by the sites' hosts.
	refusals map[string]*refusal.Template
	// missing are the pages for links that there are not, by the sites' hosts.
	missing map[string]*link.Template
	cards   *card.Pipeline
}

// settle makes settings of a configuration, without touching those in use. The error says what of
// it cannot be used.
func (s *Server) settle(cfg *config.Config) (set *settings, err error) {
	set = &settings{cfg: cfg, languages: map[string]*locale.Languages{}, refusals: map[string]*refusal.Template{}, missing: map[string]*link.Template{}}
	set.sources, _ = Sources(cfg, s.opt.Input)
	if set.areas, err = s.readAreas(cfg); err != nil {
		return nil, err
	}
	if set.labels, err = cfg.LabelSets(s.opt.Input); err != nil {
		return nil, err
	}
	if set.finder, err = cfg.Finder(set.labels); err != nil {
		return nil, err
	}
	if set.places, err = cfg.Places(); err != nil {
		return nil, err
	}
	set.cards = &card.Pipeline{
		Finder: set.finder, Policy: addr.NewPolicy(cfg.Rules()...), Labels: addr.NewLabels(set.labels), Translators: cfg.Translators(), Places: set.places, NotFound: cfg.NotFound, Atlas: s,
	}
	for _, site := range cfg.Sites {
		if set.languages[site.Host], err = locale.NewLanguages(site.Languages, site.Default); err != nil {
			return nil, err
		}
		if set.refusals[site.Host], err = page(s, site.RefusalPage, refusal.Standard(), refusal.Parse); err != nil {
			return nil, fmt.Errorf("site %s, refusal_page: %w", site.Host, err)
		}
		if set.missing[site.Host], err = page(s, site.LinkPage, link.Standard(), link.Parse); err != nil {
			return nil, fmt.Errorf("site %s, link_page: %w", site.Host, err)
		}
		for _, variants := range site.Sets() {
			if field, err := variants.Check(set.known()); err != nil {
				return nil, fmt.Errorf("site %s, variants %s, %s: %w", site.Host, variants.Name, field, err)
			}
		}
	}
	return set, nil
}

// known says which names rules of variants may use.
func (set *settings) known() variant.Known {
	return variant.Known{
		Groups: set.cfg.CountryGroups(), Labels: set.cfg.KnowsLabel,
		Areas: func(name string) bool {
			return slices.ContainsFunc(set.areas, func(a geo.Area) bool { return a.Name == name })
		},
	}
}

// whole says whether every site keeps whole addresses.
func (set *settings) whole() bool {
	return !slices.ContainsFunc(set.cfg.Sites, func(site config.Site) bool { return site.PrivacyMode() != visit.Whole })
}

// Reload reads the configuration again and puts into use what a running service can, all of it or
// nothing: requests that run go on as they began, and later ones meet the new settings. A configuration without a
// site or a proxy that there was is put into use with force only.
func (s *Server) Reload(ctx context.Context, force bool) (api.Reloaded, error) {
	s.reloading.Lock()
	defer s.reloading.Unlock()
	next, err := config.Load(s.opt.Input)
	if err != nil {
		return api.Reloaded{}, unusable(err)
	}
	if err := CheckSources(next, s.opt.Input); err != nil {
		return api.Reloaded{}, unusable(err)
	}
	before := s.inUse.Load()
	if drops := before.cfg.Drops(next); len(drops) > 0 && !force {
		return api.Reloaded{}, problem.Of(http.StatusConflict, "reload-drops", "Something would be dropped", plain.UpperFirst(strings.Join(drops, ", "))+" would be dropped.",
			"What ran before goes on. If it is meant, reload with --force (force=1); else mend the configuration.")
	}
	cfg, changed, restart := before.cfg.Reloaded(next)
	answer := api.Reloaded{Changed: append([]string{}, changed...), Restart: append([]string{}, restart...)}
	set, err := s.settle(cfg)
	if err != nil {
		return api.Reloaded{}, unusable(err)
	}
	if err := s.exchange(func(next *parts) { next.settings = set }); err != nil {
		return api.Reloaded{}, err
	}
	if slices.ContainsFunc(changed, func(key string) bool { return key == "proxies" || key == "labels" || key == "sites" }) {
		s.watch.Restart(set.finder, set.whole(), time.Now().UTC())
	}
	if slices.Contains(changed, "atlas") && len(set.sources) > 0 {
		answer.Building = s.rebuild() == nil // one that is built already takes the new sources up at its next turn
	}
	s.opt.Log.Info("the configuration was reloaded", "changed", answer.Changed, "restart", answer.Restart)
	err = errors.Join(s.noteConfiguration(ctx), s.takeOver(ctx))
	if errors.Is(err, visit.ErrAway) { // it is in use all the same
		s.opt.Log.Warn("the reload is not in the audit log", "error", err)
		err = nil
	}
	return answer, err
}

// unusable is the problem of a configuration that is not put into use.
func unusable(err error) error {
	return problem.Of(http.StatusUnprocessableEntity, "unusable-configuration", "Configuration not usable", strings.TrimPrefix(err.Error(), "the configuration is not usable:\n  "),
		"What ran before goes on. Mend it, look with eastporch serve --check, and reload again.")
}

// page reads a template of an owner's, or gives our own where there is none.
func page[T any](s *Server, file string, standard *T, parse func(string) (*T, error)) (*T, error) {
	if file == "" {
		return standard, nil
	}
	text, err := whole.Read(s.opt.Input.Path(file))
	if err != nil {
		return nil, err
	}
	return parse(string(text))
}
