package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
)

// parse reads the body of an answer.
func parse[T any](t testing.TB, a answer) (v T) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(a.body), &v), a.body)
	return v
}

func TestCountriesAndFlags(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	get := func(path string) answer {
		return s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+path, "", anonymous)
	}
	type choices struct {
		Countries []struct {
			CountryCode string `json:"country_code"`
			Name        string
		}
	}
	assert.Len(t, parse[choices](t, get("/v1/countries")).Countries, 249)
	nordic := parse[choices](t, get("/v1/countries?group=nordic&language=nb")).Countries
	require.Len(t, nordic, 5)
	assert.Equal(t, "Danmark", nordic[0].Name)
	assert.Equal(t, "Sverige", nordic[4].Name)
	portugal := get("/v1/countries/PT?language=ja")
	assert.Equal(t, "public, max-age=86400", portugal.header.Get("Cache-Control"))
	for _, want := range []string{`"name":"ポルトガル"`, `"own_names":{"pt":"Portugal"}`, `"neighbours":["ES"]`, `"groups":["eea","eu","euro-area","schengen"]`, `"region_code":"PT-11"`, `"amount":"1 234 567,50 €"`} {
		assert.Contains(t, strings.ReplaceAll(portugal.body, "\u00a0", " "), want)
	}
	flag := get("/v1/countries/pt/flag.svg?shape=round&language=nb")
	assert.Equal(t, "image/svg+xml", flag.header.Get("Content-Type"))
	assert.Contains(t, flag.body, "<title>Portugal</title>")
	for path, reason := range map[string]string{
		"/v1/countries/UK":                   "did you mean GB?",
		"/v1/countries/AN":                   "did you mean BQ, CW or SX?",
		"/v1/countries?group=nordics":        "Known are eea, eu, euro-area, nordic, schengen.",
		"/v1/countries?language=!!":          "not a language tag",
		"/v1/countries/PT/flag.svg?shape=x":  "Give wide, square or round.",
		"/v1/countries?continent_code=EX":    "not a continent",
		"/v1/countries/%00":                  "not UTF-8, or holds a NUL",
		"/v1/countries/PT?fields=capital.xx": "leads to nothing",
	} {
		bad := get(path)
		assert.GreaterOrEqual(t, bad.status, 400, path)
		assert.Contains(t, bad.said(t), reason, path)
	}
}

type localAnswer struct {
	Locale struct {
		Language, Reason, Formatting string
		Offered, Hints               []string
		Names                        struct{ Country *string }
	}
	Money struct {
		CurrencyCode *string `json:"currency_code"`
		Rate         *struct{ From, Direction, Ending string }
	}
	Clock struct {
		TimeZone      *string `json:"time_zone"`
		BusinessHours *bool   `json:"business_hours"`
	}
	Variants map[string]string
	At       *struct{ Text, Instant string }
}

