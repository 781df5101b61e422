package gate

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/geo"
)

var now = time.Date(2026, 11, 16, 12, 0, 0, 0, time.UTC)

func known(t testing.TB) Known {
	t.Helper()
	areas, err := geo.ReadAreas([]byte(`{"type":"FeatureCollection","features":[
		{"type":"Feature","properties":{"name":"west"},"geometry":{"type":"Polygon","coordinates":[[[-20,-60],[0,-60],[0,60],[-20,60],[-20,-60]]]}},
		{"type":"Feature","properties":{"name":"bow tie"},"geometry":{"type":"Polygon","coordinates":[[[0,0],[10,10],[10,0],[0,10],[0,0]]]}},
		{"type":"Feature","properties":{"name":"date line"},"geometry":{"type":"Polygon","coordinates":[[[170,-20],[-170,-20],[-170,20],[170,20],[170,-20]]]}}]}`))
	require.NoError(t, err)
	groups, err := almanac.NewGroups(map[string][]string{"rowers": {"PT", "NO"}})
	require.NoError(t, err)
	return Known{Groups: groups, Areas: areas, Labels: func(l string) bool { return l == "office" || l == "monitoring" }}
}

func country(t testing.TB, code string) *almanac.Country {
	t.Helper()
	c, ok := almanac.ByCode(code)
	require.True(t, ok)
	return c
}

// made checks and compiles rules that nothing is wrong with.
func made(t testing.TB, rules Rules) *Set {
	t.Helper()
	clean, findings := Check(rules, known(t), true, now)
	wrong, bad := Wrong(findings)
	require.False(t, bad, wrong)
	return New(clean, known(t))
}

var refuseAll = Missing{Refuse, Refuse, Refuse, Refuse}

// The model: what rules mean, read from the rules as they were written, one question at a time.

func modelRule(r Rule, sub *Subject, at time.Time) (fits bool, lacks string) {
	if r.From != "" {
		zone, _ := time.LoadLocation(r.TimeZone)
		if at.In(zone).Format("2006-01-02T15:04") < r.From {
			return false, ""
		}
	}
	if r.Until != "" {
		zone, _ := time.LoadLocation(r.TimeZone)
		if at.In(zone).Format("2006-01-02T15:04") >= r.Until {
			return false, ""
		}
	}
	found := sub.Address.IsValid()
	entries := 0
	for _, l := range r.Labels {
		entries++
		if slices.Contains(sub.Labels, l) {
			return true, ""
		}
		if !found {
			lacks = "not_found"
		}
	}
	for _, k := range r.Kinds {
		entries++
		if found && k == map[bool]string{true: "private", false: "public"}[sub.Address.IsPrivate()] {
			return true, ""
		}
		if !found {
			lacks = "not_found"
		}
	}
	why := "unknown"
	switch {
	case sub.NoData:
		why = "no_data"
	case sub.Skipped:
		why = "skipped"
	case !found:
		why = "not_found"
	}
	for _, n := range r.Networks {
		entries++
		if strings.HasPrefix(n, "AS") {
			if n == fmt.Sprintf("AS%d", sub.ASNumber) {
				return true, ""
			}
			if sub.ASNumber == 0 && lacks == "" && sub.Country == nil {
				lacks = why
			}
			continue
		}
		if found && netip.MustParsePrefix(n).Contains(sub.Address) {
			return true, ""
		}
		if !found {
			lacks = "not_found"
		}
	}
	places := len(r.Countries) + len(r.Groups) + len(r.Regions) + len(r.Areas)
	if entries+places == 0 {
		return true, ""
	}
	if places == 0 {
		return false, lacks
	}
	if sub.Country == nil {
		return false, why
	}
	order := []string{"", "correction", "self-published claim", "table's claim", "derived", "registration"}
	if r.Basis != "" && slices.Index(order, sub.Basis) > slices.Index(order, r.Basis) {
		return false, "unknown"
	}
	if slices.Contains(r.Countries, sub.Country.Code) || slices.Contains(r.Groups, "rowers") && strings.Contains("PT NO", sub.Country.Code) {
		return true, ""
	}
	for _, region := range r.Regions {
		if region == sub.Region {
			return true, ""
		}
	}
	for range r.Areas { // only west
		if sub.Point != nil && sub.Point.Longitude > -20 && sub.Point.Longitude < 0 {
			return true, ""
		}
	}
	return false, lacks
}

