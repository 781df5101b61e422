package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/companion"
	"eastporch/internal/server/access"
)

// lisbon is a geofeed with one town.
const lisbon = "198.18.3.0/26,PT,PT-11,Lisbon,\n"

// weatherSaid is a companion that asks the weather of the tests.
func weatherSaid() companion.Said {
	s := companion.Fresh()
	s.Title, s.URL, s.Credit = "Weather", "http://sky.example/v1/now", "Sky by the tests"
	s.Parameters = []companion.Parameter{
		{Name: "lat", In: "query", Fact: "latitude"},
		{Name: "lon", In: "query", Fact: "longitude"},
		{Name: "lang", In: "query", Fact: "language"},
		{Name: "key", In: "query", Secret: "env:EASTPORCH_SECRET_WEATHER"},
	}
	s.Values = []companion.Pick{{Name: "temperature", Pointer: "/now/temp", Type: "number", Unit: "°C"}, {Name: "wind", Pointer: "/now/wind", Type: "number", Unit: "m/s"}}
	s.Categories = []companion.Category{{Name: "storm", When: "wind >= 50"}}
	s.Default = "calm"
	return s
}

func saidJSON(t *testing.T, s companion.Said) string {
	t.Helper()
	text, err := json.Marshal(companion.Save{Said: s})
	require.NoError(t, err)
	return string(text)
}

func TestACardHasWhatCompanionsSay(t *testing.T) {
	f := newFixture(t, lisbon, nil)
	f.memory.weather.Key = weatherKey
	h, admin := f.serve(t, AdminListener), f.key(t, access.Admin)
	a := ask(h, admin, http.MethodPut, "/v1/companions/weather", saidJSON(t, weatherSaid()))
	require.Equal(t, http.StatusOK, a.status, a.body)
	visitor := func(query string) answer {
		return ask(h, admin, http.MethodGet, "/v1/visitor?"+query, "", "X-Forwarded-For", "198.18.3.40", "Accept-Language", "pt-PT", "Cookie", "session=abc", "Referer", "https://heronlake.example/secret-path")
	}
	assert.Contains(t, visitor("fields=location").body, `"Lisbon"`)
	assert.Empty(t, f.memory.weather.Asked(), "who wants no companion asks none")
	assert.Contains(t, visitor("fields=companions").body, `"pending":true`, "nothing waits")
	a = visitor("fields=companions&companions=wait:5s")
	var card struct {
		Companions map[string]companion.Answer `json:"companions"`
	}
	require.NoError(t, json.Unmarshal([]byte(a.body), &card))
	weather := card.Companions["weather"]
	assert.Equal(t, "calm", *weather.Category)
	assert.Equal(t, "Sky by the tests", *weather.Credit)
	assert.Contains(t, weather.Human["temperature"], ",", "by the habits of the visitor's language")
	assert.False(t, weather.Pending)
	assert.Zero(t, *weather.Age)
	assert.Empty(t, weather.Missing)
	whole := visitor("")
	assert.Contains(t, whole.body, `"companions":{"weather":{"values":{"temperature":`)
	asked := f.memory.weather.Asked()
	require.Len(t, asked, 1, "one question for the place")
	assert.Equal(t, "GET /v1/now?lat=38.7&lon=-9.1&lang=pt&key="+weatherKey+"\nHost: sky.example\nAccept: application/json\r\nUser-Agent: EastPorch\r\n", asked[0])
	assert.Contains(t, visitor("fields=companions.weather.category").body, `{"companions":{"weather":{"category":"calm"}}}`)
	for _, wrong := range []string{"wait", "wait:6s", "wait:-1s", "wait:", "now"} {
		assert.Equal(t, http.StatusUnprocessableEntity, visitor("companions="+wrong).status, wrong)
	}
	a = ask(h, admin, http.MethodPost, "/v1/visits?fields=companions.weather.category", `{"path":"/","address":"198.18.3.40"}`)
	assert.Contains(t, a.body, `"calm"`, "a visit's card has it")
	assert.Contains(t, ask(h, admin, http.MethodGet, "/v1/addresses/198.18.3.40?site="+testSite, "").body, `"category":"calm"`)
}

