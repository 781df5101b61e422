package gate

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wrong checks one gate, and gives what was found as "severity field: text".
func wrong(t *testing.T, edit func(*Rules)) []string {
	t.Helper()
	rules := Rules{Gates: []Gate{{Name: "a", Path: "/early/**", Mode: On, List: Allow, Missing: refuseAll, Rules: []Rule{{Countries: []string{"PT"}}}}}}
	edit(&rules)
	_, findings := Check(rules, known(t), false, now)
	said := []string{}
	for _, f := range findings {
		require.NotEmpty(t, f.Hint)
		said = append(said, f.Severity+" "+f.Field+": "+f.Text)
	}
	return said
}

func TestWhatIsWrongIsSaid(t *testing.T) {
	rule := func(r Rule) func(*Rules) { return func(rules *Rules) { rules.Gates[0].Rules[0] = r } }
	after := func(list ...Rule) func(*Rules) {
		return func(rules *Rules) { rules.Gates[0].Rules = append(rules.Gates[0].Rules, list...) }
	}
	gate := func(edit func(*Gate)) func(*Rules) { return func(rules *Rules) { edit(&rules.Gates[0]) } }
	winter := Rule{Countries: []string{"NO"}, From: "2026-12-01T00:00", Until: "2026-12-31T00:00", TimeZone: "Europe/Zurich"}
	for name, c := range map[string]struct {
		edit func(*Rules)
		want string // the beginning of the first finding; "" for none
	}{
		"nothing":               {func(*Rules) {}, ""},
		"a name and lower case": {rule(Rule{Countries: []string{"portugal", "no", "che"}}), ""},
		"UK":                    {rule(Rule{Countries: []string{"UK"}}), `error gates.0.rules.0.countries.0: "UK" is not a country code: did you mean GB?`},
		"no country":            {rule(Rule{Countries: []string{"PT", "Atlantis"}}), `error gates.0.rules.0.countries.1: "Atlantis" is not a country code of ISO 3166-1`},
		"no region":             {rule(Rule{Regions: []string{"UK-LND"}}), `error gates.0.rules.0.regions.0: "UK-LND" is not a region: "UK" is not a country code: did you mean GB?`},
		"a parted region":       {rule(Rule{Regions: []string{"np-1"}}), `error gates.0.rules.0.regions.0: NP-1 is no region code of ISO 3166-2 any more: it was parted among NP-P2, NP-P3`},
		"no group":              {rule(Rule{Groups: []string{"nordics"}}), `error gates.0.rules.0.groups.0: "nordics" is not a group; known are`},
		"no label":              {rule(Rule{Labels: []string{"ofice"}}), `error gates.0.rules.0.labels.0: "ofice" is not a label of yours`},
		"no area":               {rule(Rule{Areas: []string{"east"}}), `error gates.0.rules.0.areas.0: "east" is not an area of yours`},
		"an area that crosses":  {rule(Rule{Areas: []string{"bow tie"}}), "error gates.0.rules.0.areas.0: the outline of the area bow tie crosses itself near"},
		"over the date line":    {rule(Rule{Areas: []string{"date line"}}), ""},
		"no kind":               {rule(Rule{Kinds: []string{"privat"}}), `error gates.0.rules.0.kinds.0: "privat" is not a kind of address`},
		"no network":            {rule(Rule{Networks: []string{"198.18.3.0/33"}}), "error gates.0.rules.0.networks.0:"},
		"every network":         {rule(Rule{Networks: []string{"0.0.0.0/0"}}), "error gates.0.rules.0.networks.0: 0.0.0.0/0 is everybody"},
		"no basis":              {rule(Rule{Countries: []string{"PT"}, Basis: "rumour"}), `error gates.0.rules.0.basis: "rumour" is not a basis`},
		"no zone":               {rule(Rule{From: "2026-11-14T07:00"}), `error gates.0.rules.0.from: "2026-11-14T07:00" has no time zone`},
		"a time that is not":    {rule(Rule{From: "2027-03-28T02:30", TimeZone: "Europe/Zurich"}), `error gates.0.rules.0.from: "2027-03-28T02:30" does not exist in Europe/Zurich`},
		"no time":               {rule(Rule{From: "Saturday", TimeZone: "Europe/Zurich"}), `error gates.0.rules.0.from: "Saturday" is not a time`},
		"until before from":     {rule(Rule{From: "2026-11-15T07:00", Until: "2026-11-14T07:00", TimeZone: "UTC"}), "error gates.0.rules.0.until: it is not after from, so the rule never holds"},
		"over":                  {rule(Rule{Until: "2026-11-14T07:00", TimeZone: "UTC"}), "warning gates.0.rules.0.until: it ended on 2026-11-14T07:00:00Z"},
		"a choice":              {rule(Rule{Countries: []string{"PT"}, Missing: map[string]string{"unknown": "maybe"}}), `error gates.0.rules.0.missing.unknown: "maybe" is none of its words`},
		"an empty allow list":   {gate(func(g *Gate) { g.Rules = nil }), "error gates.0.rules: this allow list admits nobody, so it would refuse everybody"},
		"one that only refuses": {rule(Rule{Do: "refuse", Countries: []string{"PT"}}), "error gates.0.rules: this allow list admits nobody, so it would refuse everybody"},
		"an empty deny list":    {gate(func(g *Gate) { g.Rules, g.List = nil, Deny }), "warning gates.0.rules: this deny list refuses nobody"},
		"nothing chosen":        {gate(func(g *Gate) { g.Missing.NoData = "" }), "error gates.0.missing.no_data: what happens where there is no range data must be chosen"},
		"no mode":               {gate(func(g *Gate) { g.Mode = "live" }), `error gates.0.mode: "live" is not a mode`},
		"no list":               {gate(func(g *Gate) { g.List = "allow list" }), `error gates.0.list: "allow list" is not a kind of list`},
		"no path":               {gate(func(g *Gate) { g.Path = "early" }), `error gates.0.path: "early" does not begin with /`},
		"a path with dots":      {gate(func(g *Gate) { g.Path = "/a/../b" }), `error gates.0.path: "/a/../b" has dot segments or double slashes`},
		"a star in a segment":   {gate(func(g *Gate) { g.Path = "/ear*/x" }), `error gates.0.path: "/ear*/x" has a * inside a segment`},
		"stars before the end":  {gate(func(g *Gate) { g.Path = "/**/x" }), `error gates.0.path: "/**/x" has a * inside a segment`},
		"a status":              {gate(func(g *Gate) { g.Refusal = &Refusal{Status: 200} }), "error gates.0.refusal.status: 200 is not a status of a refusal"},
		"a contact":             {gate(func(g *Gate) { g.Refusal = &Refusal{Contact: "javascript:alert(1)"} }), "error gates.0.refusal.contact:"},
		"another host":          {gate(func(g *Gate) { g.Refusal = &Refusal{Elsewhere: "//elsewhere.example"} }), "error gates.0.refusal.elsewhere:"},
		"a language":            {gate(func(g *Gate) { g.Refusal = &Refusal{Texts: map[string]string{"Portuguese language": "Não"}} }), "error gates.0.refusal.texts:"},
		"a path as exception":   {func(r *Rules) { r.Exceptions.Paths = []string{"/health/**"} }, "error exceptions.paths.0: an exception is one exact path"},
		"one of many spellings": {func(r *Rules) { r.Exceptions.Paths = []string{"/health%7a"} }, `error exceptions.paths.0: "/health%7a" can be read in several ways`},
		"two of one name":       {func(r *Rules) { r.Gates = append(r.Gates, r.Gates[0]) }, `error gates.1.name: two gates are called "a"`},
		"a rule never reached":  {after(Rule{Do: "refuse", Countries: []string{"PT"}}), "warning gates.0.rules.1: rule 2 never decides: rule 1 decides it already"},
		"a part of one":         {after(Rule{Regions: []string{"PT-11"}}), "warning gates.0.rules.1: rule 2 never decides"},
		"of two":                {after(Rule{Countries: []string{"NO"}}, Rule{Do: "refuse", Groups: []string{"rowers"}}), ""}, // a group is told apart by one rule only
		"everybody before":      {after(Rule{}, Rule{Do: "refuse", Countries: []string{"JP"}}), "warning gates.0.rules.2: rule 3 never decides: rule 2 decides it already"},
		"a contradiction":       {after(Rule{Do: "refuse", Countries: []string{"PT", "ES"}}), "warning gates.0.rules.1: rule 1 and rule 2 contradict each other on Portugal: rule 1 decides"},
		"overlapping times": {
			after(winter, Rule{Do: "refuse", Countries: []string{"NO"}, From: "2026-12-24T00:00", Until: "2027-01-06T00:00", TimeZone: "Europe/Zurich"}),
			"warning gates.0.rules.2: rule 2 and rule 3 contradict each other on Norway: rule 2 decides from 2026-12-23T23:00:00Z until 2026-12-30T23:00:00Z",
		},
		"times apart": {after(winter, Rule{Do: "refuse", Countries: []string{"NO"}, From: "2027-01-01T00:00", Until: "2027-01-06T00:00", TimeZone: "Europe/Zurich"}), ""},
		"a stricter basis first": {func(r *Rules) {
			r.Gates[0].Rules[0].Basis = "self-published claim"
			r.Gates[0].Rules = append(r.Gates[0].Rules, Rule{Countries: []string{"PT"}})
		}, ""},
		"ten thousand rules": {gate(func(g *Gate) { g.Rules = slices.Repeat(g.Rules, 10_000) }), "error gates.0.rules: there are 10000 rules, 200 are allowed"},
		"too many entries":   {rule(Rule{Networks: slices.Repeat([]string{"198.18.0.0/24"}, 1001)}), "error gates.0.rules.0.networks: there are 1001 entries, 1000 are allowed"},
		"too many gates":     {func(r *Rules) { r.Gates = slices.Repeat(r.Gates, 51) }, "error gates: there are 51 gates, 50 are allowed"},
	} {
		said := wrong(t, c.edit)
		switch {
		case c.want == "":
			assert.Empty(t, said, name)
		case assert.NotEmpty(t, said, name):
			assert.True(t, strings.HasPrefix(said[0], c.want), "%s: %s", name, said[0])
		}
	}
}

