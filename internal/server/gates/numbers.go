package gates

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"eastporch/api"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// Refusals counts what the gates of a site refused from one time to another, by quarters of an hour. Requests
// that a proxy or an application asked about are counted where there are any, else reported visits.
func (b *Rulebook) Refusals(ctx context.Context, site *sites.Site, from, to time.Time, reference string) (api.GateRefusals, error) {
	answer := api.GateRefusals{From: from.UTC(), To: to.UTC(), References: []gate.Refused{}}
	if err := b.opt.Counter.Flush(ctx); err != nil {
		return answer, err
	}
	counts, err := b.opt.Store.Counts(ctx, site.Host, from, to)
	if err != nil {
		return answer, err
	}
	of, _ := hits(counts)
	missing, countries, rules, paths := tally{}, tally{}, tally{}, tally{}
	for k, n := range counts {
		if k.Asked != of {
			continue
		}
		switch k.Outcome {
		case string(gate.Refuse):
			answer.Refused += n
		case gate.WouldRefuse:
			answer.WouldRefuse += n
		default:
			answer.Admitted += n
		}
		if k.Missing != "" {
			missing.add(k.Missing+" "+k.Outcome, absenceOf(k.Missing)+": "+k.Outcome, n)
		}
		if k.Outcome == string(gate.Admit) {
			continue
		}
		countries.add(k.CountryCode, countryName(k.CountryCode), n)
		rules.add(fmt.Sprintf("%s/%d/%s", k.Gate, k.Rule, k.By), ruleName(&k), n)
		paths.add(k.Path, pathName(k.Path), n)
	}
	answer.Missing, answer.Countries, answer.Rules, answer.Paths = missing.sorted(), countries.sorted(), rules.sorted(), paths.sorted()
	if reference != "" {
		found, err := b.opt.Store.Refused(ctx, site.Host, reference)
		if err != nil {
			return answer, err
		}
		answer.References = append(answer.References, found...)
	}
	return answer, nil
}

// tally adds up by key.
type tally map[string]*api.GateCounted

func (t tally) add(key, name string, n int64) {
	if t[key] == nil {
		t[key] = &api.GateCounted{Key: key, Name: name}
	}
	t[key].Requests += n
}

func (t tally) sorted() []api.GateCounted {
	list := []api.GateCounted{}
	for _, one := range t {
		list = append(list, *one)
	}
	slices.SortFunc(list, func(a, b api.GateCounted) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), cmp.Compare(a.Key, b.Key))
	})
	return list
}

func countryName(code string) string {
	if c, ok := almanac.ByCode(code); ok {
		return c.Name
	}
	return "location not known"
}

func absenceOf(word string) string {
	return map[string]string{"unknown": "location not known", "skipped": "address skipped", "not_found": "visitor not found", "no_data": "no range data"}[word]
}

func pathName(path string) string {
	if path == "\x02" || path == "" {
		return "other paths"
	}
	return path
}

func ruleName(k *gate.CountKey) string {
	if k.Rule > 0 {
		return fmt.Sprintf("%s, rule %d", k.Gate, k.Rule)
	}
	return k.Gate + ", its end"
}

// What is an alarm.
const (
	leastRefusals = 20  // in an hour; fewer are chance
	jump          = 3.0 // times what is usual
	leastRequests = 20
	risen         = 0.10 // of all requests, more than usual
)

// Alarms says whether refusals, or requests without a location, have jumped: the last hour is held against
// the hours of the week before.
func (b *Rulebook) Alarms(ctx context.Context, site string) ([]gate.Alarm, error) {
	now := b.opt.Now()
	last, err := b.opt.Store.Counts(ctx, site, now.Add(-time.Hour).Truncate(15*time.Minute), now)
	if err != nil {
		return nil, err
	}
	before, err := b.opt.Store.Counts(ctx, site, now.AddDate(0, 0, -7), now.Add(-time.Hour).Truncate(15*time.Minute))
	if err != nil {
		return nil, err
	}
	alarms := []gate.Alarm{}
	recent, usual := sum(last), sum(before)
	const hours = 7*24 - 1
	if mean := float64(usual.refused) / hours; recent.refused >= leastRefusals && float64(recent.refused) > jump*max(mean, 1) {
		alarms = append(alarms, gate.Alarm{
			Kind: "refusals", Now: float64(recent.refused), Usual: mean,
			Text: fmt.Sprintf("%d requests were refused in the last hour, about %.0f in a usual one.", recent.refused, mean),
		})
	}
	if recent.all >= leastRequests {
		share, was := float64(recent.missing)/float64(recent.all), 0.0
		if usual.all > 0 {
			was = float64(usual.missing) / float64(usual.all)
		}
		if share > was+risen {
			alarms = append(alarms, gate.Alarm{
				Kind: "missing", Now: share, Usual: was,
				Text: fmt.Sprintf("%.0f%% of the requests of the last hour were decided without a location, usually %.0f%%.", 100*share, 100*was),
			})
		}
	}
	return alarms, nil
}

type sums struct{ all, refused, missing int64 }

func sum(counts map[gate.CountKey]int64) (s sums) {
	of, _ := hits(counts)
	for k, n := range counts {
		if k.Asked != of {
			continue
		}
		s.all += n
		if k.Outcome == string(gate.Refuse) {
			s.refused += n
		}
		if k.Missing != "" {
			s.missing += n
		}
	}
	return s
}

// mostSimulated bounds how many visits are decided about again.
const mostSimulated = 200_000