func TestCompanionsAreKeptCheckedAndDropped(t *testing.T) {
	f := newFixture(t, lisbon, nil)
	h, admin := f.serve(t, AdminListener), f.key(t, access.Admin)
	assert.JSONEq(t, `{"site":"heronlake.example","companions":[],"secrets":["env:EASTPORCH_SECRET_WEATHER"],"inside":true}`, ask(h, admin, http.MethodGet, "/v1/companions", "").body)
	put := func(name, body string) answer {
		return ask(h, admin, http.MethodPut, "/v1/companions/"+name, body)
	}
	require.Equal(t, http.StatusOK, put("weather", saidJSON(t, weatherSaid())).status)
	stale := fmt.Sprintf(`{"said":%s,"revision":99}`, strings.TrimSuffix(strings.TrimPrefix(saidJSON(t, weatherSaid()), `{"said":`), "}"))
	assert.Equal(t, http.StatusConflict, put("weather", stale).status)
	for want, edit := range map[string]func(*companion.Said){
		"parameters.0.fact: \"address\" is none of the facts": func(s *companion.Said) { s.Parameters[0].Fact = "address" },
		"parameters.0.fixed: it is an address": func(s *companion.Said) {
			s.Parameters[0] = companion.Parameter{Name: "ip", In: "query", Fixed: "198.18.3.40"}
		},
		"parameters.0.name: \"Cookie\" cannot be": func(s *companion.Said) { s.Parameters[0].Name, s.Parameters[0].In = "Cookie", "header" },
		"names no secret":                         func(s *companion.Said) { s.Parameters[3].Secret = "file:../eastporch.yaml" },
		"categories.0.when: ":                     func(s *companion.Said) { s.Categories[0].When = "wave > 3" },
		"values.1.pointer: ":                      func(s *companion.Said) { s.Values[1].Pointer = "now/wind" },
		"url: {address} is none":                  func(s *companion.Said) { s.URL = "http://sky.example/{address}" },
		"a_day: -1 is out of bounds":              func(s *companion.Said) { s.ADay = -1 },
	} {
		s := weatherSaid()
		edit(&s)
		a := put("weather", saidJSON(t, s))
		assert.Equal(t, http.StatusUnprocessableEntity, a.status)
		var p struct{ Detail string }
		require.NoError(t, json.Unmarshal([]byte(a.body), &p))
		assert.Contains(t, p.Detail, want)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, put("Weather", saidJSON(t, weatherSaid())).status)
	assert.Equal(t, http.StatusForbidden, ask(h, f.key(t, access.Server), http.MethodGet, "/v1/companions", "").status)
	assert.Equal(t, http.StatusNotFound, ask(h, admin, http.MethodGet, "/v1/companions/tide", "").status)
	assert.Equal(t, http.StatusNoContent, ask(h, admin, http.MethodDelete, "/v1/companions/weather", "").status)
	assert.Equal(t, http.StatusNotFound, ask(h, admin, http.MethodDelete, "/v1/companions/weather", "").status)
	assert.Equal(t, http.StatusNotFound, ask(h, admin, http.MethodPost, "/v1/companions/weather/ask", "").status)
	assert.Contains(t, ask(h, admin, http.MethodGet, "/v1/visitor?fields=companions", "", "X-Forwarded-For", "198.18.3.40").body, `{"companions":{}}`, "what was dropped is on no card")
}

func TestACompanionIsTriedBeforeItIsSaved(t *testing.T) {
	f := newFixture(t, lisbon, nil)
	f.memory.weather.Key = weatherKey
	h, admin := f.serve(t, AdminListener), f.key(t, access.Admin)
	try := func(said companion.Said, ask_ bool, visitors ...string) answer {
		text, err := json.Marshal(companion.Try{Name: "weather", Said: said, Visitors: visitors, Ask: ask_})
		require.NoError(t, err)
		return ask(h, admin, http.MethodPost, "/v1/companions/try", string(text))
	}
	read := func(a answer) (tries companion.Tries) {
		require.Equal(t, http.StatusOK, a.status, a.body)
		require.NoError(t, json.Unmarshal([]byte(a.body), &tries))
		return tries
	}
	first := read(try(weatherSaid(), true, "Lisbon, PT", "198.18.3.40", "192.168.1.1"))
	assert.Equal(t, "Lisbon", first.Results[0].Place)
	assert.Equal(t, "GET /v1/now?lat=38.7&lon=-9.1&lang=pt&key=••••\nHost: sky.example\nUser-Agent: EastPorch\nAccept: application/json", first.Results[0].Question.Text)
	assert.Equal(t, "calm", *first.Results[1].Answer.Category)
	assert.Equal(t, "it is not known where the visitor is", first.Results[2].Answer.Missing["wind"])
	assert.Len(t, f.memory.weather.Asked(), 2)
	again := weatherSaid()
	again.Values = append(again.Values, companion.Pick{Name: "cloud", Pointer: "/now/cloud", Type: "number"}, companion.Pick{Name: "who", Pointer: "/credit", Type: "text"})
	again.Categories = []companion.Category{{Name: "windy", When: "wind >= 0"}}
	second := read(try(again, false, "Lisbon, PT", "Oslo, NO"))
	assert.Equal(t, "windy", *second.Results[0].Answer.Category, "what is kept is read as it is said now")
	assert.Equal(t, "Stand-in Weather (invented)", second.Results[0].Answer.Values["who"])
	assert.Equal(t, "it was not asked for this place yet", second.Results[1].Answer.Missing["who"])
	assert.Len(t, f.memory.weather.Asked(), 2, "and costs no question")
	none := weatherSaid()
	none.ADay, none.Reserve = 0, 0
	assert.Contains(t, read(try(none, true, "Oslo, NO")).Results[0].Answer.Missing["wind"], "never asked")
	for want, a := range map[string]answer{
		"visitors.0":                 try(weatherSaid(), true, "Nowheresville"),
		"visitors: there are 5":      try(weatherSaid(), true, "Oslo, NO", "Oslo, NO", "Oslo, NO", "Oslo, NO", "Oslo, NO"),
		"is in GB, US: say in which": try(weatherSaid(), true, "Birmingham"),
		"visitors: there are 0":      try(weatherSaid(), true),
		"not one of ISO 3166-1":      try(weatherSaid(), true, "Lisbon, XX"),
	} {
		assert.Equal(t, http.StatusUnprocessableEntity, a.status, want)
	}
	// How the saved one stands does not depend on another question, but on its own, whoever asks it.
	require.Equal(t, http.StatusOK, ask(h, admin, http.MethodPut, "/v1/companions/weather", saidJSON(t, weatherSaid())).status)
	stands := func() string { return ask(h, admin, http.MethodGet, "/v1/companions/weather", "").body }
	require.NoError(t, f.memory.weather.Fail("error"))
	other := weatherSaid()
	other.Grid = 5
	try(other, true, "Oslo, NO")
	assert.Contains(t, stands(), `"standing":"not asked yet"`)
	failed := try(weatherSaid(), true, "Oslo, NO")
	assert.Contains(t, stands(), `"standing":"fails","reason":"the answer is not usable: nothing that you picked is in it`)
	assert.Contains(t, failed.body, "you asked too often with", "the answer is shown whole")
	assert.NotContains(t, failed.body, weatherKey, "without the secret in it")
}