func TestCodesGetTheirOneForm(t *testing.T) {
	clean, findings := Check(Rules{Gates: []Gate{{Name: " a ", Path: "/fr%C3%BCh/**", Mode: On, List: Allow, Missing: refuseAll, Rules: []Rule{
		{Countries: []string{"portugal", "PT", "no", " jpn "}, Regions: []string{"pt-11", "FR-75"}, Networks: []string{"as064500", "198.18.3.0/24", "9.9.9.9"}},
	}}}}, known(t), false, now)
	require.Empty(t, findings)
	assert.Equal(t, "a", clean.Gates[0].Name)
	assert.Equal(t, "/früh/**", clean.Gates[0].Path)
	assert.Equal(t, Rule{Countries: []string{"PT", "NO", "JP"}, Regions: []string{"PT-11", "FR-75C"}, Networks: []string{"AS64500", "198.18.3.0/24", "9.9.9.9/32"}}, clean.Gates[0].Rules[0])
	again, findings := Check(clean, known(t), false, now)
	assert.Empty(t, findings)
	assert.Equal(t, clean, again)
}

// A rule that is said never to decide never does, whoever comes: the model is asked with it and without it.
func TestARuleThatNeverDecidesNeverDoes(t *testing.T) {
	r := newRand(5)
	said := 0
	for range 4000 {
		rules := randomRules(r)
		clean, findings := Check(rules, known(t), true, now)
		for _, f := range findings {
			if !strings.Contains(f.Text, "never decides") {
				continue
			}
			said++
			var g, n int
			_, err := fmt.Sscanf(f.Field, "gates.%d.rules.%d", &g, &n)
			require.NoError(t, err)
			for range 20 {
				sub, at := randomSubject(t, r), now.Add(some1(r, 0, time.Hour, -3*time.Hour))
				if fits, _ := modelRule(clean.Gates[g].Rules[n], &sub, at); !fits {
					continue
				}
				before := slices.ContainsFunc(clean.Gates[g].Rules[:n], func(rule Rule) bool {
					fits, lacks := modelRule(rule, &sub, at)
					choice := rule.Missing[lacks]
					return fits || lacks != "" && choice != "" && choice != "next"
				})
				require.True(t, before, "%s: %+v\n%+v", f.Text, clean.Gates[g].Rules, sub)
			}
		}
	}
	assert.Greater(t, said, 200)
}

