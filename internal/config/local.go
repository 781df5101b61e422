package config

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/variant"
)

// Origin is where visitors reach the site, such as https://heronlake.example.
func (s Site) Origin() string {
	if s.URL == "" {
		return "https://" + s.Host
	}
	return strings.TrimSuffix(s.URL, "/")
}

// Sets gives the site's variants in the words of the core.
func (s Site) Sets() []variant.Set {
	sets := make([]variant.Set, len(s.Variants))
	for i, v := range s.Variants {
		sets[i] = variant.Set{Name: v.Name, Default: v.Default, Rules: []variant.Rule{}}
		for _, r := range v.Rules {
			sets[i].Rules = append(sets[i].Rules, variant.Rule{Variant: r.Variant, When: variant.When{
				Countries: r.Countries, Groups: r.Groups, Languages: r.Languages, Labels: r.Labels, Areas: r.Areas, Categories: r.Categories, Basis: r.Basis,
			}})
		}
	}
	return sets
}

// Hours gives the site's business hours; check has made sure that they are some.
func (s Site) Hours() locale.Hours {
	if s.BusinessHours == "" {
		return locale.UsualHours
	}
	h, _ := locale.ParseHours(s.BusinessHours)
	return h
}

// Endings gives how the site's prices end; check has made sure that they do.
func (s Site) Endings() map[string]locale.Ending {
	endings := map[string]locale.Ending{}
	for currency, text := range s.PriceEndings {
		endings[strings.ToUpper(currency)], _ = locale.ParseEnding(text)
	}
	return endings
}

// CountryGroups gives the common groups and the owner's; check has made sure of them.
func (c *Config) CountryGroups() almanac.Groups {
	groups, _ := almanac.NewGroups(c.Groups)
	return groups
}