// Simulate decides again about the stored visits of the last days, by rules (or where they are nil, by the
// draft) and by those in force.
func (b *Rulebook) Simulate(ctx context.Context, site *sites.Site, req api.GateSimulationRequest) (api.GateSimulation, error) {
	begun := b.opt.Now()
	answer := api.GateSimulation{To: begun.UTC(), Notes: []string{}}
	docs := b.opt.Documents.Set()
	live, err := Rules(docs, site.Host)
	if err != nil {
		return answer, err
	}
	rules := req.Rules
	if rules == nil {
		draft, err := Draft(docs, site.Host)
		if err != nil {
			return answer, err
		}
		if rules = &live.Rules; draft != nil {
			rules = &draft.Rules
		}
	}
	clean, findings := gate.Check(*rules, b.opt.Known, true, begun)
	if f, bad := gate.Wrong(findings); bad {
		return answer, field(f)
	}
	zone, err := time.LoadLocation(site.TimeZone)
	if err != nil {
		return answer, err
	}
	days := cmp.Or(req.Days, 7)
	y, m, d := begun.In(zone).Date()
	from := time.Date(y, m, d-days+1, 0, 0, 0, 0, zone)
	answer.From = from.UTC()
	s := newSimulation(gate.New(clean, b.opt.Known), gate.New(live.Rules, b.opt.Known), zone)
	for day := range days {
		date := time.Date(y, m, d-days+1+day, 0, 0, 0, 0, zone)
		s.days.at(date.Format(time.DateOnly), date.Format("Mon"))
	}
	if answer.Read, err = b.opt.Store.EachPast(ctx, site.Host, from, begun, mostSimulated, s.add); err != nil {
		return answer, err
	}
	answer.Partial = answer.Read == mostSimulated
	s.into(&answer)
	if site.Privacy != visit.Whole && clean.AsksAddresses() {
		answer.Notes = append(answer.Notes, "Addresses of this site are not kept whole, so that rules by prefix or kind of address may decide otherwise.")
	}
	counts, err := b.opt.Store.Counts(ctx, site.Host, from, begun)
	answer.RefusedRequests = sum(counts).refused
	if answer.RefusedRequests > 0 {
		answer.Notes = append(answer.Notes, "Requests that were refused are no visits, so they are not among these.")
	}
	answer.TookMs = float64(b.opt.Now().Sub(begun).Microseconds()) / 1000
	return answer, err
}

// A simulation decides about stored visits twice.
type simulation struct {
	draft, live      *gate.Set
	zone             *time.Location
	total, missing   api.GateSimulated
	changed, leftOut int
	countries, paths byKey
	days             byKey
}

type byKey map[string]*api.GateSimulated

func (b byKey) at(key, name string) *api.GateSimulated {
	if b[key] == nil {
		b[key] = &api.GateSimulated{Key: key, Name: name}
	}
	return b[key]
}

func newSimulation(draft, live *gate.Set, zone *time.Location) *simulation {
	return &simulation{draft: draft, live: live, zone: zone, countries: byKey{}, paths: byKey{}, days: byKey{}}
}

func (s *simulation) add(p *gate.Past) {
	if !p.Counted {
		s.leftOut++
		return
	}
	sub, req := p.Subject(), gate.Request{Target: gate.ReadPath(p.Path), Time: p.Time}
	draft, live := s.draft.Decide(&sub, &req), s.live.Decide(&sub, &req)
	refusedByDraft, refusedByLive := draft.Refused || draft.Would, live.Refused || live.Would
	if refusedByDraft != refusedByLive {
		s.changed++
	}
	day := p.Time.In(s.zone)
	into := []*api.GateSimulated{&s.total, s.days.at(day.Format(time.DateOnly), day.Format("Mon"))}
	if sub.Country == nil {
		into = append(into, &s.missing)
	} else {
		into = append(into, s.countries.at(sub.Country.Code, sub.Country.Name))
	}
	if len(s.paths) < mostSimulated/10 || s.paths[p.Path] != nil {
		into = append(into, s.paths.at(p.Path, p.Path))
	}
	for _, one := range into {
		one.Visits++
		if refusedByDraft {
			one.Draft++
		}
		if refusedByLive {
			one.Live++
		}
	}
}

// listed bounds the paths of an answer; what is beyond stands together in the last row. There are only so many
// countries.
const listed = 50

func (s *simulation) into(a *api.GateSimulation) {
	a.Visits, a.Draft, a.Live, a.Changed, a.LeftOut, a.Missing = s.total.Visits, s.total.Draft, s.total.Live, s.changed, s.leftOut, s.missing
	a.Missing.Name = "location not known"
	a.Countries, a.Paths = s.countries.refused(), s.paths.refused()
	if rest := len(a.Paths) - listed; rest > 1 {
		others := api.GateSimulated{Name: fmt.Sprintf("%d other paths", rest)}
		for _, one := range a.Paths[listed:] {
			others.Visits, others.Draft, others.Live = others.Visits+one.Visits, others.Draft+one.Draft, others.Live+one.Live
		}
		a.Paths = append(a.Paths[:listed], others)
	}
	a.Days = []api.GateSimulated{}
	for _, day := range slices.Sorted(maps.Keys(s.days)) {
		a.Days = append(a.Days, *s.days[day])
	}
}

// refused lists what either refuses anything of, the most first.
func (b byKey) refused() []api.GateSimulated {
	list := []api.GateSimulated{}
	for _, one := range b {
		if one.Draft+one.Live > 0 {
			list = append(list, *one)
		}
	}
	slices.SortFunc(list, func(a, b api.GateSimulated) int {
		return cmp.Or(cmp.Compare(max(b.Draft, b.Live), max(a.Draft, a.Live)), cmp.Compare(a.Key, b.Key))
	})
	return list
}