func modelGate(g Gate, sub *Subject, at time.Time) string {
	lacked := ""
	for _, r := range g.Rules {
		does := r.Do
		if does == "" {
			does = map[List]string{Allow: "admit", Deny: "refuse"}[g.List]
		}
		fits, lacks := modelRule(r, sub, at)
		if fits {
			return does
		}
		if lacks != "" {
			if choice := r.Missing[lacks]; choice == "admit" || choice == "refuse" {
				return choice
			}
			lacked = lacks
		}
	}
	if lacked != "" {
		return string(map[string]Outcome{"unknown": g.Missing.Unknown, "skipped": g.Missing.Skipped, "not_found": g.Missing.NotFound, "no_data": g.Missing.NoData}[lacked])
	}
	return map[List]string{Allow: "refuse", Deny: "admit"}[g.List]
}

// model gives what is done, and whether a gate that watches would have refused.
func model(rules Rules, sub *Subject, path string, at time.Time) (refused, would bool) {
	exempt := sub.Pass || slices.Contains(rules.Exceptions.Paths, path)
	for _, l := range rules.Exceptions.Labels {
		exempt = exempt || slices.Contains(sub.Labels, l)
	}
	if exempt {
		return false, false
	}
	for _, g := range rules.Gates {
		stands := g.Path == "/**" || g.Path == path || g.Path == "/early/**" && (path == "/early" || strings.HasPrefix(path, "/early/"))
		if !stands || g.Mode == Off || modelGate(g, sub, at) == "admit" {
			continue
		}
		if g.Mode == On {
			return true, false
		}
		would = true
	}
	return false, would
}

func newRand(seed uint64) *rand.Rand { return rand.New(rand.NewPCG(18, seed)) }

func some1[T any](r *rand.Rand, of ...T) T { return of[r.IntN(len(of))] }

func few(r *rand.Rand, of ...string) (list []string) {
	for _, one := range of {
		if r.IntN(3) == 0 {
			list = append(list, one)
		}
	}
	return list
}

func randomRule(r *rand.Rand) Rule {
	rule := Rule{Do: some1(r, "", "", "admit", "refuse")}
	for range 1 + r.IntN(2) {
		switch r.IntN(8) {
		case 0, 1:
			rule.Countries = few(r, "PT", "ES", "NO", "JP")
		case 2:
			rule.Groups = []string{"rowers"}
		case 3:
			rule.Regions = few(r, "PT-11", "ES-CT")
		case 4:
			rule.Areas = []string{"west"}
		case 5:
			rule.Labels = few(r, "office", "monitoring")
		case 6:
			rule.Kinds = few(r, "private", "public")
		case 7:
			rule.Networks = few(r, "192.0.2.0/24", "9.0.0.0/8", "AS64500")
		}
	}
	if r.IntN(4) == 0 {
		rule.TimeZone, rule.From = "Europe/Zurich", some1(r, "2026-11-16T10:00", "2026-11-16T13:00", "2026-11-16T13:01", "")
		if rule.Until = some1(r, "2026-11-16T13:00", "2026-11-17T00:00"); rule.Until <= rule.From {
			rule.Until = ""
			rule.From = "2026-11-16T13:00"
		}
	}
	if r.IntN(4) == 0 {
		rule.Basis = some1(r, "correction", "self-published claim", "derived", "registration")
	}
	if r.IntN(3) == 0 {
		rule.Missing = map[string]string{some1(r, Absences...): some1(r, "admit", "refuse", "next")}
	}
	return rule
}

