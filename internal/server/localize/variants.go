package localize

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"eastporch/api"
	"eastporch/internal/core/document"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/variant"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/sites"
)

// Variants keeps content variants. It is safe for concurrent use.
type Variants struct {
	Documents *documents.Documents
	Known     variant.Known // the names that rules may use
	Areas     []string      // the owner's areas, to choose from
	Labels    []string
	// Categories gives those of a site's companions; nil: rules may name any.
	Categories func(site string) []string
	Sites      *sites.Sites
}

// Kind is how content variants are kept.
func (s *Variants) Kind() documents.Kind {
	return documents.Kind{Word: "variants", None: variant.ErrNoSet, Restore: func(ctx context.Context, key document.Key, body json.RawMessage, by string) error {
		var set variant.Set
		if err := json.Unmarshal(body, &set); err != nil {
			return err
		}
		site, err := s.Sites.Find(key.Site)
		if err == nil {
			err = s.Save(ctx, site, set, by)
		}
		return err
	}}
}

// Stored are the sets of content variants that a site's owner made beside those of the configuration, by name.
func Stored(docs *document.Set, site string) (list []variant.Set, err error) {
	for _, d := range docs.Of(document.Variants, site) {
		set, wrong := document.Read[variant.Set](d)
		if err = errors.Join(err, wrong); wrong == nil {
			list = append(list, set)
		}
	}
	return list, err
}

// Origins of a set of variants.
const (
	fromConfiguration = "configuration"
	fromConsole       = "console"
)

// List gives the variants of a site, and what rules may be made of.
func (s *Variants) List(site *sites.Site) (api.Variants, error) {
	stored, err := Stored(s.Documents.Set(), site.Host)
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
	add(stored, fromConsole)
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
	if err := isConfigured(site, set.Name); err != nil {
		return err
	}
	stored, err := Stored(s.Documents.Set(), site.Host)
	if err == nil && len(stored)+len(site.Sets) >= variant.MaxSets && !slices.ContainsFunc(stored, called(set.Name)) {
		err = invalid.Field("name", fmt.Sprintf("the site has %d sets already", variant.MaxSets), "Drop one first.")
	}
	if err == nil {
		_, err = s.Documents.Save(ctx, key(site, set.Name), set, documents.Saving{By: by})
	}
	return err
}

func key(site *sites.Site, name string) document.Key {
	return document.Key{Site: site.Host, Kind: document.Variants, Name: name}
}

// Drop drops a set of variants. The error wraps [variant.ErrNoSet] or [variant.ErrConfigured].
func (s *Variants) Drop(ctx context.Context, site *sites.Site, name, by string) error {
	if err := isConfigured(site, name); err != nil {
		return err
	}
	return s.Documents.Drop(ctx, key(site, name), by)
}

func called(name string) func(variant.Set) bool {
	return func(set variant.Set) bool { return set.Name == name }
}

// isConfigured refuses sets that the configuration has.
func isConfigured(site *sites.Site, name string) error {
	if slices.ContainsFunc(site.Sets, called(name)) {
		return fmt.Errorf("%w %s", variant.ErrConfigured, name)
	}
	return nil
}
