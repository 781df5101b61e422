package pages

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/companion"
	"eastporch/internal/core/report"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// The regatta's page reacts to the weather where its visitor is, seen from four countries, and with the service
// slow, failing, and back again. Then all that left the machine is searched for more than coarse facts, and all
// that was said for the secret.
func TestCompanionsOnTheRegattasPage(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	weather, secret := live.WithWeather(t, s)
	key := s.Keys(t)["server"]
	site, err := demo.NewPage(func(ctx context.Context) (report.Report, error) {
		return s.Client.Report(ctx, "countries", url.Values{"site": {demo.Site}})
	})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	at, stopped, err := demo.StartSite(ctx, "127.0.0.1:0", s.PublicURL, key, site)
	require.NoError(t, err)
	t.Cleanup(func() { stop(); <-stopped })
	p := live.OpenTab(t)
	p.Do(chromedp.EmulateViewport(1280, 800))
	const human = `[data-porch="companions.weather.human.temperature"]`
	classes := func() string {
		return p.Eval(`[...document.documentElement.classList].filter((c) => c.startsWith("weather-")).join(" ")`)
	}
	for _, from := range []string{"Portugal", "Japan", "Canada", "Norway"} {
		p.Do(chromedp.Navigate(at + "/from/" + from))
		p.Until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
		assert.Regexp(t, `^−?[0-9]+([.,][0-9])? ?°C$`, strings.ReplaceAll(p.Text(human), "\u00a0", " "), from)
		card := live.Parse[struct {
			Companions map[string]companion.Answer `json:"companions"`
		}](t, s.Call(t, "127.0.0.1", http.MethodGet, at+"/porch/v1/visitor?fields=companions", "", live.Anonymous, "Cookie: seen_from="+from, "Accept-Language: "+p.Eval("navigator.languages.join()")))
		own := card.Companions["weather"]
		require.NotNil(t, own.Category, "%s: %v", from, own.Missing)
		assert.Equal(t, "weather-"+*own.Category, classes(), from)
		assert.Equal(t, own.Human["temperature"], p.Text(human))
		assert.Equal(t, "Sky by Stand-in Weather (invented)", p.Text(`[data-porch="companions.weather.credit"]`), "the credit is on the page")
		assert.NotContains(t, p.Text(`[data-porch="companions.weather.category"]`), "–", "in the page's own words")
		assert.Contains(t, p.Text(`[data-porch="companions.water.human.wind"]`), "m/s")
	}
	asked := len(weather.Asked())
	p.Do(chromedp.Navigate(at + "/from/Japan"))
	p.Until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
	assert.Len(t, weather.Asked(), asked, "a place that is known costs no question")

	// Slow: the card does not wait, and the page asks again once.
	weather.Slowness = 1500 * time.Millisecond
	require.NoError(t, weather.Fail("slow"))
	p.Do(chromedp.Navigate(at + "/from/Brazil"))
	p.Says(`[data-porch="location.names.city"]`, "São Paulo")
	assert.Empty(t, classes(), "the page is there before the weather")
	p.Until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
	assert.NotEmpty(t, classes())

	// Failing: the rest of the card stands, what is known is shown with its age, and somebody new has none.
	require.NoError(t, weather.Fail("503"))
	live.SaidAnew(t, s.Client, func(c *companion.Said) { c.Grid = 0.5 }) // so that nothing is kept
	p.Do(chromedp.Navigate(at + "/from/Portugal"))
	p.Says(`[data-porch="location.names.city"]`, "Lisbon")
	p.Until(`document.querySelector('` + human + `')?.dataset.porchState === "failed"`)
	assert.Empty(t, classes())
	assert.Equal(t, "–", p.Text(`[data-porch="companions.weather.category"]`))
	assert.Contains(t, p.Text(`[data-porch="companions.water.human.wind"]`), "m/s", "the other companion is as it was")
	state, err := s.Client.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	assert.Equal(t, companion.Failing, state.Standing)
	assert.Equal(t, "the service answered 503", *state.Reason)
	checkup := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/checkup", "").Body
	assert.Contains(t, checkup, "The companion weather fails.", "all is not well")

	// And back again.
	require.NoError(t, weather.Fail("none"))
	state, err = s.Client.AskCompanion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	assert.Equal(t, companion.Answering, state.Standing)
	p.Do(chromedp.Navigate(at + "/"))
	p.Until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
	assert.NotEmpty(t, classes())

	// A variant by what the weather is.
	category := strings.TrimPrefix(classes(), "weather-")
	require.Equal(t, http.StatusNoContent, s.Call(t, "127.0.0.1", http.MethodPut, s.AdminURL+"/v1/variants/mood", fmt.Sprintf(`{"name":"mood","default":"usual","rules":[{"variant":"reacts","when":{"categories":["weather.%s"]}}]}`, category)).Status)
	assert.Contains(t, s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/handover", "", "Authorization: Bearer "+key, "X-Forwarded-For: "+demo.SeenFrom["Portugal"], "Accept-Language: "+p.Eval("navigator.languages.join()")).Header.Get("Porch-Variant"), "mood=reacts")
	p.NothingWrong()

	for _, one := range weather.Asked() {
		assert.Regexp(t, `^GET /v1/(lake\?key=|now\?lat=-?[0-9.]{1,5}&lon=-?[0-9.]{1,6}&lang=[a-z]{2}&units=metric&key=)`+secret+`\nHost: 127\.0\.0\.1:\d+\nAccept: application/json\r\nUser-Agent: EastPorch\r\n$`, one)
		for _, address := range demo.SeenFrom {
			assert.NotContains(t, one, address)
		}
	}
	for _, path := range []string{"/v1/companions", "/v1/companions/weather", "/v1/visitor", "/v1/snippets", "/v1/audit-log", "/v1/checkup", "/v1/visits/export?site=heronlake.example&format=csv", "/v1/atlas", "/v1/variants", "/metrics", "/openapi.json"} {
		answer := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+path, "")
		assert.Equal(t, http.StatusOK, answer.Status, path)
		assert.NotContains(t, answer.Body+fmt.Sprint(answer.Header), secret, path)
	}
	assert.Contains(t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/metrics", "").Body, `eastporch_companion_questions_total{companion="weather",outcome="failed",site="heronlake.example"}`)
	for _, args := range [][]string{{"companions", "list"}, {"companions", "show", "weather"}, {"companions", "show", "weather", "--file", "-"}, {"companions", "try", "weather", "--whole"}, {"companions", "list", "--output", "json"}} {
		code, out, errors := live.RunIn(t, t.TempDir(), "", append([]string{"--server", s.AdminURL, "--key", s.Admin}, args...)...)
		assert.Zero(t, code, errors)
		assert.NotContains(t, out+errors, secret, args)
	}
}

// timers keeps what a page wants done in a minute or later, for a test to do, and lets it be hidden.
const timers = `{
	const real = window.setTimeout;
	window.worn = () => [...document.documentElement.classList].filter((c) => c.startsWith("weather-")).join(" ");
	window.later = [];
	window.setTimeout = (f, ms, ...more) => (ms >= 60000 ? later.push({ ms, do: () => f(...more) }) : real(f, ms, ...more));
	let hidden = false;
	Object.defineProperty(document, "hidden", { get: () => hidden });
	window.hide = (yes) => { hidden = yes; document.dispatchEvent(new Event("visibilitychange")); };
}`

// A page that stays open asks for its companions again, when there may be something new, and never while it is
// hidden.
func TestAPageThatStaysOpenAsksAgain(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	weather, _ := live.WithWeather(t, s)
	f := &front{from: "198.18.3.40", policy: "default-src 'self' 'unsafe-inline'", page: `<!doctype html><html lang="en"><title>A page</title><script src="/porch/porch.js" data-fields="location.city" defer></script>
		<b id="sky" data-porch="companions.weather.category" data-bright="Sun">the sky</b> <a id="credit" data-porch="companions.weather.credit">who</a>`}
	site := f.serve(t, s, s.Keys(t)["server"])
	p := live.OpenTab(t)
	_, err := chromedp.Call(p.Ctx, cdppage.AddScriptToEvaluateOnNewDocument, cdppage.AddScriptToEvaluateOnNewDocumentParams{Source: timers})
	require.NoError(t, err)
	p.Do(chromedp.Navigate(site + "/"))
	p.Until(`document.querySelector("#sky").dataset.porchState === "ready" && later.length === 1`)
	assert.Equal(t, "http://"+weatherHost(t, s)+"/", p.Eval(`document.querySelector("#credit").href`))
	wait, err := strconv.ParseFloat(p.Eval(`String(later[0].ms / 1000)`), 64)
	require.NoError(t, err)
	assert.InDelta(t, 1.05*1800, wait, 0.1*1800, "when the answer is no longer fresh")
	asked := len(f.queries())
	p.Eval(`hide(true), later.pop().do(), "hidden"`)
	p.Eval(`new Promise((done) => requestIdleCallback(() => done("idle")))`)
	assert.Len(t, f.queries(), asked, "nobody looks")
	live.SaidAnew(t, s.Client, func(c *companion.Said) {
		c.Categories, c.Default, c.Credit = []companion.Category{{Name: "bright", When: "cloud >= 0"}}, "grey", "Sky anew"
	})
	p.Eval(`hide(false), "seen"`)
	p.Until(`document.querySelector("#sky").textContent === "Sun" && worn() === "weather-bright" && later.length === 1`)
	assert.Equal(t, "Sky anew", p.Text("#credit"))
	live.SaidAnew(t, s.Client, func(c *companion.Said) { c.Categories[0].Name = "grey" })
	p.Eval(`later.pop().do(), "a while later"`)
	p.Until(`worn() === "weather-grey"`)
	assert.Equal(t, "grey", p.Text("#sky"), "one class, in the place of the one before")
	assert.Len(t, weather.Asked(), 2, "the sky and the lake, once each")
	p.NothingWrong()
}

// weatherHost is where the weather of a service is.
func weatherHost(t *testing.T, s *live.Service) string {
	t.Helper()
	state, err := s.Client.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	u, err := url.Parse(state.Said.URL)
	require.NoError(t, err)
	return u.Host
}