func randomRules(r *rand.Rand) Rules {
	rules := Rules{}
	if r.IntN(3) == 0 {
		rules.Exceptions = Exceptions{Labels: few(r, "office"), Paths: few(r, "/healthz", "/early/eights")}
	}
	either := func() Outcome { return some1(r, Admit, Refuse) }
	for i := range r.IntN(4) {
		g := Gate{
			Name: fmt.Sprint(i), Path: some1(r, "/**", "/early/**", "/early/eights", "/healthz"), Mode: some1(r, Off, Watch, On, On), List: some1(r, Allow, Deny),
			Missing: Missing{either(), either(), either(), either()}, Rules: []Rule{},
		}
		for range r.IntN(6) {
			g.Rules = append(g.Rules, randomRule(r))
		}
		rules.Gates = append(rules.Gates, g)
	}
	return rules
}

func randomSubject(t testing.TB, r *rand.Rand) Subject {
	sub := Subject{Address: netip.MustParseAddr(some1(r, "9.9.9.9", "192.0.2.7", "10.0.0.1", "2a00::1")), Labels: few(r, "office", "monitoring"), Pass: r.IntN(12) == 0}
	if sub.Address == netip.MustParseAddr("192.0.2.7") {
		sub.Address = netip.MustParseAddr("9.1.1.1")
	}
	switch r.IntN(6) {
	case 0:
		sub.Address = netip.Addr{}
		sub.Labels = nil
	case 1:
		sub.Skipped = true
	case 2:
		sub.NoData = true
	case 3:
	default:
		sub.Country, sub.Basis = country(t, some1(r, "PT", "ES", "NO", "JP", "CH")), some1(r, "correction", "self-published claim", "table's claim", "derived", "registration")
		sub.ASNumber = some1(r, uint32(0), 64500, 64501)
		switch {
		case sub.Country.Code == "PT" && r.IntN(2) == 0:
			sub.Region = some1(r, "PT-11", "PT-13")
		case sub.Country.Code == "ES" && r.IntN(2) == 0:
			sub.Region = "ES-CT"
		}
		if r.IntN(2) == 0 {
			sub.Point = &geo.Point{Latitude: 10, Longitude: some1(r, -10.0, 10)}
		}
	}
	return sub
}

// Thousands of rules, subjects and times: every decision is the model's, its explanation says the same, and
// its steps end with the one that decided.
func TestDecisionsAreTheModels(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 1))
	outcomes := map[string]int{}
	for n := range 6000 {
		rules := randomRules(r)
		clean, findings := Check(rules, known(t), true, now)
		if wrong, bad := Wrong(findings); bad {
			t.Fatalf("rules %d: %+v\n%+v", n, wrong, rules)
		}
		s := New(clean, known(t))
		for range 12 {
			sub := randomSubject(t, r)
			path, at := some1(r, "/early", "/early/eights", "/healthz", "/programme"), now.Add(some1(r, 0, time.Hour, -3*time.Hour, 24*time.Hour))
			req := Request{ReadTarget(path), at}
			v, steps := s.Walk(&sub, &req)
			refused, would := model(rules, &sub, path, at)
			require.Equal(t, []bool{refused, would}, []bool{v.Refused, v.Would}, "rules %d, %s at %s: %+v\n%+v\n%+v", n, path, at, rules, sub, steps)
			require.Equal(t, v, s.Decide(&sub, &req))
			d := s.Explain(&v, &sub, nil)
			require.Equal(t, []any{refused, refused || would}, []any{d.Outcome == Refuse, d.Would == Refuse})
			require.NotEmpty(t, d.Reason)
			require.Equal(t, v.Stands(), d.Gate != nil)
			outcomes[d.By+" "+string(d.Would)]++
			for i, step := range steps {
				require.NotEmpty(t, step.Text, i)
			}
			if v.Stands() {
				require.Equal(t, "decides", steps[len(steps)-1].Result)
			}
		}
	}
	t.Log(outcomes)
	for _, by := range []string{ByNothing, ByException, ByPass, ByRule, ByMissing, ByList} {
		assert.NotZero(t, outcomes[by+" admit"], by)
	}
	for _, by := range []string{ByRule, ByMissing, ByList} {
		assert.Greater(t, outcomes[by+" refuse"], 500, by)
	}
}

