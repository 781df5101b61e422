package answers

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/testkit/live"
)

func TestCountriesAndFlags(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	get := func(path string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+path, "", live.Anonymous)
	}
	type choices struct {
		Countries []struct {
			CountryCode string `json:"country_code"`
			Name        string
		}
	}
	assert.Len(t, live.Parse[choices](t, get("/v1/countries")).Countries, 249)
	nordic := live.Parse[choices](t, get("/v1/countries?group=nordic&language=nb")).Countries
	require.Len(t, nordic, 5)
	assert.Equal(t, "Danmark", nordic[0].Name)
	assert.Equal(t, "Sverige", nordic[4].Name)
	portugal := get("/v1/countries/PT?language=ja")
	assert.Equal(t, "public, max-age=86400", portugal.Header.Get("Cache-Control"))
	for _, want := range []string{`"name":"ポルトガル"`, `"own_names":{"pt":"Portugal"}`, `"neighbours":["ES"]`, `"groups":["eea","eu","euro-area","schengen"]`, `"region_code":"PT-11"`, `"amount":"1 234 567,50 €"`} {
		assert.Contains(t, strings.ReplaceAll(portugal.Body, "\u00a0", " "), want)
	}
	flag := get("/v1/countries/pt/flag.svg?shape=round&language=nb")
	assert.Equal(t, "image/svg+xml", flag.Header.Get("Content-Type"))
	assert.Contains(t, flag.Body, "<title>Portugal</title>")
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
		assert.GreaterOrEqual(t, bad.Status, 400, path)
		assert.Contains(t, bad.Said(t), reason, path)
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
	s := live.Start(t, nil)
	get := func(query string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/locale?"+query, "")
	}
	japan := live.Parse[localAnswer](t, get("country_code=JP&at=2027-06-12T10:00:00%2B02:00"))
	assert.Equal(t, "ja", japan.Locale.Language, "the site has it")
	assert.Equal(t, "country", japan.Locale.Reason)
	assert.Equal(t, []string{"ja", "en", "pt-PT", "fr", "nb"}, japan.Locale.Offered)
	assert.Equal(t, "日本", *japan.Locale.Names.Country)
	assert.Equal(t, "2027年6月12日土曜日 17:00", japan.At.Text)
	assert.Equal(t, "x00", japan.Money.Rate.Ending)
	assert.Equal(t, map[string]string{"pictures": "lake", "offer": "shipping-help"}, japan.Variants)

	brazil := live.Parse[localAnswer](t, get("country_code=BR&accept_language=pt-BR"))
	assert.Equal(t, "pt-PT", brazil.Locale.Language, "the site's Portuguese")
	assert.Equal(t, "pt-BR", brazil.Locale.Formatting, "with Brazil's habits")
	assert.Nil(t, brazil.Clock.TimeZone, "Brazil has several")
	assert.Nil(t, brazil.At)

	lisbon := live.Parse[localAnswer](t, get("address=198.18.3.40&choice=fr&accept_language=fi"))
	assert.Equal(t, "fr", lisbon.Locale.Language, "the visitor's choice wins")
	assert.Equal(t, "Europe/Lisbon", *lisbon.Clock.TimeZone)
	assert.Equal(t, map[string]string{"pictures": "coast", "offer": "early-entry"}, lisbon.Variants)
	assert.Len(t, lisbon.Locale.Hints, 1, "Finnish in Portugal")

	elsewhere := live.Parse[localAnswer](t, get("address=198.18.3.40&time_zone=Atlantic/Azores&at=2027-06-12T08:00:00Z"))
	assert.Equal(t, "Atlantic/Azores", *elsewhere.Clock.TimeZone, "the zone that is given")
	assert.Equal(t, "sábado, 12 de junho de 2027 às 08:00", elsewhere.At.Text)

	nowhere := live.Parse[localAnswer](t, get(""))
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
			assert.Contains(t, live.Parse[localAnswer](t, got).Locale.Hints[0], "10000 bytes")
			continue
		}
		assert.GreaterOrEqual(t, got.Status, 400, query)
		assert.Contains(t, got.Said(t), reason, query)
	}
}

func longText() string { return strings.Repeat("x", 10_000) }

func TestConvertAndRates(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "rates.csv"), nil, 0o600)) // the service has read it already
	get := func(query string, header ...string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/convert?"+query, "", header...)
	}
	type conversions struct {
		Stale       bool
		Conversions []struct {
			To                                 struct{ Value, Text string }
			CurrencyCode                       string `json:"currency_code"`
			Direction, Rounding, Dated, Source string
		}
	}
	fromJapan := live.Parse[conversions](t, get("amount=85&amount=0&amount=-10", "X-Forwarded-For: 198.19.141.9", "Accept-Language: ja"))
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
		assert.Equal(t, http.StatusUnprocessableEntity, bad.Status, query)
		assert.Contains(t, bad.Said(t), reason, query)
	}
	lost := get("amount=85", "X-Forwarded-For: 10.0.0.9")
	assert.Contains(t, lost.Said(t), "no currency is given, and none follows from elsewhere")

	rates := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/rates", "")
	assert.Equal(t, []any{"EUR", 0.0}, []any{rates.At(t, "base"), rates.At(t, "age_days")})

	for args, want := range map[string]string{
		"rates":                                    "Lake Bank (invented), dated",
		"convert 85 --to JPY --language ja":        "the price ending x00",
		"locale --country-code JP -o yaml":         "language: ja",
		"locale --address 198.18.3.40 --choice fr": "français, they chose it",
	} {
		got := live.RunCLI(t, s, strings.Fields(args)...)
		assert.Zero(t, got.Code, got.Err)
		assert.Contains(t, got.Out, want, args)
	}
	assert.Contains(t, live.RunCLI(t, s, "locale", "--country-code", "UK").Err, "did you mean GB?")
	assert.Contains(t, titles(t, s), "The exchange rates are recent.")

	// Old rates serve, and it is said.
	old := live.Start(t, map[string]any{"rates.file": oldRates(t)})
	stale := old.Call(t, "127.0.0.1", http.MethodGet, old.AdminURL+"/v1/convert?amount=85&to=JPY", "")
	assert.Equal(t, []any{true, "13700"}, []any{stale.At(t, "stale"), stale.At(t, "conversions.0.to.value")})
	assert.Contains(t, titles(t, old), "The exchange rates are 9 days old.")
	assert.Contains(t, live.RunCLI(t, old, "rates").Err, "older than rates.stale_days")

	assert.Contains(t, old.Call(t, "127.0.0.1", http.MethodGet, old.AdminURL+"/metrics", "").Body, "eastporch_exchange_rates_age_seconds 777600")

	none := live.Start(t, map[string]any{"rates.file": ""})
	assert.Nil(t, none.Call(t, "127.0.0.1", http.MethodGet, none.AdminURL+"/v1/rates", "").At(t, "base"))
	assert.Contains(t, none.Call(t, "127.0.0.1", http.MethodGet, none.AdminURL+"/v1/convert?amount=1&to=JPY", "").At(t, "detail"), "There are no rates")
}

// titles are those of the checkup's findings.
func titles(t *testing.T, s *live.Service) (list []string) {
	t.Helper()
	for _, f := range live.Parse[api.Checkup](t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/checkup", "")).Findings {
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

func TestDevicePosition(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	get := func(query string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/visitor?fields=device&"+query, "", "X-Forwarded-For: 198.18.3.40")
	}
	assert.JSONEq(t, `{"device":null}`, get("").Body)
	porto := live.Parse[struct {
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
		assert.True(t, strings.HasPrefix(get(query).Said(t), field+": "), query)
	}
}