// LabelNames lists the labels that addresses may have, of the configuration and of
// sources, ascending.
func (c *Config) LabelNames() []string {
	names := slices.Collect(maps.Keys(c.Labels))
	for _, source := range c.Atlas.Sources {
		if source.Label != "" {
			names = append(names, source.Label)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// KnowsLabel says whether addresses may have a label.
func (c *Config) KnowsLabel(name string) bool { return slices.Contains(c.LabelNames(), name) }

// reason cuts the sentinel that an error of the core begins with.
func reason(err error, sentinel error) string {
	return strings.TrimPrefix(err.Error(), sentinel.Error()+": ")
}

func (l *loader) checkLocal(c *Config) {
	for name, codes := range c.Groups {
		for i, code := range codes {
			if err := almanac.CheckCode(code); err != nil {
				l.problem(fmt.Sprintf("groups.%s.%d", name, i), err.Error(), "Give two capital letters.")
			}
		}
	}
	if len(l.problems) == 0 {
		if _, err := almanac.NewGroups(c.Groups); err != nil {
			l.problem("groups", err.Error(), "Name it otherwise.")
		}
	}
	for key, text := range map[string]string{"notices.public_url": c.Notices.PublicURL, "notices.console_url": c.Notices.ConsoleURL} {
		if u, err := url.Parse(text); text != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "" || u.Fragment != "" || u.User != nil) {
			l.problem(key, fmt.Sprintf("%.80q is not where something is reached", text), "Write it like https://porch.heronlake.example.")
		}
	}
	if c.Rates.File != "" && c.Rates.URL != "" {
		l.problem("rates", "a file and an url are both given", "Give one of them.")
	}
	if u := c.Rates.URL; u != "" && !strings.HasPrefix(u, "http://") && !strings.HasPrefix(u, "https://") {
		l.problem("rates.url", "this is no address of HTTP", "Begin it with https:// or http://.")
	}
	if r := c.Rates.Refresh; r < time.Minute || r > 30*24*time.Hour {
		l.problem("rates.refresh", fmt.Sprintf("%s is not a time between two readings", r), "Give 1m to 720h.")
	}
	if n := c.Rates.StaleDays; n < 1 || n > 3650 {
		l.problem("rates.stale_days", fmt.Sprintf("%d days are no age of rates", n), "Give 1 to 3650.")
	}
	if d := c.Handover.CookieLasts; d < time.Minute || d > 24*time.Hour {
		l.problem("handover.cookie_lasts", fmt.Sprintf("%s is not a time for a short-lived cookie", d), "Give 1m to 24h.")
	}
	for i, s := range c.Sites {
		l.checkSite(fmt.Sprintf("sites.%d", i), s, variant.Known{Groups: c.CountryGroups(), Labels: c.KnowsLabel})
	}
}

func (l *loader) checkSite(key string, s Site, known variant.Known) {
	for i, tag := range s.Languages {
		if _, err := locale.NewLanguages([]string{tag}, ""); err != nil {
			l.problem(fmt.Sprintf("%s.languages.%d", key, i), err.Error(), "Write it as BCP 47 has it: a language, then perhaps a script and a country.")
		}
	}
	if _, err := locale.NewLanguages(s.Languages, s.Default); err != nil && len(l.problems) == 0 {
		l.problem(key+".default_language", err.Error(), "Give one of the site's languages.")
	}
	if s.Currency != "" {
		if _, err := locale.ParseCurrency(s.Currency); err != nil {
			l.problem(key+".currency", reason(err, locale.ErrAmount), "Give three letters, such as EUR.")
		}
	}
	for currency, ending := range s.PriceEndings {
		at := key + ".price_endings." + currency
		if _, err := locale.ParseCurrency(currency); err != nil {
			l.problem(at, reason(err, locale.ErrAmount), "Give three letters, such as EUR.")
		}
		if _, err := locale.ParseEnding(ending); err != nil {
			l.problem(at, reason(err, locale.ErrAmount), "Write an x and the digits that prices end in.")
		}
	}
	if u, err := url.Parse(s.URL); s.URL != "" && (err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "") {
		l.problem(key+".url", fmt.Sprintf("%.80q is not where a site is", s.URL), "Write it like https://heronlake.example, without a path.")
	}
	for i, host := range s.LinkHosts {
		if u, err := url.Parse("https://" + host); err != nil || u.Host != host || u.Port() != "" || host == "" || strings.ContainsAny(host, "*@/") {
			l.problem(fmt.Sprintf("%s.link_hosts.%d", key, i), fmt.Sprintf("%.80q is not a host name", host), "Write one like tickets.example, without a port or a path.")
		}
	}
	if s.BusinessHours != "" {
		if _, err := locale.ParseHours(s.BusinessHours); err != nil {
			l.problem(key+".business_hours", reason(err, locale.ErrHours)+" are no business hours", "Write them like 09:00-17:00.")
		}
	}
	names := map[string]bool{}
	for i, set := range s.Sets() {
		at := fmt.Sprintf("%s.variants.%d", key, i)
		if field, err := set.Check(known); err != nil {
			l.problem(at+"."+strings.Replace(field, ".when.", ".", 1), reason(err, variant.ErrSet), "See docs/localization.md for what stands here.")
		}
		if names[set.Name] {
			l.problem(at+".name", fmt.Sprintf("two sets are called %q", set.Name), "Give each its own name.")
		}
		names[set.Name] = true
	}
}

// Places are where visits count whose addresses are skipped, by the placeholders of the rules. The
// error is of the first rule whose place is none.
func (c *Config) Places() (map[string]*atlas.LookupResult, error) {
	places, said := map[string]*atlas.LookupResult{}, map[string]RulePlace{}
	for i, r := range c.Policy {
		if r.Place == (RulePlace{}) {
			continue
		}
		if before, ok := said[r.Placeholder]; ok && before != r.Place {
			return nil, fmt.Errorf("policy.%d.place: the placeholder %q stands for another place in a rule before", i, r.Placeholder)
		}
		found, err := source.Said(source.Correction{CountryCode: plain.Optional(r.Place.CountryCode), RegionCode: plain.Optional(r.Place.RegionCode), City: plain.Optional(r.Place.City)}, "the policy")
		if err != nil {
			return nil, fmt.Errorf("policy.%d.place.%w", i, err)
		}
		places[r.Placeholder], said[r.Placeholder] = found, r.Place
	}
	return places, nil
}
