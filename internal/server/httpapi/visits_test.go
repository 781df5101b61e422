package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
)

const feedOfTests = "198.18.3.0/26,PT,PT-11,Lisbon,\n198.18.7.0/24,ES,ES-VC,Valencia,\n"

// read decodes an answer, which must have a status.
func read[T any](t *testing.T, a answer, status int) (value T) {
	t.Helper()
	require.Equal(t, status, a.status, a.body)
	require.NoError(t, json.Unmarshal([]byte(a.body), &value), a.body)
	return value
}

// refused checks that an answer is a problem, and gives it.
func refusedAs(t *testing.T, a answer, status int, kind string) api.Problem {
	t.Helper()
	p := read[api.Problem](t, a, status)
	assert.Equal(t, "application/problem+json", a.header.Get("Content-Type"))
	assert.Equal(t, "/problems/"+kind, p.Type, a.body)
	assert.NotEmpty(t, p.Hint)
	assert.Equal(t, a.header.Get("X-Request-Id"), p.RequestID)
	return p
}

func TestVisitsAreRecorded(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	public, admin := f.serve(t, PublicListener), f.serve(t, AdminListener)
	page, server, owner := f.key(t, access.Page), f.key(t, access.Server), f.key(t, access.Admin)

	one := ask(public, page, http.MethodPost, "/v1/visits", `{"site":"heronlake.example","path":"/programme"}`, "X-Forwarded-For", "198.18.3.40", "Prefer", "return=representation, wait=5")
	taken := read[api.Taken](t, one, http.StatusCreated)
	assert.Equal(t, "stored", taken.State)
	assert.Equal(t, "Lisbon", *taken.Visit.Card.Location.City)
	assert.Equal(t, "return=representation, wait=5", one.header.Get("Preference-Applied"))

	list := `[{"site":"heronlake.example","path":"/","address":"198.18.7.9"},{"site":"elsewhere.example","path":"/"},{"site":"heronlake.example","path":"no slash"}]`
	many := read[api.Many](t, ask(admin, server, http.MethodPost, "/v1/visits", list, "Prefer", "wait=5"), http.StatusCreated)
	assert.Equal(t, []int{1, 2}, []int{many.Accepted, many.Refused})
	assert.Equal(t, "stored", *many.Visits[0].State)
	assert.Contains(t, many.Visits[1].Problem.Detail, "elsewhere.example")
	assert.Contains(t, many.Visits[2].Problem.Detail, "path: ")

	all := read[api.VisitPage](t, ask(admin, owner, http.MethodGet, "/v1/visits?site=heronlake.example&limit=1", ""), http.StatusOK)
	require.Len(t, all.Visits, 1)
	assert.NotNil(t, all.Next, "there is another page")
	assert.EqualValues(t, 2, all.Count.Matching)
	found := read[visit.Visit](t, ask(admin, owner, http.MethodGet, "/v1/visits/"+taken.ID.String(), ""), http.StatusOK)
	assert.Equal(t, "/programme", found.Path)

	lines := ask(admin, owner, http.MethodGet, "/v1/visits/export?site=heronlake.example&format=ndjson", "")
	assert.Equal(t, 2, strings.Count(lines.body, "\n"))
	again := read[api.Imported](t, ask(admin, owner, http.MethodPost, "/v1/visits/import?format=ndjson", lines.body+"{}\n"), http.StatusOK)
	assert.Equal(t, []int{3, 1}, []int{again.Read, again.Rejected})

	gone := read[api.Receipt](t, ask(admin, owner, http.MethodPost, "/v1/visits/erase", `{"id":"`+taken.ID.String()+`"}`), http.StatusOK)
	assert.Positive(t, gone.Visits)
	days := read[api.Verified](t, ask(admin, owner, http.MethodPost, "/v1/visits/verify", `{"site":"heronlake.example"}`), http.StatusOK)
	assert.Equal(t, []string{"2026-11-14"}, days.Days)
	state := read[api.VisitsState](t, ask(admin, owner, http.MethodGet, "/v1/visits/state", ""), http.StatusOK)
	assert.EqualValues(t, 2, state.Intake.Since.Stored)
	for _, what := range []string{"visits imported", "visits erased"} {
		assert.Contains(t, fmt.Sprint(f.events), what, "in the audit log")
	}
}

func TestVisitsThatAreRefused(t *testing.T) {
	f := newFixture(t, feedOfTests, nil)
	public, admin := f.serve(t, PublicListener), f.serve(t, AdminListener)
	page, owner := f.key(t, access.Page), f.key(t, access.Admin)
	for body, kind := range map[string]string{
		`{"site":"heronlake.example","path":"/","user_agent":"x"}`:           "scope",
		`{"site":"heronlake.example","path":"/","adress":"198.18.3.40"}`:     "invalid-field",
		`{"site":"heronlake.example","path":"/"`:                             "invalid-json",
		`{"site":"heronlake.example","path":7}`:                              "invalid-field",
		`{"site":"heronlake.example","path":"/","attributes":[]}`:            "invalid-field",
		`{"site":"heronlake.example","path":"/","id":"not one","test":true}`: "scope",
		"{\"site\":\"heronlake.example\",\"path\":\"/\xff\"}":                "invalid-field",
		`[]`: "invalid-json",
	} {
		a := ask(public, page, http.MethodPost, "/v1/visits", body)
		assert.GreaterOrEqual(t, a.status, 400, body)
		assert.Contains(t, a.body, "/problems/"+kind, body)
	}
	for path, kind := range map[string]string{
		"/v1/visits?site=heronlake.example&order=odd":              "invalid-field",
		"/v1/visits?site=heronlake.example&limit=0":                "invalid-field",
		"/v1/visits?site=heronlake.example&cursor=x":               "invalid-field",
		"/v1/visits?site=heronlake.example&order=sequence&cursor=": "",
		"/v1/visits?site=nowhere.example":                          "invalid-field",
		"/v1/visits?site=heronlake.example&from=2026&to=x":         "invalid-field",
		"/v1/visits?site=heronlake.example&prefix=198.18.3.0%2F2x": "invalid-field",
		"/v1/visits?site=heronlake.example&mark=odd":               "invalid-field",
		"/v1/visits/not-an-id":                                     "invalid-field",
		"/v1/visits/01a1d8a4-2b00-7146-b68e-405649734a51":          "no-such-visit",
		"/v1/visits/export?site=heronlake.example&format=odd":      "invalid-field",
	} {
		a := ask(admin, owner, http.MethodGet, path, "")
		if kind == "" {
			assert.Equal(t, http.StatusOK, a.status, path)
			continue
		}
		assert.Contains(t, a.body, "/problems/"+kind, path)
	}
	f.away = visit.ErrAway
	a := ask(admin, owner, http.MethodGet, "/v1/visits?site=heronlake.example", "")
	refusedAs(t, a, http.StatusServiceUnavailable, "database-unavailable")
	assert.Equal(t, "5", a.header.Get("Retry-After"))
}