func TestNobodyIsLockedOutByAnException(t *testing.T) {
	s := made(t, Rules{Exceptions: Exceptions{Labels: []string{"office"}, Paths: []string{"/healthz"}}, Gates: []Gate{
		{Name: "a", Path: "/**", Mode: On, List: Deny, Missing: refuseAll, Rules: []Rule{{}}},
	}})
	for _, c := range []struct {
		sub  Subject
		path string
		by   string
	}{
		{Subject{Labels: []string{"office"}}, "/", ByException}, {Subject{Pass: true}, "/", ByPass}, {Subject{}, "/healthz", ByException},
	} {
		v := s.Decide(&c.sub, &Request{ReadTarget(c.path), now})
		assert.False(t, v.Refused)
		assert.Equal(t, c.by, s.Explain(&v, &c.sub, nil).By)
	}
	for _, path := range []string{"/healthz/", "/healthz/x", "/HEALTHZ", "/healthz;x", "/x/../healthz", "//healthz", "/%68ealthz", "/healthz%2f..%2fsecret", "/healthz/../secret", "/healthz."} {
		v := s.Decide(&Subject{}, &Request{ReadTarget(path), now})
		assert.True(t, v.Refused, "%s is not that path alone", path)
	}
}

func TestReasons(t *testing.T) {
	s := made(t, Rules{Gates: []Gate{{Name: "Early entry", Path: "/early/**", Mode: On, List: Allow, Missing: Missing{Refuse, Admit, Refuse, Admit}, Rules: []Rule{
		{Labels: []string{"office"}}, {Countries: []string{"pt", "Norway", "che"}}, {Regions: []string{"es-ct"}, Missing: map[string]string{"unknown": "admit"}},
	}}}})
	at := Request{ReadTarget("/early/eights"), now}
	somewhere := netip.MustParseAddr("9.9.9.9")
	for want, sub := range map[string]Subject{
		"Rule 2 of “Early entry” admits visits from Portugal.":            {Address: somewhere, Country: country(t, "PT")},
		"Rule 2 of “Early entry” admits visits from Switzerland.":         {Address: somewhere, Country: country(t, "CH")},
		"New Zealand is not on the allow list of “Early entry”.":          {Address: somewhere, Country: country(t, "NZ")},
		"Rule 1 of “Early entry” admits addresses with the label office.": {Address: somewhere, Labels: []string{"office"}},
		"Rule 3 of “Early entry” admits where the location is not known.": {Address: somewhere},
		"Spain is not on the allow list of “Early entry”.":                {Address: somewhere, Country: country(t, "ES")},
		"“Early entry” refuses where the visitor was not found.":          {},
		"“Early entry” admits where the address was skipped.":             {Address: somewhere, Skipped: true},
		"“Early entry” admits where there is no range data.":              {Address: somewhere, NoData: true},
		"Rule 3 of “Early entry” admits visits from Catalonia.":           {Address: somewhere, Country: country(t, "ES"), Region: "ES-CT"},
	} {
		v := s.Decide(&sub, &at)
		assert.Equal(t, want, s.Explain(&v, &sub, nil).Reason)
	}
	elsewhere := Request{ReadTarget("/programme"), now}
	v := s.Decide(&Subject{}, &elsewhere)
	d := s.Explain(&v, &Subject{}, nil)
	assert.Equal(t, []any{Admit, Off, ByNothing, "No gate stands here."}, []any{d.Outcome, d.Mode, d.By, d.Reason})
	v = (*Set)(nil).Decide(&Subject{}, &elsewhere)
	assert.False(t, v.Refused || v.Would || v.Stands(), "a site without gates is open")
}