func TestLocaleOfSomebodyDescribed(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	get := func(query string) answer {
		return s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/locale?"+query, "")
	}
	japan := parse[localAnswer](t, get("country_code=JP&at=2027-06-12T10:00:00%2B02:00"))
	assert.Equal(t, "ja", japan.Locale.Language, "the site has it")
	assert.Equal(t, "country", japan.Locale.Reason)
	assert.Equal(t, []string{"ja", "en", "pt-PT", "fr", "nb"}, japan.Locale.Offered)
	assert.Equal(t, "日本", *japan.Locale.Names.Country)
	assert.Equal(t, "2027年6月12日土曜日 17:00", japan.At.Text)
	assert.Equal(t, "x00", japan.Money.Rate.Ending)
	assert.Equal(t, map[string]string{"pictures": "lake", "offer": "shipping-help"}, japan.Variants)

	brazil := parse[localAnswer](t, get("country_code=BR&accept_language=pt-BR"))
	assert.Equal(t, "pt-PT", brazil.Locale.Language, "the site's Portuguese")
	assert.Equal(t, "pt-BR", brazil.Locale.Formatting, "with Brazil's habits")
	assert.Nil(t, brazil.Clock.TimeZone, "Brazil has several")
	assert.Nil(t, brazil.At)

	lisbon := parse[localAnswer](t, get("address=198.18.3.40&choice=fr&accept_language=fi"))
	assert.Equal(t, "fr", lisbon.Locale.Language, "the visitor's choice wins")
	assert.Equal(t, "Europe/Lisbon", *lisbon.Clock.TimeZone)
	assert.Equal(t, map[string]string{"pictures": "coast", "offer": "early-entry"}, lisbon.Variants)
	assert.Len(t, lisbon.Locale.Hints, 1, "Finnish in Portugal")

	elsewhere := parse[localAnswer](t, get("address=198.18.3.40&time_zone=Atlantic/Azores&at=2027-06-12T08:00:00Z"))
	assert.Equal(t, "Atlantic/Azores", *elsewhere.Clock.TimeZone, "the zone that is given")
	assert.Equal(t, "sábado, 12 de junho de 2027 às 08:00", elsewhere.At.Text)

	nowhere := parse[localAnswer](t, get(""))
	assert.Equal(t, "en", nowhere.Locale.Language)
	assert.Nil(t, nowhere.Money.CurrencyCode)

	for query, reason := range map[string]string{
		"country_code=UK":               "did you mean GB?",
		"country_code=JP&address=::1":   "a country is given too",
		"time_zone=Europe/Atlantis":     "not a time zone",
		"at=noon":                       "is not a time",
		"site=elsewhere.example":        "not a configured site",
		"address=198.18.3":              "198.18.3",
		"accept_language=" + longText(): "",
	} {
		got := get(query)
		if reason == "" {
			assert.Contains(t, parse[localAnswer](t, got).Locale.Hints[0], "10000 bytes")
			continue
		}
		assert.GreaterOrEqual(t, got.status, 400, query)
		assert.Contains(t, got.said(t), reason, query)
	}
}

func longText() string { return strings.Repeat("x", 10_000) }

