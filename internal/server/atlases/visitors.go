package atlases

import (
	"cmp"
	"context"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"eastporch/api"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/opendata"
	"eastporch/internal/core/plain"
)

// How much an answer about visits has.
const (
	operatorsMost     = 100
	lettersMost       = 20
	disagreementsMost = 100
)

// Visits says how well an edition, "" for the one in use, knows the addresses of the visits of
// the last 30 days.
func (s *Atlases) Visits(ctx context.Context, name string) (api.VisitCoverage, error) {
	edition, err := s.Named(name)
	if err != nil {
		return api.VisitCoverage{}, err
	}
	k := &known{edition: edition, levels: map[levelBasis]int{}, countries: map[string]*api.CountryKnown{}, operators: map[owner]*api.OperatorKnown{}, quarrels: map[quarrel]int{}}
	k.answer = api.VisitCoverage{Edition: edition.Name(), Days: visitDays}
	since := s.Now().AddDate(0, 0, -visitDays)
	if err := s.Store.EachAddress(ctx, since, k.add); err != nil {
		return api.VisitCoverage{}, err
	}
	if k.answer.WithoutAddress, k.answer.Skipped, err = s.Store.WithoutAddress(ctx, since); err != nil {
		return api.VisitCoverage{}, err
	}
	return k.finish(), nil
}

// known gathers what is known of visits.
type known struct {
	edition   *atlas.Atlas
	answer    api.VisitCoverage
	levels    map[levelBasis]int
	countries map[string]*api.CountryKnown
	operators map[owner]*api.OperatorKnown
	quarrels  map[quarrel]int
}

type levelBasis struct {
	level atlas.Level
	basis string
}

type owner struct {
	as       uint32
	operator string
}

type quarrel struct{ span, source, says, against, instead string }

func (k *known) add(address netip.Addr, visits int) {
	found := k.edition.Lookup(address)
	w, basis := &found.Location, plain.Value(found.Location.Basis)
	k.answer.Addresses++
	k.answer.Visits += visits
	k.levels[levelBasis{w.Level, basis}] += visits
	registered := basis == string(atlas.Registration)
	if registered {
		k.answer.ByRegistration += visits
	}
	code := plain.Value(w.CountryCode)
	country := k.countries[code]
	if country == nil {
		country = &api.CountryKnown{CountryCode: plain.Optional(code)}
		k.countries[code] = country
	}
	count(&country.KnownTo, w.Level, registered, visits)
	who := owner{numberOf(found.Network.ASNumber), plain.Value(found.Network.Operator)}
	operator := k.operators[who]
	if operator == nil {
		operator = &api.OperatorKnown{Operator: plain.Optional(who.operator)}
		if who.as != 0 {
			n := int64(who.as)
			operator.ASNumber = &n
		}
		k.operators[who] = operator
	}
	count(&operator.KnownTo, w.Level, registered, visits)
	if who.as != 0 && w.Level != atlas.City && w.Missing["country_code"] != atlas.NotLocated {
		operator.Gain += visits
	}
	for i := range found.Evidence {
		e := &found.Evidence[i]
		if !e.Used && strings.HasPrefix(plain.Value(e.Reason), atlas.Disagrees) {
			first := &found.Evidence[0]
			k.quarrels[quarrel{first.Range.String(), first.Source, says(first), e.Source, says(e)}] += visits
		}
	}
}

// numberOf is an AS number, 0 for none.
func numberOf[N uint32 | int64](n *N) N {
	if n == nil {
		return 0
	}
	return *n
}

func count(k *api.KnownTo, level atlas.Level, registered bool, visits int) {
	k.Visits += visits
	if registered {
		k.ByRegistration += visits
	}
	switch level {
	case atlas.City:
		k.City += visits
	case atlas.Region:
		k.Region += visits
	case atlas.Country:
		k.Country += visits
	default:
		k.Unknown += visits
	}
}

// says writes the place that a claim names.
func says(e *atlas.Evidence) string {
	var parts []string
	for _, fact := range []string{"city", "region_code", "country_code"} {
		if v := e.Values[fact]; v != "" {
			parts = append(parts, v)
		}
	}
	return strings.Join(parts, ", ")
}

func (k *known) finish() api.VisitCoverage {
	a := &k.answer
	a.Levels, a.Countries, a.Operators, a.Disagreements = []api.LevelKnown{}, []api.CountryKnown{}, []api.OperatorKnown{}, []api.Disagreement{}
	for of, visits := range k.levels {
		a.Levels = append(a.Levels, api.LevelKnown{Level: string(of.level), Basis: plain.Optional(of.basis), Visits: visits})
	}
	slices.SortFunc(a.Levels, func(x, y api.LevelKnown) int {
		return cmp.Or(y.Visits-x.Visits, cmp.Compare(x.Level, y.Level), cmp.Compare(plain.Value(x.Basis), plain.Value(y.Basis)))
	})
	for _, code := range slices.Sorted(maps.Keys(k.countries)) {
		a.Countries = append(a.Countries, *k.countries[code])
	}
	slices.SortStableFunc(a.Countries, func(x, y api.CountryKnown) int { return y.Visits - x.Visits })
	for _, o := range k.operators {
		a.Operators = append(a.Operators, *o)
	}
	slices.SortFunc(a.Operators, func(x, y api.OperatorKnown) int {
		return cmp.Or(y.Gain-x.Gain, y.Visits-x.Visits, cmp.Compare(numberOf(x.ASNumber), numberOf(y.ASNumber)), cmp.Compare(plain.Value(x.Operator), plain.Value(y.Operator)))
	})
	a.Operators = a.Operators[:min(len(a.Operators), operatorsMost)]
	for i := range a.Operators[:min(len(a.Operators), lettersMost)] {
		if o := &a.Operators[i]; o.Gain > 0 {
			o.Letter = opendata.Letter(uint32(*o.ASNumber), plain.Value(o.Operator), a.Days, o.Visits, o.Gain)
		}
	}
	for q, visits := range k.quarrels {
		a.Disagreements = append(a.Disagreements, api.Disagreement{Range: q.span, Visits: visits, Source: q.source, Says: q.says, Against: q.against, Instead: q.instead})
	}
	slices.SortFunc(a.Disagreements, func(x, y api.Disagreement) int {
		return cmp.Or(y.Visits-x.Visits, cmp.Compare(x.Range, y.Range), cmp.Compare(x.Against, y.Against), cmp.Compare(x.Instead, y.Instead))
	})
	a.Disagreements = a.Disagreements[:min(len(a.Disagreements), disagreementsMost)]
	return *a
}
