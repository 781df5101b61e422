package console

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

func TestVariantsFromTheConsole(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	put := func(name, body string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodPut, s.AdminURL+"/v1/variants/"+name, body)
	}
	require.Equal(t, http.StatusNoContent, put("banner", `{"name":"banner","default":"plain","rules":[{"variant":"sun","when":{"countries":["PT","BR"],"languages":["pt"]}}]}`).Status)
	card := s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/visitor?fields=variants", "", "X-Forwarded-For: 198.18.3.40", "Accept-Language: pt")
	assert.JSONEq(t, `{"variants":{"pictures":"coast","offer":"early-entry","banner":"sun"}}`, card.Body, "used at once")
	for body, reason := range map[string]string{
		`{"name":"banner","default":"plain","rules":[{"variant":"sun","when":{"countries":["UK"]}}]}`: "rules.0.when.countries: \"UK\" is not a country code: did you mean GB?",
		`{"name":"other","default":"plain","rules":[]}`:                                               "not that of the path",
		`{"name":"banner","default":"plain","rules":[{"variant":"sun","when":{"areas":["Sea"]}}]}`:    "not an area",
		`{"name":"banner","default":"plain","rulez":[]}`:                                              "rulez",
	} {
		bad := put("banner", body)
		assert.GreaterOrEqual(t, bad.Status, 400)
		assert.Contains(t, bad.Said(t), reason)
	}
	own := put("offer", `{"name":"offer","default":"plain","rules":[]}`)
	assert.Equal(t, http.StatusConflict, own.Status)
	assert.Contains(t, own.At(t, "detail"), "The configuration has the variants offer.")
	list := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/variants", "")
	assert.Equal(t, []any{"Iberia", "Alpine lakes", "Nordic coast"}, list.At(t, "areas"))
	from := map[string]string{}
	for _, set := range live.Parse[struct{ Sets []struct{ Name, From string } }](t, list).Sets {
		from[set.Name] = set.From
	}
	assert.Equal(t, map[string]string{"pictures": "configuration", "offer": "configuration", "banner": "console"}, from)
	drop := func() int {
		return s.Call(t, "127.0.0.1", http.MethodDelete, s.AdminURL+"/v1/variants/banner", "").Status
	}
	assert.Equal(t, http.StatusNoContent, drop())
	assert.Equal(t, http.StatusNotFound, drop())
	assert.Equal(t, "variants dropped", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/audit-log", "").At(t, "events.0.what"))
}
