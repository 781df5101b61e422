package answers

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/report"
	"eastporch/internal/testkit/live"
)

// Addresses that are never looked up count where their owner says that they are.
func TestAPlaceholderNamesAPlace(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Change(t, "policy:\n", `policy:
  - { prefix: 10.0.0.0/8, action: skip, placeholder: the office, place: { country_code: "NO", city: Oslo } }
`)
	require.Equal(t, http.StatusOK, s.Reload(t).Status)
	for _, ip := range []string{"10.1.2.3", "10.9.9.9", "192.168.7.7", "198.18.3.40"} {
		require.Equal(t, http.StatusCreated, s.Post(t, live.VisitBody("203.0.113.4", ip), "User-Agent: Firefox").Status)
	}
	made := s.Post(t, live.VisitBody("203.0.113.4", "10.1.2.3"), "Prefer: return=representation, wait=10", "User-Agent: Firefox")
	at := func(path string) any { return made.At(t, "visit.card."+path) }
	assert.Equal(t, []any{true, "the office", nil, "city", "NO", "NO-03", "Oslo", "Europe/Oslo"}, []any{
		at("address.skipped"), at("address.placeholder"), at("address.text"), at("location.level"), at("location.country_code"), at("location.region_code"), at("location.city"), at("location.time_zone"),
	})
	assert.Equal(t, []any{"the policy", "correction", nil}, []any{at("evidence.0.source"), at("evidence.0.basis"), at("evidence.0.range")})
	counts := func(by string) (list map[string]int64, of report.Report) {
		of = live.Parse[report.Report](t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/reports/"+by+"?site=heronlake.example", ""))
		list = map[string]int64{}
		for _, row := range of.Rows {
			list[row.Key] = row.Visits
		}
		return list, of
	}
	countries, of := counts("countries")
	assert.Equal(t, map[string]int64{"NO": 3, "PT": 1, "": 1}, countries)
	assert.Equal(t, report.NoPoint{Placeholders: map[string]int64{}, Skipped: 1}, of.NoPoint)
	towns, _ := counts("towns")
	assert.Equal(t, map[string]int64{"NO/NO-03/Oslo": 3, "PT/PT-11/Lisbon": 1}, towns)

	for bad, says := range map[string]string{
		`{ prefix: 10.0.0.0/8, action: skip, placeholder: the office, place: { city: Oslo } }`:                            "policy.0.place.country_code",
		`{ prefix: 10.0.0.0/8, action: skip, place: { country_code: "NO" } }`:                                             "goes with a placeholder",
		`{ prefix: 10.0.0.0/8, action: resolve, placeholder: the office, place: { country_code: "NO" } }`:                 "addresses that are skipped",
		`{ prefix: 10.0.0.0/8, action: skip, placeholder: the office, place: { country_code: UK } }`:                      "did you mean GB?",
		`{ prefix: 10.0.0.0/8, action: skip, placeholder: the office, place: { country_code: "NO", region_code: SE-1 } }`: "policy.0.place.region_code",
	} {
		s := live.Start(t, nil)
		s.Change(t, "policy:\n", "policy:\n  - "+bad+"\n")
		assert.Contains(t, s.Reload(t).Said(t), says, bad)
	}
}
