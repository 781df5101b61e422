package gate

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geo"
)

// compiledGate is a gate that is not off.
type compiledGate struct {
	*Gate
	path  pattern
	rules []rule
	// Rules that ask for nothing but a country, at any time, are looked up: by country, the first of them
	// that holds, or else the number of rules. others are the rest.
	byCountry [26 * 26]int16
	others    []int16
}

// rule is a compiled one. What it does not ask for is empty.
type rule struct {
	does      Outcome
	everybody bool
	places    bool // it asks where somebody is
	countries codes
	regions   []string
	areas     []geo.Area
	labels    []string
	kinds     uint64
	prefixes  []netip.Prefix
	networks  []uint32 // AS numbers
	from      time.Time
	until     time.Time
	bases     int       // how many of the best bases are good enough; 0 for any
	lacking   [5]string // by absence: what the rule does
	vanished  bool      // it names a group, an area or a label that is not there any more
}

// codes is a set of country codes.
type codes [26*26/64 + 1]uint64

func slot(code string) int { return int(code[0]-'A')*26 + int(code[1]-'A') }

func (c *codes) add(code string)      { c[slot(code)/64] |= 1 << (slot(code) % 64) }
func (c *codes) has(code string) bool { return c[slot(code)/64]&(1<<(slot(code)%64)) != 0 }

// New compiles rules that [Check] found nothing wrong with when they were saved. A rule that names what is
// not there any more lacks the location of everybody whom the rest of it does not hold for.
func New(rules Rules, known Known) *Set {
	s := &Set{rules: rules}
	for i := range rules.Gates {
		g := &rules.Gates[i]
		if g.Mode == Off {
			continue
		}
		compiled := compiledGate{Gate: g, path: parsePattern(g.Path)}
		for n := range g.Rules {
			compiled.rules = append(compiled.rules, compile(g, &g.Rules[n], known))
		}
		compiled.index()
		s.gates = append(s.gates, compiled)
	}
	return s
}

// index fills byCountry and others.
func (g *compiledGate) index() {
	for i := range g.byCountry {
		g.byCountry[i] = int16(len(g.rules))
	}
	for i := len(g.rules) - 1; i >= 0; i-- {
		r := &g.rules[i]
		if !r.onlyCountries() {
			g.others = append(g.others, int16(i))
			continue
		}
		for n := range g.byCountry {
			if r.countries[n/64]&(1<<(n%64)) != 0 {
				g.byCountry[n] = int16(i)
			}
		}
	}
	slices.Reverse(g.others)
}

// onlyCountries says whether a rule asks for nothing but a country.
func (r *rule) onlyCountries() bool {
	return r.countries != codes{} && r.regions == nil && r.areas == nil && r.labels == nil && r.kinds == 0 && r.prefixes == nil && r.networks == nil &&
		r.from.IsZero() && r.until.IsZero() && r.bases == 0 && !r.vanished
}

// Rules are what the set was made of. The caller must not change them.
func (s *Set) Rules() Rules {
	if s == nil {
		return Rules{}
	}
	return s.rules
}

func compile(g *Gate, r *Rule, known Known) rule {
	c := rule{does: r.outcome(g.List), labels: r.Labels, regions: r.Regions, places: r.places(), everybody: r.empty()}
	for _, code := range r.Countries {
		c.countries.add(code)
	}
	for _, label := range r.Labels {
		c.vanished = c.vanished || known.Labels != nil && !known.Labels(label)
	}
	for _, group := range r.Groups {
		c.vanished = c.vanished || !known.Groups.Known(group)
		for i, all := 0, almanac.All(); i < len(all); i++ {
			if known.Groups.Has(group, &all[i]) {
				c.countries.add(all[i].Code)
			}
		}
	}
	for _, name := range r.Areas {
		before := len(c.areas)
		for _, a := range known.Areas {
			if a.Name == name {
				c.areas = append(c.areas, a)
			}
		}
		c.vanished = c.vanished || len(c.areas) == before
	}
	for _, word := range r.Kinds {
		if kind, ok := addr.ParseKind(word); ok {
			c.kinds |= 1 << kind
		}
	}
	for _, text := range r.Networks {
		if n, ok := asNumber(text); ok {
			c.networks = append(c.networks, n)
		} else if p, err := addr.ParsePrefix(text); err == nil {
			c.prefixes = append(c.prefixes, p)
		}
	}
	c.from, _ = moment(r.From, r.TimeZone)
	c.until, _ = moment(r.Until, r.TimeZone)
	c.bases = slices.Index(atlas.Bases, atlas.Basis(r.Basis)) + 1
	for i, word := range Absences {
		if c.lacking[i+1] = r.Missing[word]; c.lacking[i+1] == "" {
			c.lacking[i+1] = next
		}
	}
	return c
}

// outcome is what a rule does on a list.
func (r *Rule) outcome(list List) Outcome {
	switch {
	case r.Do != "":
		return Outcome(r.Do)
	case list == Allow:
		return Admit
	}
	return Refuse
}

// places says whether a rule asks where somebody is.
func (r *Rule) places() bool {
	return len(r.Countries)+len(r.Groups)+len(r.Regions)+len(r.Areas) > 0 || slices.ContainsFunc(r.Networks, func(text string) bool {
		_, ok := asNumber(text)
		return ok
	})
}

// empty says whether a rule holds for everybody.
func (r *Rule) empty() bool {
	return len(r.Countries)+len(r.Groups)+len(r.Regions)+len(r.Areas)+len(r.Labels)+len(r.Kinds)+len(r.Networks) == 0
}

// end is what a gate does with those whom no rule decides about.
func (g *Gate) end() Outcome {
	if g.List == Allow {
		return Refuse
	}
	return Admit
}

// asNumber reads AS64500.
func asNumber(text string) (n uint32, ok bool) {
	digits, ok := strings.CutPrefix(strings.ToUpper(text), "AS")
	if !ok || digits == "" || len(digits) > 10 {
		return 0, false
	}
	var wide uint64
	for _, c := range []byte(digits) {
		if c < '0' || c > '9' {
			return 0, false
		}
		wide = wide*10 + uint64(c-'0')
	}
	return uint32(wide), wide > 0 && wide <= 1<<32-1
}

// AsksAddresses says whether a rule asks for a prefix or a kind, which is of a whole address.
func (r *Rules) AsksAddresses() bool {
	for i := range r.Gates {
		if slices.ContainsFunc(r.Gates[i].Rules, func(r Rule) bool { return len(r.Kinds)+len(r.Networks) > 0 }) {
			return true
		}
	}
	return false
}