// Random rules read back as they were written; NO is Norway, and on is a word.
func TestRulesReadBack(t *testing.T) {
	r := newRand(6)
	for range 500 {
		rules := randomRules(r)
		rules.Gates = append(rules.Gates, Gate{Name: "on", Path: "/", Mode: On, List: Deny, Missing: refuseAll, Rules: []Rule{{Countries: []string{"NO", "ON"}}}, Refusal: &Refusal{Status: 451, Texts: map[string]string{"no": "nei: «\"'# "}}})
		text, err := WriteRules(rules)
		require.NoError(t, err)
		again, err := ReadRules(text)
		require.NoError(t, err, string(text))
		require.Equal(t, fileOf(rules), fileOf(again), string(text))
	}
	plainly, err := ReadRules([]byte("gates:\n- name: a\n  path: /\n  mode: on\n  list: deny\n  missing: {unknown: admit, skipped: admit, not_found: admit, no_data: refuse}\n  rules:\n  - countries: [no, NO, on]\n"))
	require.NoError(t, err)
	assert.Equal(t, Gate{Name: "a", Path: "/", Mode: On, List: Deny, Missing: Missing{Admit, Admit, Admit, Refuse}, Rules: []Rule{{Countries: []string{"no", "NO", "on"}}}}, plainly.Gates[0])
	_, err = ReadRules([]byte("gates:\n- name: a\n  rule: []\n"))
	require.ErrorContains(t, err, "line 3: field rule not found")
	_, err = ReadRules([]byte(strings.Repeat("a", MaxFile+1)))
	require.ErrorIs(t, err, ErrRules)
	fromJSON, err := ReadRules([]byte(`{"exceptions":{"labels":["office"]},"gates":[]}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"office"}, fromJSON.Exceptions.Labels)
}

func TestChangesAreSaid(t *testing.T) {
	base := Rules{Gates: []Gate{{Name: "a", Path: "/a", Mode: On, List: Allow, Missing: refuseAll, Rules: []Rule{{Countries: []string{"PT"}}, {Labels: []string{"office"}}}}}}
	for want, edit := range map[string]func(*Rules){
		"added Japan to rule 1 of a":                                    func(r *Rules) { r.Gates[0].Rules[0].Countries = []string{"PT", "JP"} },
		"removed Portugal from rule 1 of a":                             func(r *Rules) { r.Gates[0].Rules[0].Countries = nil },
		"turned a from on to watch":                                     func(r *Rules) { r.Gates[0].Mode = Watch },
		"made a a deny list":                                            func(r *Rules) { r.Gates[0].List = Deny },
		"moved a from /a to /b":                                         func(r *Rules) { r.Gates[0].Path = "/b" },
		"admit where the location is not known at a, instead of refuse": func(r *Rules) { r.Gates[0].Missing.Unknown = Admit },
		"changed the order of the rules of a":                           func(r *Rules) { slices.Reverse(r.Gates[0].Rules) },
		"added rule 3 to a":                                             func(r *Rules) { r.Gates[0].Rules = append(r.Gates[0].Rules, Rule{Kinds: []string{"private"}}) },
		"removed the gate a":                                            func(r *Rules) { r.Gates = nil },
		"added the gate b at /b, a deny list with 0 rules":              func(r *Rules) { r.Gates = append(r.Gates, Gate{Name: "b", Path: "/b", List: Deny}) },
		"added the label office to the exceptions":                      func(r *Rules) { r.Exceptions.Labels = []string{"office"} },
		"changed what those read whom a refuses":                        func(r *Rules) { r.Gates[0].Refusal = &Refusal{Status: 451} },
		"changed the times of rule 1 of a":                              func(r *Rules) { r.Gates[0].Rules[0].Until = "2026-11-14T07:00" },
		"changed what rule 1 of a does without a location":              func(r *Rules) { r.Gates[0].Rules[0].Missing = map[string]string{"unknown": "admit"} },
	} {
		after := Rules{Gates: []Gate{base.Gates[0]}}
		after.Gates[0].Rules = slices.Clone(base.Gates[0].Rules)
		edit(&after)
		assert.Equal(t, []string{want}, Changes(base, after))
	}
	assert.Empty(t, Changes(base, base))
}
