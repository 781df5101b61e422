package gate

import (
	"slices"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
)

// Decide decides. Every gate whose path fits is asked, and the first one that refuses refuses; a label,
// a path or a pass that is an exception is asked before all of them.
func (s *Set) Decide(sub *Subject, req *Request) Verdict { return s.decide(sub, req, nil) }

func (s *Set) decide(sub *Subject, req *Request, steps *recorder) Verdict {
	out := Verdict{by: ByNothing, gate: -1, rule: -1}
	if s == nil {
		return out
	}
	for i := range s.gates {
		g := &s.gates[i]
		if !g.path.fits(&req.Target) {
			continue
		}
		if out.by == ByNothing {
			if exempt := s.exempt(sub, req); exempt.by != "" {
				exempt.gate = int16(i)
				if steps != nil {
					steps.add(g.Name, 0, s.exception(&exempt), true)
				}
				return exempt
			}
		}
		v := g.decide(sub, req, steps)
		v.gate = int16(i)
		refuses := v.Refused
		switch {
		case refuses && g.Mode == On:
			return v
		case refuses && !out.Would:
			v.Refused, v.Would = false, true
			out = v
		case out.by == ByNothing:
			out = v
		}
	}
	return out
}

// Stands says whether a gate stands where a request goes that may refuse somebody there.
func (s *Set) Stands(at *Target) bool {
	if s == nil || slices.ContainsFunc(s.rules.Exceptions.Paths, at.Is) {
		return false
	}
	return slices.ContainsFunc(s.gates, func(g compiledGate) bool { return g.Mode == On && g.path.fits(at) })
}

// exempt finds an exception; by is "" where there is none.
func (s *Set) exempt(sub *Subject, req *Request) Verdict {
	if sub.Pass {
		return Verdict{by: ByPass, rule: -1}
	}
	for i, label := range s.rules.Exceptions.Labels {
		if slices.Contains(sub.Labels, label) {
			return Verdict{by: ByException, rule: -1, fact: labelFact, entry: int16(i)}
		}
	}
	for i, path := range s.rules.Exceptions.Paths {
		if req.Target.Is(path) {
			return Verdict{by: ByException, rule: -1, entry: int16(i)}
		}
	}
	return Verdict{}
}

// decide asks the rules of a gate in their order. Refused says what they come to, whatever the mode.
func (g *compiledGate) decide(sub *Subject, req *Request, steps *recorder) Verdict {
	lacked, known := present, len(g.rules)
	if sub.Country != nil && steps == nil {
		known = int(g.byCountry[slot(sub.Country.Code)])
	}
	for n := range g.rules {
		i := n
		if sub.Country != nil && steps == nil { // then rules of countries alone are known
			if i = known; n < len(g.others) {
				i = min(i, int(g.others[n]))
			}
			if i == len(g.rules) {
				break
			}
		}
		r := &g.rules[i]
		if !r.from.IsZero() && req.Time.Before(r.from) || !r.until.IsZero() && !req.Time.Before(r.until) {
			steps.add(g.Name, i+1, "does not hold at this time", false)
			continue
		}
		f, entry, lacks := r.holds(sub)
		switch {
		case f != noFact || r.everybody:
			v := Verdict{Refused: r.does == Refuse, by: ByRule, rule: int16(i), fact: f, entry: entry}
			if steps != nil {
				steps.add(g.Name, i+1, g.held(&v, sub), true)
			}
			return v
		case lacks != present && r.lacking[lacks] != next:
			v := Verdict{Refused: r.lacking[lacks] == string(Refuse), by: ByMissing, rule: int16(i), lacking: lacks}
			steps.add(g.Name, i+1, absenceWords[lacks], true)
			return v
		case lacks != present:
			lacked = lacks
			steps.add(g.Name, i+1, absenceWords[lacks], false)
		case steps != nil:
			steps.add(g.Name, i+1, r.missed(sub), false)
		}
	}
	v := Verdict{Refused: g.end() == Refuse, by: ByList, rule: -1}
	if lacked != present {
		v = Verdict{Refused: g.Gate.Missing.of(lacked) == Refuse, by: ByMissing, rule: -1, lacking: lacked}
	}
	text := "everybody else"
	if lacked != present {
		text = absenceWords[lacked]
	}
	steps.add(g.Name, 0, text, true)
	return v
}

// holds finds what of a subject a rule holds for, and which of the entries; where it is nothing, lacks says
// what was asked for in vain. Where the country is known, a missing AS number, region or point does not
// hold, and is not asked for in vain: what is missing opens no gate that the country closes.
func (r *rule) holds(sub *Subject) (f fact, entry int16, lacks absence) {
	if f, entry, lacks = r.fits(sub); f == noFact && lacks == present && r.vanished {
		lacks = unknown
	}
	return f, entry, lacks
}

func (r *rule) fits(sub *Subject) (f fact, entry int16, lacks absence) {
	for i, label := range r.labels {
		if slices.Contains(sub.Labels, label) {
			return labelFact, int16(i), present
		}
	}
	switch {
	case !sub.Address.IsValid() && len(r.labels)+len(r.prefixes) > 0 || !sub.Address.IsValid() && r.kinds != 0:
		lacks = notFound
	case sub.Address.IsValid():
		if r.kinds != 0 && r.kinds&(1<<addr.KindOf(sub.Address)) != 0 {
			return kindFact, 0, present
		}
		for i, p := range r.prefixes {
			if p.Contains(sub.Address) {
				return prefixFact, int16(i), present
			}
		}
	}
	if !r.places {
		return noFact, 0, lacks
	}
	if len(r.networks) > 0 {
		if slices.Contains(r.networks, sub.ASNumber) && sub.ASNumber != 0 {
			return networkFact, 0, present
		}
		if sub.ASNumber == 0 && lacks == present {
			lacks = sub.absence() // present where the country is known: then the number is no reason to ask for more
		}
	}
	if r.countries == (codes{}) && len(r.regions) == 0 && len(r.areas) == 0 {
		return noFact, 0, lacks
	}
	if why := sub.absence(); why != present {
		return noFact, 0, why
	}
	if r.bases > 0 && !atlas.Basis(sub.Basis).AsGoodAs(atlas.Bases[r.bases-1]) {
		return noFact, 0, unknown
	}
	if r.countries.has(sub.Country.Code) {
		return countryFact, 0, present
	}
	if slices.Contains(r.regions, sub.Region) {
		return regionFact, 0, present
	}
	for i := range r.areas {
		if sub.Point != nil && r.areas[i].Contains(*sub.Point) {
			return areaFact, int16(i), present
		}
	}
	return noFact, 0, lacks
}
