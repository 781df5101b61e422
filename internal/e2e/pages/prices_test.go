package pages

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/locale"
	pagescript "eastporch/internal/server/page"
	"eastporch/internal/testkit/live"
)

// scriptAlone opens a page with the script, whose card is what is put into card.
func scriptAlone(t *testing.T, page string) (p *live.Page, card *atomic.Value) {
	t.Helper()
	card = &atomic.Value{}
	mux := http.NewServeMux()
	mux.HandleFunc("/porch.js", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/javascript")
		_, _ = w.Write(pagescript.Script)
	})
	mux.HandleFunc("/v1/visitor", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(card.Load().([]byte)) })
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, page)
	})
	card.Store([]byte(`{}`))
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	p = live.OpenTab(t)
	p.Do(chromedp.Navigate(server.URL))
	return p, card
}

// Every price that the page script writes is the one that the service writes, digit by
// digit: random amounts, rates and endings in the currency of every country.
func TestThePricesOfTheScript(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(14, 7))
	number := func(digits, places int) decimal.Decimal {
		return decimal.New(rnd.Int64N(int64(pow10(1+rnd.IntN(digits)))), -int32(rnd.IntN(places+1)))
	}
	p, card := scriptAlone(t, `<!doctype html><html lang="en"><script src="/porch.js"></script>`)

	// Spaces may be of several widths, and the guilder's sign is younger than browsers.
	plain := strings.NewReplacer("\u00a0", " ", "\u202f", " ", "Cg.", "XCG ")
	tried, differed := 0, 0
	for _, c := range almanac.All() {
		if c.Currency == "" {
			continue
		}
		from := []string{"EUR", "JPY", c.Currency}[rnd.IntN(3)]
		base := number(4, 3).Add(decimal.New(1, -3))
		rates := locale.Rates{Base: "EUR", Dated: time.Now(), Source: "made up", Of: map[string]decimal.Decimal{"EUR": decimal.New(1, 0)}}
		rates.Of[from], rates.Of[c.Currency] = base, number(9, 6).Add(decimal.New(1, -6))
		endings := map[string]locale.Ending{}
		if rnd.IntN(3) == 0 {
			e, err := locale.ParseEnding([]string{"x.95", "x9.90", "x00", "x9", "x.5"}[rnd.IntN(5)])
			require.NoError(t, err)
			endings[c.Currency] = e
		}
		money := locale.MoneyOf(&c)
		money.Rate = rates.Table(from, endings)[c.Currency]
		if rnd.IntN(2) == 0 { // a price of the page that is in another currency than the site's
			rates.Of["NOK"] = number(3, 4).Add(decimal.New(1, -4))
			from, money.Rates = "NOK", []locale.Rate{*rates.Between("NOK", c.Currency, endings)}
		}
		text, err := json.Marshal(map[string]any{"money": money, "locale": map[string]string{"formatting": "en"}})
		require.NoError(t, err)
		card.Store(text)

		var amounts []string
		for range 20 {
			value := number(12, 6)
			if rnd.IntN(5) == 0 {
				value = value.Neg()
			}
			amounts = append(amounts, value.String())
		}
		given, err := json.Marshal(amounts)
		require.NoError(t, err)
		var got []string
		answer := p.Eval(fmt.Sprintf(`porch.choose("").then(() => JSON.stringify(%s.map((v) => porch.price(v, %q)?.text ?? "none")))`, given, from))
		require.NoError(t, json.Unmarshal([]byte(answer), &got))
		for i, amount := range amounts {
			conversion, err := rates.Convert(decimal.RequireFromString(amount), from, c.Currency, endings[c.Currency], "en", time.Now())
			require.NoError(t, err)
			tried++
			if want := plain.Replace(conversion.To.Text); want != plain.Replace(got[i]) {
				differed++
				assert.Equal(t, want, plain.Replace(got[i]), "%s %s in %s, rate %s, %s", amount, from, c.Currency, conversion.Rate, conversion.Rounding)
			}
		}
	}
	t.Logf("%d prices: %d differed", tried, differed)
}

// Times and prices of the script in languages that browsers know, as the service writes
// them; and in Nynorsk, which they may not.
func TestTheLanguagesOfTheScript(t *testing.T) {
	t.Parallel()
	p, card := scriptAlone(t, `<!doctype html><meta charset="utf-8"><script src="/porch.js"></script>`)
	plain := strings.NewReplacer("\u00a0", " ", "\u202f", " ")
	chf := "CHF"
	tried := 0
	for _, tag := range strings.Fields("es-ES es-MX zh-Hant-TW zh-Hant-HK zh-CN fr-CH fr-FR de-CH de-AT nn-NO nb-NO pt-PT pt-BR ja-JP ar-EG hi-IN fi-FI th-TH fa-IR en-US en-IN ru-RU") {
		text, err := json.Marshal(map[string]any{
			"money":  map[string]any{"currency_code": chf, "display_digits": 2, "minor_units": 2, "rate": nil},
			"locale": map[string]string{"formatting": tag}, "clock": map[string]string{"time_zone": "UTC"},
		})
		require.NoError(t, err)
		card.Store(text)
		for hour := range 8 {
			at := time.Date(2027, 6, 12, 3*hour, 7, 0, 0, time.UTC)
			amount := decimal.New(int64(hour-3)*123456789, -int32(2+hour%3))
			answer := p.Eval(fmt.Sprintf(`porch.choose("").then(() => JSON.stringify([porch.time(%q), porch.price(%q, "CHF").text]))`, at.Format(time.RFC3339), amount))
			var got []string
			require.NoError(t, json.Unmarshal([]byte(answer), &got))
			for i := range got {
				got[i] = plain.Replace(got[i])
			}
			tried += 2
			when, sum := locale.FormatTime(at, tag), locale.FormatAmount(amount, chf, tag, locale.Ending{})
			if tag == "nn-NO" && strings.Contains(got[0], "lørdag") { // a browser that knows Bokmål alone
				when = locale.FormatTime(at, "nb-NO")
			}
			assert.Equal(t, []string{plain.Replace(when), plain.Replace(sum)}, got, tag)
		}
	}
	t.Logf("%d times and prices", tried)
}

func pow10(n int) int {
	p := 1
	for range n {
		p *= 10
	}
	return p
}