func TestConvertAndRates(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "rates.csv"), nil, 0o600)) // the service has read it already
	get := func(query string, header ...string) answer {
		return s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/v1/convert?"+query, "", header...)
	}
	type conversions struct {
		Stale       bool
		Conversions []struct {
			To                                 struct{ Value, Text string }
			CurrencyCode                       string `json:"currency_code"`
			Direction, Rounding, Dated, Source string
		}
	}
	fromJapan := parse[conversions](t, get("amount=85&amount=0&amount=-10", "X-Forwarded-For: 198.19.141.9", "Accept-Language: ja"))
	require.Len(t, fromJapan.Conversions, 3)
	first := fromJapan.Conversions[0]
	assert.Regexp(t, `^￥1[34],[0-9]00$`, first.To.Text, "the visitor's currency, by the owner's ending and the language's habits")
	assert.Equal(t, "the price ending x00", first.Rounding)
	assert.Regexp(t, `^1 EUR = 1[56][0-9]\.[0-9]+ JPY$`, first.Direction)
	assert.Equal(t, "Lake Bank (invented)", first.Source)
	assert.Equal(t, "0", fromJapan.Conversions[1].To.Value)
	assert.Regexp(t, `^-`, fromJapan.Conversions[2].To.Value)
	assert.False(t, fromJapan.Stale)

	for query, reason := range map[string]string{
		"amount=85&to=ZZZ":                         "not a currency of ISO 4217",
		"amount=85&to=JP":                          "did you mean JPY?",
		"amount=ten&to=JPY":                        "not a decimal number",
		"amount=1e5&to=JPY":                        "not a decimal number",
		"amount=9999999999999999999&to=JPY":        "18 digits",
		"to=JPY":                                   "amount",
		"amount=85&to=XCG":                         "have none for XCG",
		"amount=85&from=JPY&to=USD&language=!":     "not a language tag",
		"amount=" + strings.Repeat("9", 5000):      "not a decimal number",
		"to=JPY" + strings.Repeat("&amount=1", 51): "Give 1 to 50",
	} {
		bad := get(query, "X-Forwarded-For: 198.19.141.9")
		assert.Equal(t, http.StatusUnprocessableEntity, bad.status, query)
		assert.Contains(t, bad.said(t), reason, query)
	}
	lost := get("amount=85", "X-Forwarded-For: 10.0.0.9")
	assert.Contains(t, lost.said(t), "no currency is given, and none follows from elsewhere")

	rates := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/rates", "")
	assert.Equal(t, []any{"EUR", 0.0}, []any{rates.at(t, "base"), rates.at(t, "age_days")})

	for args, want := range map[string]string{
		"rates":                                    "Lake Bank (invented), dated",
		"convert 85 --to JPY --language ja":        "the price ending x00",
		"locale --country-code JP -o yaml":         "language: ja",
		"locale --address 198.18.3.40 --choice fr": "français, they chose it",
	} {
		got := runCLI(t, s, strings.Fields(args)...)
		assert.Zero(t, got.code, got.err)
		assert.Contains(t, got.out, want, args)
	}
	assert.Contains(t, runCLI(t, s, "locale", "--country-code", "UK").err, "did you mean GB?")
	assert.Contains(t, titles(t, s), "The exchange rates are recent.")

	// Old rates serve, and it is said.
	old := start(t, map[string]any{"rates.file": oldRates(t)})
	stale := old.call(t, "127.0.0.1", http.MethodGet, old.adminURL+"/v1/convert?amount=85&to=JPY", "")
	assert.Equal(t, []any{true, "13700"}, []any{stale.at(t, "stale"), stale.at(t, "conversions.0.to.value")})
	assert.Contains(t, titles(t, old), "The exchange rates are 9 days old.")
	assert.Contains(t, runCLI(t, old, "rates").err, "older than rates.stale_days")

	assert.Contains(t, old.call(t, "127.0.0.1", http.MethodGet, old.adminURL+"/metrics", "").body, "eastporch_exchange_rates_age_seconds 777600")

	none := start(t, map[string]any{"rates.file": ""})
	assert.Nil(t, none.call(t, "127.0.0.1", http.MethodGet, none.adminURL+"/v1/rates", "").at(t, "base"))
	assert.Contains(t, none.call(t, "127.0.0.1", http.MethodGet, none.adminURL+"/v1/convert?amount=1&to=JPY", "").at(t, "detail"), "There are no rates")
}

// titles are those of the checkup's findings.
func titles(t *testing.T, s *service) (list []string) {
	t.Helper()
	for _, f := range parse[api.Checkup](t, s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/checkup", "")).Findings {
		list = append(list, f.Title)
	}
	return list
}

// oldRates writes rates of nine days ago.
func oldRates(t *testing.T) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "rates.csv")
	text := fmt.Sprintf("date,base,currency,rate\n%s,EUR,JPY,161.25\n", time.Now().UTC().AddDate(0, 0, -9).Format(time.DateOnly))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

func TestVariantsFromTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	put := func(name, body string) answer {
		return s.call(t, "127.0.0.1", http.MethodPut, s.adminURL+"/v1/variants/"+name, body)
	}
	require.Equal(t, http.StatusNoContent, put("banner", `{"name":"banner","default":"plain","rules":[{"variant":"sun","when":{"countries":["PT","BR"],"languages":["pt"]}}]}`).status)
	card := s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/v1/visitor?fields=variants", "", "X-Forwarded-For: 198.18.3.40", "Accept-Language: pt")
	assert.JSONEq(t, `{"variants":{"pictures":"coast","offer":"early-entry","banner":"sun"}}`, card.body, "used at once")
	for body, reason := range map[string]string{
		`{"name":"banner","default":"plain","rules":[{"variant":"sun","when":{"countries":["UK"]}}]}`: "rules.0.when.countries: \"UK\" is not a country code: did you mean GB?",
		`{"name":"other","default":"plain","rules":[]}`:                                               "not that of the path",
		`{"name":"banner","default":"plain","rules":[{"variant":"sun","when":{"areas":["Sea"]}}]}`:    "not an area",
		`{"name":"banner","default":"plain","rulez":[]}`:                                              "rulez",
	} {
		bad := put("banner", body)
		assert.GreaterOrEqual(t, bad.status, 400)
		assert.Contains(t, bad.said(t), reason)
	}
	own := put("offer", `{"name":"offer","default":"plain","rules":[]}`)
	assert.Equal(t, http.StatusConflict, own.status)
	assert.Contains(t, own.at(t, "detail"), "The configuration has the variants offer.")
	list := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/variants", "")
	assert.Equal(t, []any{"Iberia", "Alpine lakes", "Nordic coast"}, list.at(t, "areas"))
	from := map[string]string{}
	for _, set := range parse[struct{ Sets []struct{ Name, From string } }](t, list).Sets {
		from[set.Name] = set.From
	}
	assert.Equal(t, map[string]string{"pictures": "configuration", "offer": "configuration", "banner": "console"}, from)
	drop := func() int {
		return s.call(t, "127.0.0.1", http.MethodDelete, s.adminURL+"/v1/variants/banner", "").status
	}
	assert.Equal(t, http.StatusNoContent, drop())
	assert.Equal(t, http.StatusNotFound, drop())
	assert.Equal(t, "variants dropped", s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/audit-log", "").at(t, "events.0.what"))
}

