package httpapi

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/rehearsal"
	"eastporch/internal/server/access"
)

// early is a gate that admits Portugal alone.
var early = gate.Gate{
	Name: "Early entry", Path: "/early/**", Mode: gate.On, List: gate.Allow, Missing: gate.Missing{Unknown: gate.Refuse, Skipped: gate.Refuse, NotFound: gate.Refuse, NoData: gate.Refuse},
	Rules: []gate.Rule{{Countries: []string{"PT"}}}, Refusal: &gate.Refusal{Status: 451, Contact: "office@heronlake.example", Texts: map[string]string{"en": "Only for Portugal."}},
}

func bodyOf(t *testing.T, v any) string {
	t.Helper()
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

// withGates gives a fixture whose site has gates, and the newest revision of them.
func withGates(t *testing.T, list ...gate.Gate) (f *fixture, public, admin http.Handler) {
	t.Helper()
	f = newFixture(t, feedOfTests, nil)
	public, admin = f.serve(t, PublicListener), f.serve(t, AdminListener)
	saved := ask(admin, f.key(t, access.Admin), http.MethodPut, "/v1/gate", bodyOf(t, api.GateSave{Rules: gate.Rules{Exceptions: gate.Exceptions{Paths: []string{"/early/health"}}, Gates: list}}))
	read[gate.Revision](t, saved, http.StatusOK)
	return f, public, admin
}

const (
	inPortugal = "198.18.3.40"
	unlocated  = "198.19.250.1"
)

func TestDecisionsForAProxy(t *testing.T) {
	f, public, _ := withGates(t, early)
	server := f.key(t, access.Server)
	admitted := ask(public, server, http.MethodGet, "/v1/gate/decide", "", "X-Forwarded-For", inPortugal, "Porch-Original-Target", "/early/eights?x=1")
	assert.Equal(t, http.StatusNoContent, admitted.status)
	assert.Equal(t, "admit", admitted.header.Get("Porch-Gate"))
	for _, route := range []string{"/v1/gate/decide", "/v1/handover"} {
		no := ask(public, server, http.MethodGet, route, "", "X-Forwarded-For", unlocated, "Porch-Original-Target", "/early/eights")
		assert.Equal(t, http.StatusForbidden, no.status)
		assert.Empty(t, no.body)
		assert.Equal(t, []string{"refuse", "451", ""}, []string{no.header.Get("Porch-Gate"), no.header.Get("Porch-Gate-Status"), no.header.Get("Porch-Country-Code")})
		shown := ask(public, "", http.MethodGet, "/v1/gate/refusal?reference="+no.header.Get("Porch-Gate-Reference"), "", "Accept-Language", "de", "X-Forwarded-For", unlocated)
		assert.Equal(t, 451, shown.status)
		assert.Contains(t, shown.body, "Only for Portugal.")
		assert.Equal(t, "private, no-store", shown.header.Get("Cache-Control"))
		assert.NotContains(t, shown.body, "Early entry", "which rule it was is nobody's business")
	}
	elsewhere := ask(public, server, http.MethodGet, "/v1/gate/decide", "", "X-Forwarded-For", unlocated, "Porch-Original-Target", "/programme")
	assert.Equal(t, http.StatusNoContent, elsewhere.status)
	exempt := ask(public, server, http.MethodGet, "/v1/gate/decide", "", "X-Forwarded-For", unlocated, "Porch-Original-Target", "/early/health")
	assert.Equal(t, http.StatusNoContent, exempt.status)

	// Whatever is wrong with the proxy's own request never looks like a refusal.
	for _, c := range [][2]string{{"porch_nothing", ""}, {f.key(t, access.Page), ""}, {"", ""}, {server, "odd"}} {
		for target, stands := range map[string]string{"/early/eights": "unknown", "": "unknown", "/#": "unknown", "/programme": "none", "/early/health": "none"} {
			if c[1] == "odd" {
				stands = "unknown"
			}
			bad := ask(public, c[0], http.MethodGet, "/v1/gate/decide?site="+c[1], "", "Porch-Original-Target", target)
			assert.NotEqual(t, http.StatusForbidden, bad.status, c)
			assert.GreaterOrEqual(t, bad.status, 400, c)
			assert.Equal(t, stands, bad.header.Get("Porch-Gate"), "%s at %q", c, target)
		}
	}
	for _, bad := range []string{"", "x.y", admitted.header.Get("Porch-Gate")} {
		refusedAs(t, ask(public, "", http.MethodGet, "/v1/gate/refusal?reference="+bad, ""), http.StatusUnprocessableEntity, "invalid-field")
	}
}

// Whoever is refused stays refused, whatever fields, spellings and methods are tried: only what the proxy says of the
// connection, and a page that no gate stands at, make a difference.
func TestNobodyTalksTheWayPast(t *testing.T) {
	f, public, _ := withGates(t, early)
	server, r := f.key(t, access.Server), rand.New(rand.NewPCG(18, 7))
	names := []string{
		"Porch-Gate", "Porch-Country-Code", "Porch-Rehearsal", "Porch-Original-Method", "Porch-Original-Host", "X-Real-IP", "Forwarded", "True-Client-Address", "CF-Visitor", "Origin", "Referer", "Cookie", "User-Agent",
		"X-HTTP-Method-Override", "X-Original-URL", "X-Rewrite-URL", "Accept-Language", "Sec-GPC", "X-Forwarded-Host", "X-Forwarded-Proto", "Authorization2", "Via", "Accept", "Prefer",
	}
	values := []string{
		"admit", "PT", inPortugal, "for=" + inPortugal, "https://heronlake.example", "porch_pass=a.b; porch_choice=pt", "null", "GET", "DELETE", "/early/health", "monitoring", strings.Repeat("a", 3000), "pt-PT", "a.b", "1", "*", "\"", "é",
	}
	targets := []string{
		"/early/eights", "/EARLY/eights", "/early", "/early/", "//early//eights", "/x/../early/eights", "/%65arly/eights", "/early%2Feights", "/early;x/eights", "/early/./eights", "/early/health/", "/early/health;a", "/early/HEALTH", "/early/health%20",
		"/early/health/../eights", "/early/eights?/early/health", "http://heronlake.example/early/eights", "", "*", "/early/eights#/programme", "/programme/%2e%2e/early/eights", `/early\eights`, "/early/%", "/early/eights%00", "/\xff/early",
	}
	for range 3000 {
		headers := []string{"X-Forwarded-For", []string{unlocated, inPortugal + ", " + unlocated, "unknown, " + unlocated}[r.IntN(3)]}
		for range r.IntN(5) {
			headers = append(headers, names[r.IntN(len(names))], values[r.IntN(len(values))])
		}
		if target := targets[r.IntN(len(targets))]; target != "" || r.IntN(2) == 0 {
			headers = append(headers, "Porch-Original-Target", target)
		}
		query := []string{"", "?cookie=1", "?choice=pt", "?site=heronlake.example", "?path=/programme"}[r.IntN(5)]
		no := ask(public, server, http.MethodGet, []string{"/v1/gate/decide", "/v1/handover"}[r.IntN(2)]+query, "", headers...)
		require.Equal(t, http.StatusForbidden, no.status, "%q: %s", headers, no.body)
		require.Equal(t, "refuse", no.header.Get("Porch-Gate"), "%q", headers)
	}
}

func TestAReferencesOwnersFindTheRefusal(t *testing.T) {
	f, public, admin := withGates(t, early)
	server, owner := f.key(t, access.Server), f.key(t, access.Admin)
	var token string
	for range 3 {
		token = ask(public, server, http.MethodGet, "/v1/gate/decide", "", "X-Forwarded-For", unlocated, "Porch-Original-Target", "/early/eights").header.Get("Porch-Gate-Reference")
	}
	ask(public, server, http.MethodGet, "/v1/gate/decide", "", "X-Forwarded-For", inPortugal, "Porch-Original-Target", "/early/singles")
	page := ask(public, "", http.MethodGet, "/v1/gate/refusal?reference="+token, "").body
	code := page[strings.Index(page, "<code>")+6 : strings.Index(page, "</code>")]
	sum := read[api.GateRefusals](t, ask(admin, owner, http.MethodGet, "/v1/gate/refusals?reference="+code, ""), http.StatusOK)
	assert.EqualValues(t, []int64{3, 1, 0}, []int64{sum.Refused, sum.Admitted, sum.WouldRefuse})
	assert.Equal(t, []api.GateCounted{{Key: "/early/eights", Name: "/early/eights", Requests: 3}}, sum.Paths)
	assert.Equal(t, []api.GateCounted{{Key: "unknown refuse", Name: "location not known: refuse", Requests: 3}}, sum.Missing)
	require.Len(t, sum.References, 1)
	assert.Equal(t, "“Early entry” refuses where the location is not known.", sum.References[0].Reason)
	state := read[api.GateState](t, ask(admin, owner, http.MethodGet, "/v1/gate", ""), http.StatusOK)
	assert.Equal(t, []api.GateHits{
		{Gate: "Early entry", Rule: 0, By: "missing", Missing: "unknown", Outcome: "refuse", Requests: 3}, {Gate: "Early entry", Rule: 1, By: "rule", Outcome: "admit", Requests: 1},
	}, state.Hits)
	assert.Equal(t, "request", state.HitsOf)
}

func TestAVisitThatIsRefusedIsNone(t *testing.T) {
	watch := early
	watch.Name, watch.Path, watch.Mode = "Watching", "/watched", gate.Watch
	f, public, admin := withGates(t, early, watch)
	page := f.key(t, access.Page)
	report := func(path string) (taken api.Taken) {
		require.NoError(t, json.Unmarshal([]byte(ask(public, page, http.MethodPost, "/v1/visits", `{"path":"`+path+`"}`, "X-Forwarded-For", unlocated).body), &taken))
		return taken
	}
	assert.Equal(t, "refused", report("/early/eights").State)
	assert.NotEqual(t, "refused", report("/watched").State)
	assert.NotEqual(t, "refused", report("/programme").State)
	f.in.Settle(t.Context())
	require.Len(t, f.visits, 2)
	assert.Equal(t, gate.Refuse, f.visits[0].Card.Gate.Would)
	assert.Equal(t, gate.ByNothing, f.visits[1].Card.Gate.By)
	sum := read[api.GateRefusals](t, ask(admin, f.key(t, access.Admin), http.MethodGet, "/v1/gate/refusals", ""), http.StatusOK)
	assert.EqualValues(t, []int64{1, 1}, []int64{sum.Refused, sum.WouldRefuse})

	own := read[card.Card](t, ask(public, page, http.MethodGet, "/v1/visitor?path=/early/eights", "", "X-Forwarded-For", unlocated), http.StatusOK)
	assert.Equal(t, []any{gate.Refuse, (*string)(nil), "This page is not open to you."}, []any{own.Gate.Outcome, own.Gate.Gate, own.Gate.Reason})
}

func TestRulesAreSavedCheckedAndReturnedTo(t *testing.T) {
	f, _, admin := withGates(t, early)
	owner := f.key(t, access.Admin)
	save := func(revision int64, edit func(*gate.Gate)) answer {
		g := early
		g.Rules = append([]gate.Rule{}, g.Rules...)
		edit(&g)
		return ask(admin, owner, http.MethodPut, "/v1/gate", bodyOf(t, api.GateSave{Rules: gate.Rules{Gates: []gate.Gate{g}}, Revision: revision}))
	}
	uk := refusedAs(t, save(1, func(g *gate.Gate) { g.Rules[0].Countries = []string{"UK"} }), http.StatusUnprocessableEntity, "invalid-field")
	assert.Contains(t, uk.Detail, `gates.0.rules.0.countries.0: "UK" is not a country code: did you mean GB?`)
	refusedAs(t, save(0, func(*gate.Gate) {}), http.StatusConflict, "conflict")
	refusedAs(t, save(1, func(g *gate.Gate) { g.Rules = nil }), http.StatusUnprocessableEntity, "invalid-field")
	second := read[gate.Revision](t, save(1, func(g *gate.Gate) { g.Rules[0].Countries = []string{"pt", "japan"} }), http.StatusOK)
	assert.Equal(t, []string{"PT", "JP"}, second.Rules.Gates[0].Rules[0].Countries)
	assert.Contains(t, second.Changes, "added Japan to rule 1 of Early entry")
	back := read[gate.Revision](t, ask(admin, owner, http.MethodPost, "/v1/gate/history/1/return", ""), http.StatusOK)
	assert.EqualValues(t, 3, back.Revision)
	assert.Equal(t, "returned to revision 1", back.Changes[0])
	refusedAs(t, ask(admin, owner, http.MethodPost, "/v1/gate/history/9/return", ""), http.StatusNotFound, "no-such-revision")
	assert.Len(t, read[api.GateHistory](t, ask(admin, owner, http.MethodGet, "/v1/gate/history", ""), http.StatusOK).Revisions, 3)

	found := read[api.GateChecked](t, ask(admin, owner, http.MethodPost, "/v1/gate/check", `{"rules":{"exceptions":{},"gates":[{"name":"a","path":"/","mode":"on","list":"allow","missing":{"unknown":"admit","skipped":"admit","not_found":"admit","no_data":""},"rules":[]}]}}`), http.StatusOK)
	assert.False(t, found.Usable)
	assert.Len(t, found.Findings, 2)

	assert.Nil(t, found.Rules, "which are given back only where they are usable")

	draft := early
	draft.Mode = "perhaps"
	refusedAs(t, ask(admin, owner, http.MethodPut, "/v1/gate/draft", bodyOf(t, gate.Rules{Gates: []gate.Gate{draft}})), http.StatusUnprocessableEntity, "invalid-field")
	draft = early
	draft.List = gate.Deny
	assert.Equal(t, http.StatusNoContent, ask(admin, owner, http.MethodPut, "/v1/gate/draft", bodyOf(t, gate.Rules{Gates: []gate.Gate{draft}})).status)
	state := read[api.GateState](t, ask(admin, owner, http.MethodGet, "/v1/gate", ""), http.StatusOK)
	assert.Equal(t, gate.Deny, state.Draft.Rules.Gates[0].List)
	assert.EqualValues(t, 3, state.Live.Revision)

	pt := "PT"
	f.rules.past = []gate.Past{
		{Time: testNow.Add(-time.Hour), Path: "/early/a", CountryCode: &pt, Counted: true, Address: ptr(inPortugal)},
		{Time: testNow.Add(-26 * time.Hour), Path: "/early/b", Counted: true, Address: ptr(unlocated)},
		{Time: testNow.Add(-time.Hour), Path: "/programme", Counted: true},
		{Time: testNow.Add(-time.Hour), Path: "/early/a"},
	}
	sim := read[api.GateSimulation](t, ask(admin, owner, http.MethodPost, "/v1/gate/simulate", `{}`), http.StatusOK)
	assert.Equal(t, []int{3, 2, 1, 1, 1}, []int{sim.Visits, sim.Draft, sim.Live, sim.Changed, sim.LeftOut}, "the draft refuses Portugal instead, and the unknown still")
	assert.Equal(t, []api.GateSimulated{{Key: "PT", Name: "Portugal", Visits: 1, Draft: 1}}, sim.Countries)
	assert.Len(t, sim.Days, 7)
	assert.Equal(t, http.StatusNoContent, ask(admin, owner, http.MethodDelete, "/v1/gate/draft", "").status)
	refusedAs(t, ask(admin, owner, http.MethodPost, "/v1/gate/simulate", `{"days":93}`), http.StatusUnprocessableEntity, "invalid-field")
}

func TestAPassEndsWithItsSession(t *testing.T) {
	f, public, admin := withGates(t, early)
	server := f.key(t, access.Server)
	refusedAs(t, ask(admin, f.key(t, access.Admin), http.MethodPost, "/v1/gate/passes", ""), http.StatusConflict, "no-session")
	link := f.opt.Content.Gates.Counter.PassLink(testSite, uuid.New())
	taken := ask(public, "", http.MethodGet, "/v1/gate/pass?link="+link, "")
	require.Equal(t, http.StatusSeeOther, taken.status)
	cookie, _, _ := strings.Cut(taken.header.Get("Set-Cookie"), ";")
	refusedAs(t, ask(public, "", http.MethodGet, "/v1/gate/pass?link="+link, ""), http.StatusUnprocessableEntity, "invalid-field")
	decide := func(cookie string) int {
		return ask(public, server, http.MethodGet, "/v1/gate/decide", "", "X-Forwarded-For", unlocated, "Porch-Original-Target", "/early/eights", "Cookie", cookie).status
	}
	assert.Equal(t, http.StatusNoContent, decide(cookie))
	assert.Equal(t, http.StatusForbidden, decide(cookie+"x"))
	assert.Equal(t, http.StatusForbidden, decide("porch_pass="+link), "a link is no pass")
	f.rules.ended = true
	assert.Equal(t, http.StatusForbidden, func() int { f.opt.Content.Gates.Counter.Forget(); return decide(cookie) }())
}

func TestRehearsals(t *testing.T) {
	f, public, admin := withGates(t, early)
	server := f.key(t, access.Server)
	got := read[api.Rehearsal](t, ask(admin, server, http.MethodPost, "/v1/rehearsals", `{"visitors":[{"from":"PT"},{"from":"unknown","accept_language":"de"},{"from":"NZ"},{"from":"not-found"},{"from":"198.18.3.41"}],"paths":["/early/eights","/programme"]}`), http.StatusOK)
	require.Len(t, got.Results, 10)
	outcomes := []string{}
	for _, r := range got.Results {
		if r.Problem != nil {
			outcomes = append(outcomes, *r.Problem)
			continue
		}
		outcomes = append(outcomes, string(r.Card.Gate.Outcome))
		assert.Empty(t, r.Expectation.Unmet(r.Card, 0))
		assert.Contains(t, []string{"rehearsed", ""}, r.Card.Address.Obtained)
	}
	assert.Equal(t, []string{"admit", "admit", "refuse", "admit", "No address of this edition is in New Zealand.", "No address of this edition is in New Zealand.", "refuse", "admit", "admit", "admit"}, outcomes)
	assert.Equal(t, "pt-PT,pt;q=0.9,en;q=0.7", got.Results[0].AcceptLanguage)
	shown := *got.Results[2].Refusal
	assert.Equal(t, 451, ask(admin, "", http.MethodGet, "/v1/gate/refusal?reference="+shown.Reference, "").status)
	shown.Reference = ""
	assert.Equal(t, api.RehearsedRefusal{Status: 451, Language: "en", Title: "This page is not open where you are.", Text: "Only for Portugal."}, shown)
	deny := early
	deny.List = gate.Deny
	other := read[api.Rehearsal](t, ask(admin, server, http.MethodPost, "/v1/rehearsals", `{"visitors":[{"from":"PT"}],"paths":["/early/eights"],"rules":`+bodyOf(t, gate.Rules{Gates: []gate.Gate{deny}})+`}`), http.StatusOK)
	assert.Equal(t, gate.Refuse, other.Results[0].Card.Gate.Outcome, "by the rules that are given")
	assert.Empty(t, f.visits, "nothing is stored")
	assert.Empty(t, f.rules.counts, "and nothing counted")
	for body, field := range map[string]string{
		`{"visitors":[],"paths":["/"]}`: "visitors", `{"visitors":[{"from":"PT"}],"paths":["early"]}`: "paths.0", `{"visitors":[{"from":"UK"}],"paths":["/"]}`: "visitors.0.from",
		`{"visitors":[{"from":"PT","at":"soon"}],"paths":["/"]}`: "visitors.0.at", `{"visitors":[{"from":"PT","latitude":91,"longitude":0}],"paths":["/"]}`: "visitors.0.latitude",
	} {
		assert.True(t, strings.HasPrefix(refusedAs(t, ask(admin, server, http.MethodPost, "/v1/rehearsals", body), http.StatusUnprocessableEntity, "invalid-field").Detail, field+":"), body)
	}
	assert.Equal(t, http.StatusForbidden, ask(admin, f.key(t, access.Page), http.MethodPost, "/v1/rehearsals", `{}`).status)
	assert.Equal(t, http.StatusNotFound, ask(public, server, http.MethodPost, "/v1/rehearsals", `{}`).status, "visitors cannot reach it")

	// The header of one request, as the owner's proxy hands it on.
	token := f.opt.Content.Gates.Signer.Sign(rehearsal.Token{Site: testSite, Scheme: "https", Host: "heronlake.example", Method: "GET", Target: "/early/eights?a=1", As: rehearsal.Persona{Address: inPortugal}})
	decide := func(token, method, target, host, scheme string) answer {
		return ask(public, server, http.MethodGet, "/v1/handover", "", "X-Forwarded-For", unlocated, "Porch-Rehearsal", token, "Porch-Original-Method", method, "Porch-Original-Target", target, "Porch-Original-Host", host, "Porch-Original-Scheme", scheme)
	}
	for _, c := range [][5]string{
		{token + "x", "GET", "/early/eights?a=1", "heronlake.example", "https"},
		{token, "POST", "/early/eights?a=1", "heronlake.example", "https"},
		{token, "GET", "/early/eights?a=2", "heronlake.example", "https"},
		{token, "GET", "/early/eights?a=1", "other.example", "https"},
		{token, "GET", "/early/eights?a=1", "heronlake.example", "http"},
	} {
		assert.Equal(t, http.StatusForbidden, decide(c[0], c[1], c[2], c[3], c[4]).status, fmt.Sprint(c[1:]))
	}
	as := decide(token, "GET", "/early/eights?a=1", "heronlake.example", "https")
	assert.Equal(t, http.StatusNoContent, as.status)
	assert.Equal(t, []string{"1", "PT"}, []string{as.header.Get("Porch-Rehearsal"), as.header.Get("Porch-Country-Code")})
	assert.Equal(t, http.StatusForbidden, decide(token, "GET", "/early/eights?a=1", "heronlake.example", "https").status, "it is good once")
}
