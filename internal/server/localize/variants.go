package localize

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/variant"
	"eastporch/internal/server/sites"
)

// Errors of changing variants.
var (
	ErrConfigured = errors.New("the configuration has the variants")
	ErrNoSet      = errors.New("there are no variants with this name")
)

// variantStore keeps the content variants that are made in the console.
type variantStore interface {
	VariantSets(ctx context.Context) (map[string][]variant.Set, error)
	SaveVariantSet(ctx context.Context, site string, set variant.Set, by string, at time.Time) error
	DropVariantSet(ctx context.Context, site, name string) (ok bool, err error)
}

// Variants keeps content variants. It is safe for concurrent use.
type Variants struct {
	Store  variantStore
	Known  variant.Known // the names that rules may use
	Areas  []string      // the owner's areas, to choose from
	Labels []string
	// Categories gives those of a site's companions; nil: rules may name any.
	Categories func(site string) []string
	// Revary puts the stored variants into use after they changed.
	Revary func(context.Context) error
	Now    func() time.Time
}

// Origins of a set of variants.
const (
	fromConfiguration = "configuration"
	fromConsole       = "console"
)

// List gives the variants of a site, and what rules may be made of.
func (s *Variants) List(ctx context.Context, site *sites.Site) (api.Variants, error) {
	stored, err := s.Store.VariantSets(ctx)
	if err != nil {
		return api.Variants{}, err
	}
	answer := api.Variants{
		Site: site.Host, Sets: []api.SiteVariants{}, Groups: s.Known.Groups.Names(),
		Areas: append([]string{}, s.Areas...), Labels: append([]string{}, s.Labels...),
		Languages: append([]string{}, site.Local.Languages.Offered()...), DefaultLanguage: site.Local.Languages.Default(),
		Currency: plain.Optional(site.Local.Currency), BusinessHours: site.Local.Hours.String(),
	}
	add := func(sets []variant.Set, from string) {
		for _, set := range sets {
			answer.Sets = append(answer.Sets, api.SiteVariants{Name: set.Name, Default: set.Default, Rules: set.Rules, From: from})
		}
	}
	add(site.Sets, fromConfiguration)
	add(stored[site.Host], fromConsole)
	return answer, nil
}

// Save checks a set of variants, keeps it and puts it into use. by is who made it.
func (s *Variants) Save(ctx context.Context, site *sites.Site, set variant.Set, by string) error {
	if set.Rules == nil {
		set.Rules = []variant.Rule{}
	}
	known := s.Known
	if s.Categories != nil {
		known.Categories = s.Categories(site.Host)
	}
	if field, err := set.Check(known); err != nil {
		return invalid.Field(field, strings.TrimPrefix(err.Error(), variant.ErrSet.Error()+": "), "docs/localization.md says what stands here.")
	}
	if err := s.mayChange(ctx, site, set.Name, true); err != nil {
		return err
	}
	if err := s.Store.SaveVariantSet(ctx, site.Host, set, by, s.Now()); err != nil {
		return err
	}
	return s.Revary(ctx)
}

// Drop drops a set of variants. The error wraps [ErrNoSet] or [ErrConfigured].
func (s *Variants) Drop(ctx context.Context, site *sites.Site, name string) error {
	if err := s.mayChange(ctx, site, name, false); err != nil {
		return err
	}
	ok, err := s.Store.DropVariantSet(ctx, site.Host, name)
	if err != nil {
		return err
	}
	if !ok {
		return ErrNoSet
	}
	return s.Revary(ctx)
}

// mayChange refuses sets that the configuration has, and more than there may be.
func (s *Variants) mayChange(ctx context.Context, site *sites.Site, name string, adds bool) error {
	called := func(set variant.Set) bool { return set.Name == name }
	if slices.ContainsFunc(site.Sets, called) {
		return fmt.Errorf("%w %s", ErrConfigured, name)
	}
	stored, err := s.Store.VariantSets(ctx)
	if err == nil && adds && len(stored[site.Host])+len(site.Sets) >= variant.MaxSets && !slices.ContainsFunc(stored[site.Host], called) {
		err = invalid.Field("name", fmt.Sprintf("the site has %d sets already", variant.MaxSets), "Drop one first.")
	}
	return err
}
