package gate

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
)

// recorder notes what every rule said; a nil one notes nothing.
type recorder []Step

func (r *recorder) add(gate string, rule int, text string, decides bool) {
	if r == nil {
		return
	}
	result := "passes"
	if decides {
		result = "decides"
	}
	*r = append(*r, Step{gate, rule, text, result})
}

// absenceWords say why a location is not known, worded to follow "where".
var absenceWords = [...]string{
	unknown: "the location is not known", skipped: "the address was skipped", notFound: "the visitor was not found", noData: "there is no range data",
}

// Walk is [Set.Decide], with what every rule said until one decided.
func (s *Set) Walk(sub *Subject, req *Request) (Verdict, []Step) {
	steps := recorder{}
	v := s.decide(sub, req, &steps)
	return v, steps
}

// Explain makes a decision of a verdict. Of the evidence it takes what says the fact that decided.
func (s *Set) Explain(v *Verdict, sub *Subject, evidence []atlas.Evidence) Decision {
	d := s.Brief(v)
	if d.Reason = "No gate stands here."; v.gate < 0 {
		return d
	}
	g := &s.gates[v.gate]
	d.Reason = s.reason(v, g, sub)
	if fact, value := s.ground(v, g, sub); fact != "" {
		d.Evidence = append(d.Evidence, grounded(fact, value, evidence))
	}
	return d
}

// Brief is [Set.Explain] without the reason and the evidence, which nobody reads of most decisions.
func (s *Set) Brief(v *Verdict) Decision {
	d := Decision{Outcome: Admit, Mode: Off, By: v.by, Evidence: []Ground{}}
	if v.Refused {
		d.Outcome = Refuse
	}
	if d.Would = d.Outcome; v.Would {
		d.Would = Refuse
	}
	if v.gate < 0 {
		d.By = ByNothing
		return d
	}
	g := &s.gates[v.gate]
	d.Gate, d.Mode = &g.Name, g.Mode
	if v.rule >= 0 {
		n := int(v.rule) + 1
		d.Rule = &n
	}
	if v.lacking != present {
		d.Missing = &Absences[v.lacking-1]
	}
	return d
}

// Public is what a visitor may read of a decision: what becomes of the request, and not by which rule.
func (d Decision) Public() Decision {
	d.Gate, d.Rule, d.Missing, d.Would, d.Evidence, d.Reason = nil, nil, nil, d.Outcome, []Ground{}, "This page is open to you."
	if d.Outcome == Refuse {
		d.Reason = "This page is not open to you."
	}
	return d
}

// Refusal is how a gate refuses, by its name; the usual way where there is none of that name.
func (s *Set) Refusal(name string) (r Refusal) {
	if s != nil {
		for i := range s.rules.Gates {
			if g := &s.rules.Gates[i]; g.Name == name && g.Refusal != nil {
				r = *g.Refusal
			}
		}
	}
	if r.Status == 0 {
		r.Status = 403
	}
	return r
}

func (s *Set) reason(v *Verdict, g *compiledGate, sub *Subject) string {
	does := map[bool]string{true: "refuses", false: "admits"}[v.Refused || v.Would]
	switch v.by {
	case ByPass, ByException:
		return s.exception(v)
	case ByRule:
		return fmt.Sprintf("Rule %d of “%s” %s %s.", v.rule+1, g.Name, does, g.held(v, sub))
	case ByMissing:
		if v.rule >= 0 {
			return fmt.Sprintf("Rule %d of “%s” %s where %s.", v.rule+1, g.Name, does, absenceWords[v.lacking])
		}
		return fmt.Sprintf("“%s” %s where %s.", g.Name, does, absenceWords[v.lacking])
	}
	who := "The visitor"
	if sub.Country != nil {
		who = sub.Country.Name
	}
	return fmt.Sprintf("%s is not on the %s list of “%s”.", who, g.List, g.Name)
}

// exception says which exception holds, in a sentence.
func (s *Set) exception(v *Verdict) string {
	switch {
	case v.by == ByPass:
		return "The browser has an owner's pass."
	case v.fact == labelFact:
		return "The label " + s.rules.Exceptions.Labels[v.entry] + " is always admitted."
	}
	return s.rules.Exceptions.Paths[v.entry] + " is always admitted."
}

// held says whom a rule held for, worded to follow what it does.
func (g *compiledGate) held(v *Verdict, sub *Subject) string {
	r := &g.rules[v.rule]
	switch v.fact {
	case countryFact:
		return "visits from " + sub.Country.Name
	case regionFact:
		name, _ := almanac.Region(sub.Region)
		return "visits from " + name
	case areaFact:
		return "visits from the area " + r.areas[v.entry].Name
	case labelFact:
		return "addresses with the label " + r.labels[v.entry]
	case kindFact:
		return addr.KindOf(sub.Address).String() + " addresses"
	case prefixFact:
		return "addresses of its networks" // which may be narrower than what is kept of an address
	case networkFact:
		return "visits from AS" + strconv.FormatUint(uint64(sub.ASNumber), 10)
	}
	return "everybody"
}

// missed says why a rule does not hold for a subject.
func (r *rule) missed(sub *Subject) string {
	var why []string
	if len(r.labels) > 0 {
		why = append(why, "carries none of its labels")
	}
	if r.kinds != 0 && sub.Address.IsValid() {
		why = append(why, "the address is "+addr.KindOf(sub.Address).String())
	}
	if len(r.prefixes)+len(r.networks) > 0 {
		why = append(why, "is of none of its networks")
	}
	if r.places && sub.Country != nil && (r.countries != codes{} || len(r.regions)+len(r.areas) > 0) {
		why = append(why, sub.Country.Name+" is not among its places")
	}
	if len(why) == 0 {
		return "does not fit"
	}
	return strings.Join(why, ", ")
}

// ground is the fact of a subject that decided; "" for none.
func (s *Set) ground(v *Verdict, g *compiledGate, sub *Subject) (fact, value string) {
	switch v.fact {
	case countryFact:
		return "country_code", sub.Country.Code
	case regionFact:
		return "region_code", sub.Region
	case areaFact:
		return "latitude", strconv.FormatFloat(sub.Point.Latitude, 'f', -1, 64)
	case labelFact:
		if v.by == ByException {
			return "label", s.rules.Exceptions.Labels[v.entry]
		}
		return "label", g.rules[v.rule].labels[v.entry]
	case kindFact:
		return "kind", addr.KindOf(sub.Address).String()
	case networkFact:
		return "as_number", strconv.FormatUint(uint64(sub.ASNumber), 10)
	}
	if v.by == ByList && sub.Country != nil {
		return "country_code", sub.Country.Code
	}
	return "", ""
}

// grounded adds who says a fact.
func grounded(fact, value string, evidence []atlas.Evidence) Ground {
	out := Ground{Fact: fact, Value: value}
	for i := range evidence {
		if e := &evidence[i]; e.Used && slices.Contains(e.Facts, fact) {
			out.Basis, out.Source = (*string)(&e.Basis), &e.Source
			break
		}
	}
	return out
}