func hundred() Rules {
	g := Gate{Name: "a", Path: "/early/**", Mode: On, List: Deny, Missing: refuseAll}
	for i, c := range almanac.All()[:101] {
		if c.Code != "PT" && i < 101 {
			g.Rules = append(g.Rules, Rule{Countries: []string{c.Code}})
		}
	}
	g.Rules = g.Rules[:100]
	return Rules{Gates: []Gate{g}}
}

func TestAdmittingAllocatesNothing(t *testing.T) {
	s, sub := made(t, hundred()), Subject{Address: netip.MustParseAddr("9.9.9.9"), Country: country(t, "PT"), Basis: "registration"}
	assert.Zero(t, testing.AllocsPerRun(100, func() {
		req := Request{ReadTarget("/early/eights"), now}
		if v := s.Decide(&sub, &req); v.Refused {
			t.Fatal("it is refused")
		}
	}))
}

var sink Verdict

// The two are held against each other: a decision with 100 country rules takes at most four dependent
// random reads.
func BenchmarkDecide100Countries(b *testing.B) {
	s, sub := made(b, hundred()), Subject{Address: netip.MustParseAddr("9.9.9.9"), Country: country(b, "PT"), Basis: "registration"}
	b.ReportAllocs()
	for b.Loop() {
		req := Request{ReadTarget("/early/eights"), now}
		sink = s.Decide(&sub, &req)
	}
}

func BenchmarkDecidePolygon(b *testing.B) {
	s := made(b, Rules{Gates: []Gate{{Name: "a", Path: "/**", Mode: On, List: Deny, Missing: refuseAll, Rules: []Rule{{Areas: []string{"west"}}}}}})
	sub := Subject{Address: netip.MustParseAddr("9.9.9.9"), Country: country(b, "PT"), Point: &geo.Point{Latitude: 10, Longitude: 10}}
	for b.Loop() {
		req := Request{ReadTarget("/early/eights"), now}
		sink = s.Decide(&sub, &req)
	}
}

func BenchmarkDependentRead(b *testing.B) {
	const size = 1 << 25 // 128 MiB
	next := make([]uint32, size)
	for i := range next {
		next[i] = uint32(i)
	}
	r := rand.New(rand.NewPCG(1, 2))
	for i := size - 1; i > 0; i-- { // one cycle through all of it
		j := r.IntN(i)
		next[i], next[j] = next[j], next[i]
	}
	at := uint32(0)
	for b.Loop() {
		at = next[at]
	}
	sink.rule = int16(at)
}

// Where the country is known, what else is missing opens no allow list and closes no deny list.
func TestWhatIsMissingBesideTheCountryIsNoReason(t *testing.T) {
	for _, beside := range []Rule{{Networks: []string{"AS64999"}}, {Regions: []string{"PK-PB"}}, {Areas: []string{"west"}}} {
		for _, list := range []List{Allow, Deny} {
			for _, missing := range []Outcome{Admit, Refuse} {
				rule := beside
				rule.Countries = []string{"PT"}
				set := New(Rules{Gates: []Gate{{
					Name: "Early entry", Path: "/early/**", Mode: On, List: list, Rules: []Rule{rule},
					Missing: Missing{Unknown: missing, Skipped: missing, NotFound: missing, NoData: missing},
				}}}, known(t))
				pakistan, _ := almanac.ByCode("PK")
				sub := Subject{Address: netip.MustParseAddr("198.18.3.40"), Country: pakistan}
				v := set.Decide(&sub, &Request{Target: ReadTarget("/early/eights")})
				assert.Equal(t, list == Allow, v.Refused, "%+v on a list to %s, %s where it is unknown", beside, list, missing)
				assert.Equal(t, ByList, v.by)
			}
		}
	}
}