func TestDevicePosition(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	get := func(query string) answer {
		return s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/v1/visitor?fields=device&"+query, "", "X-Forwarded-For: 198.18.3.40")
	}
	assert.JSONEq(t, `{"device":null}`, get("").body)
	porto := parse[struct {
		Device struct {
			City, TimeZone string
			FromAddressKm  float64 `json:"from_address_km"`
		}
	}](t, get("latitude=41.15&longitude=-8.61&accuracy_km=0.05"))
	assert.Equal(t, "Porto", porto.Device.City)
	assert.InDelta(t, 274, porto.Device.FromAddressKm, 3, "from Lisbon")
	for query, field := range map[string]string{
		"latitude=95&longitude=0": "latitude", "latitude=41&longitude=-8&accuracy_km=-1": "accuracy_km", "latitude=NaN&longitude=-8": "latitude",
	} {
		assert.True(t, strings.HasPrefix(get(query).said(t), field+": "), query)
	}
}

// Every snippet runs in its language, where that is on the machine, and gets the facts
// that were chosen.
func TestSnippetsRun(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	key := s.keys(t)["server"]
	got := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/snippets?fields=location.city,locale.language,money.currency_code&base="+s.publicURL+"&key="+key, "")
	list := parse[struct {
		Snippets []struct{ Name, File, Text string }
	}](t, got).Snippets
	run := map[string][]string{
		"go": {"go", "run", "porch.go"}, "node": {"node", "porch.mjs"}, "python": {"python3", "porch_card.py"}, "php": {"php", "porch.php"},
		"java": {"java", "Porch.java"}, "rust": {"sh", "-c", "rustc -o porch porch.rs && ./porch"}, "shell": {"sh", "porch.sh"},
	}
	needs := map[string]string{"rust": "rustc"}
	ran := []string{}
	for _, one := range list {
		command, ok := run[one.Name]
		if !ok {
			continue
		}
		need := command[0]
		if other, ok := needs[one.Name]; ok {
			need = other
		}
		if !onMachine(need) {
			continue
		}
		ran = append(ran, one.Name)
		out := runSnippet(t, one.File, one.Text, command)
		assert.JSONEq(t, `{"location":{"city":"Lisbon"},"locale":{"language":"pt-PT"},"money":{"currency_code":"EUR"}}`, out, one.Name)
	}
	assert.Subset(t, ran, []string{"go", "node", "shell"}, "these are there wherever the tests are")
	t.Log("ran", ran)
	bad := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/snippets?base=javascript:alert(1)", "")
	assert.Equal(t, http.StatusUnprocessableEntity, bad.status)
	assert.Equal(t, http.StatusUnprocessableEntity, s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/snippets?fields='x'", "").status)
	assert.True(t, slices.ContainsFunc(list, func(one struct{ Name, File, Text string }) bool { return one.Name == "page" }))
}
