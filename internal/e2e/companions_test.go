package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/report"
	"eastporch/internal/demo"
	"eastporch/internal/demo/standin"
	"eastporch/internal/testkit/db"
)

// withWeather gives a service the regatta's companions, and the weather that they ask.
func withWeather(t *testing.T, s *service) (weather *standin.Weather, secret string) {
	t.Helper()
	secret, err := demo.WeatherKey(s.dir)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, weather, err := demo.StartWeather(ctx, "127.0.0.1:0", secret)
	require.NoError(t, err)
	require.NoError(t, demo.Companions(t.Context(), s.client, at))
	return weather, secret
}

// saidAnew changes what is said of the weather.
func saidAnew(t *testing.T, c *client.Client, edit func(*companion.Said)) companion.State {
	t.Helper()
	s, err := c.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	edit(&s.Said)
	s, err = c.SaveCompanion(t.Context(), demo.Site, "weather", companion.Save{Said: s.Said, Revision: &s.Revision})
	require.NoError(t, err)
	return s
}

// The regatta's page reacts to the weather where its visitor is, seen from four countries, and with the service
// slow, failing, and back again. Then all that left the machine is searched for more than coarse facts, and all
// that was said for the secret.
func TestCompanionsOnTheRegattasPage(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	weather, secret := withWeather(t, s)
	key := s.keys(t)["server"]
	site, err := demo.NewPage(func(ctx context.Context) (report.Report, error) {
		return s.client.Report(ctx, "countries", url.Values{"site": {demo.Site}})
	})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	at, stopped, err := demo.StartSite(ctx, "127.0.0.1:0", s.publicURL, key, site)
	require.NoError(t, err)
	t.Cleanup(func() { stop(); <-stopped })
	p := openTab(t)
	p.do(chromedp.EmulateViewport(1280, 800))
	const human = `[data-porch="companions.weather.human.temperature"]`
	classes := func() string {
		return p.eval(`[...document.documentElement.classList].filter((c) => c.startsWith("weather-")).join(" ")`)
	}
	for _, from := range []string{"Portugal", "Japan", "Canada", "Norway"} {
		p.do(chromedp.Navigate(at + "/from/" + from))
		p.until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
		assert.Regexp(t, `^−?[0-9]+([.,][0-9])? ?°C$`, strings.ReplaceAll(p.text(human), "\u00a0", " "), from)
		card := parse[struct {
			Companions map[string]companion.Answer `json:"companions"`
		}](t, s.call(t, "127.0.0.1", http.MethodGet, at+"/porch/v1/visitor?fields=companions", "", anonymous, "Cookie: seen_from="+from, "Accept-Language: "+p.eval("navigator.languages.join()")))
		own := card.Companions["weather"]
		require.NotNil(t, own.Category, "%s: %v", from, own.Missing)
		assert.Equal(t, "weather-"+*own.Category, classes(), from)
		assert.Equal(t, own.Human["temperature"], p.text(human))
		assert.Equal(t, "Sky by Stand-in Weather (invented)", p.text(`[data-porch="companions.weather.credit"]`), "the credit is on the page")
		assert.NotContains(t, p.text(`[data-porch="companions.weather.category"]`), "–", "in the page's own words")
		assert.Contains(t, p.text(`[data-porch="companions.water.human.wind"]`), "m/s")
	}
	asked := len(weather.Asked())
	p.do(chromedp.Navigate(at + "/from/Japan"))
	p.until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
	assert.Len(t, weather.Asked(), asked, "a place that is known costs no question")

	// Slow: the card does not wait, and the page asks again once.
	weather.Slowness = 1500 * time.Millisecond
	require.NoError(t, weather.Fail("slow"))
	p.do(chromedp.Navigate(at + "/from/Brazil"))
	p.says(`[data-porch="location.names.city"]`, "São Paulo")
	assert.Empty(t, classes(), "the page is there before the weather")
	p.until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
	assert.NotEmpty(t, classes())

	// Failing: the rest of the card stands, what is known is shown with its age, and somebody new has none.
	require.NoError(t, weather.Fail("503"))
	saidAnew(t, s.client, func(c *companion.Said) { c.Grid = 0.5 }) // so that nothing is kept
	p.do(chromedp.Navigate(at + "/from/Portugal"))
	p.says(`[data-porch="location.names.city"]`, "Lisbon")
	p.until(`document.querySelector('` + human + `')?.dataset.porchState === "failed"`)
	assert.Empty(t, classes())
	assert.Equal(t, "–", p.text(`[data-porch="companions.weather.category"]`))
	assert.Contains(t, p.text(`[data-porch="companions.water.human.wind"]`), "m/s", "the other companion is as it was")
	state, err := s.client.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	assert.Equal(t, companion.Failing, state.Standing)
	assert.Equal(t, "the service answered 503", *state.Reason)
	checkup := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/checkup", "").body
	assert.Contains(t, checkup, "The companion weather fails.", "all is not well")

	// And back again.
	require.NoError(t, weather.Fail("none"))
	state, err = s.client.AskCompanion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	assert.Equal(t, companion.Answering, state.Standing)
	p.do(chromedp.Navigate(at + "/"))
	p.until(`document.querySelector('` + human + `')?.dataset.porchState === "ready"`)
	assert.NotEmpty(t, classes())

	// A variant by what the weather is.
	category := strings.TrimPrefix(classes(), "weather-")
	require.Equal(t, http.StatusNoContent, s.call(t, "127.0.0.1", http.MethodPut, s.adminURL+"/v1/variants/mood", fmt.Sprintf(`{"name":"mood","default":"usual","rules":[{"variant":"reacts","when":{"categories":["weather.%s"]}}]}`, category)).status)
	assert.Contains(t, s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/v1/handover", "", "Authorization: Bearer "+key, "X-Forwarded-For: "+demo.SeenFrom["Portugal"], "Accept-Language: "+p.eval("navigator.languages.join()")).header.Get("Porch-Variant"), "mood=reacts")
	p.nothingWrong()

	for _, one := range weather.Asked() {
		assert.Regexp(t, `^GET /v1/(lake\?key=|now\?lat=-?[0-9.]{1,5}&lon=-?[0-9.]{1,6}&lang=[a-z]{2}&units=metric&key=)`+secret+`\nHost: 127\.0\.0\.1:\d+\nAccept: application/json\r\nUser-Agent: EastPorch\r\n$`, one)
		for _, address := range demo.SeenFrom {
			assert.NotContains(t, one, address)
		}
	}
	for _, path := range []string{"/v1/companions", "/v1/companions/weather", "/v1/visitor", "/v1/snippets", "/v1/audit-log", "/v1/checkup", "/v1/visits/export?site=heronlake.example&format=csv", "/v1/atlas", "/v1/variants", "/metrics", "/openapi.json"} {
		answer := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+path, "")
		assert.Equal(t, http.StatusOK, answer.status, path)
		assert.NotContains(t, answer.body+fmt.Sprint(answer.header), secret, path)
	}
	assert.Contains(t, s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/metrics", "").body, `eastporch_companion_questions_total{companion="weather",outcome="failed",site="heronlake.example"}`)
	for _, args := range [][]string{{"companions", "list"}, {"companions", "show", "weather"}, {"companions", "show", "weather", "--file", "-"}, {"companions", "try", "weather", "--whole"}, {"companions", "list", "--output", "json"}} {
		code, out, errors := runIn(t, t.TempDir(), "", append([]string{"--server", s.adminURL, "--key", s.admin}, args...)...)
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
	s := start(t, nil)
	weather, _ := withWeather(t, s)
	f := &front{from: "198.18.3.40", policy: "default-src 'self' 'unsafe-inline'", page: `<!doctype html><html lang="en"><title>A page</title><script src="/porch/porch.js" data-fields="location.city" defer></script>
		<b id="sky" data-porch="companions.weather.category" data-bright="Sun">the sky</b> <a id="credit" data-porch="companions.weather.credit">who</a>`}
	site := f.serve(t, s, s.keys(t)["server"])
	p := openTab(t)
	_, err := chromedp.Call(p.ctx, cdppage.AddScriptToEvaluateOnNewDocument, cdppage.AddScriptToEvaluateOnNewDocumentParams{Source: timers})
	require.NoError(t, err)
	p.do(chromedp.Navigate(site + "/"))
	p.until(`document.querySelector("#sky").dataset.porchState === "ready" && later.length === 1`)
	assert.Equal(t, "http://"+weatherHost(t, s)+"/", p.eval(`document.querySelector("#credit").href`))
	wait, err := strconv.ParseFloat(p.eval(`String(later[0].ms / 1000)`), 64)
	require.NoError(t, err)
	assert.InDelta(t, 1.05*1800, wait, 0.1*1800, "when the answer is no longer fresh")
	asked := len(f.queries())
	p.eval(`hide(true), later.pop().do(), "hidden"`)
	p.eval(`new Promise((done) => requestIdleCallback(() => done("idle")))`)
	assert.Len(t, f.queries(), asked, "nobody looks")
	saidAnew(t, s.client, func(c *companion.Said) {
		c.Categories, c.Default, c.Credit = []companion.Category{{Name: "bright", When: "cloud >= 0"}}, "grey", "Sky anew"
	})
	p.eval(`hide(false), "seen"`)
	p.until(`document.querySelector("#sky").textContent === "Sun" && worn() === "weather-bright" && later.length === 1`)
	assert.Equal(t, "Sky anew", p.text("#credit"))
	saidAnew(t, s.client, func(c *companion.Said) { c.Categories[0].Name = "grey" })
	p.eval(`later.pop().do(), "a while later"`)
	p.until(`worn() === "weather-grey"`)
	assert.Equal(t, "grey", p.text("#sky"), "one class, in the place of the one before")
	assert.Len(t, weather.Asked(), 2, "the sky and the lake, once each")
	p.nothingWrong()
}

// weatherHost is where the weather of a service is.
func weatherHost(t *testing.T, s *service) string {
	t.Helper()
	state, err := s.client.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	u, err := url.Parse(state.Said.URL)
	require.NoError(t, err)
	return u.Host
}

// What docs/companions.md hands out is run as it stands there.
func TestCompanionsAsTheDocumentSays(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/companions.md")
	require.NoError(t, err)
	block := func(kind string) string {
		_, rest, ok := strings.Cut(string(text), "```"+kind+"\n")
		require.True(t, ok)
		inside, _, _ := strings.Cut(rest, "```")
		return inside
	}
	s := start(t, nil)
	require.Contains(t, block("sh"), "echo made-up-key-1 > secrets/weather.key")
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "secrets", "weather.key"), []byte("made-up-key-1\n"), 0o600))
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, _, err := demo.StartWeather(ctx, "127.0.0.1:0", "made-up-key-1")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "weather.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(block("yaml"), demo.WeatherAddress, at)), 0o600))
	ran := 0
	for line := range strings.Lines(block("sh")) {
		command, _, _ := strings.Cut(line, "#")
		words := strings.Fields(command)
		if len(words) < 2 || words[1] != "companions" {
			continue
		}
		for i, word := range words {
			if word == "weather.yaml" {
				words[i] = file
			}
		}
		code, out, errors := runIn(t, t.TempDir(), "", append([]string{"--server", s.adminURL, "--key", s.admin}, words[1:]...)...)
		require.Zero(t, code, "%s: %s", line, errors)
		if ran++; words[2] == "try" {
			assert.Contains(t, out, "/now/wind")
			assert.NotContains(t, out, "not usable")
		}
	}
	assert.Equal(t, 3, ran)
	card := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/visitor?site="+demo.Site+"&companions=wait:2s", "", "X-Forwarded-For: 198.18.3.40")
	seen := regexp.MustCompile(`data-porch="([^"]+)"`).FindAllStringSubmatch(block("html"), -1)
	require.Len(t, seen, 3)
	for _, path := range seen {
		assert.NotEmpty(t, card.at(t, path[1]), path[1])
	}
	var example map[string]map[string]companion.Answer
	require.NoError(t, json.Unmarshal([]byte(block("json")), &example), "the card that is shown is one")
}

// kill -9 between questions: the allowance of a day goes on where it was, at two instances as at one.
func TestFaultTheAllowanceIsCountedAcrossAKill(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	secret, err := demo.WeatherKey(dir)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, weather, err := demo.StartWeather(ctx, "127.0.0.1:0", secret)
	require.NoError(t, err)
	p := newProcess(t, db.New(t))
	p.args = append(p.args, "--secrets", filepath.Join(dir, "secrets"), "--companions-fetch-inside", "true")
	p.start()
	c, err := client.New(p.adminURL, p.key, nil)
	require.NoError(t, err)
	require.NoError(t, demo.Companions(t.Context(), c, at))
	const allowed = 9
	saidAnew(t, c, func(s *companion.Said) { s.ADay, s.Reserve = allowed, 0 })
	try := func(lat int) companion.Tried {
		t.Helper()
		c, err := client.New(p.adminURL, p.key, nil)
		require.NoError(t, err)
		s, err := c.Companion(t.Context(), demo.Site, "weather")
		require.NoError(t, err)
		towns := []string{"Lisbon, PT", "Oslo, NO", "Mumbai, IN", "Auckland, NZ"}
		tries, err := c.TryCompanion(t.Context(), demo.Site, companion.Try{Name: "weather", Said: s.Said, Visitors: towns[lat%4 : lat%4+1], Ask: true})
		require.NoError(t, err)
		return tries.Results[0]
	}
	for n := range allowed {
		got := try(n)
		assert.NotNil(t, got.Answer.Category, "question %d: %v", n, got.Answer.Missing)
		if n%3 == 2 {
			p.kill()
			p.start()
		}
	}
	assert.Contains(t, try(0).Answer.Missing["wind"], "the 9 questions of today are used up")
	assert.Len(t, weather.Asked(), allowed)
	c, err = client.New(p.adminURL, p.key, nil)
	require.NoError(t, err)
	s, err := c.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	assert.Equal(t, companion.UsedUp, s.Standing)
	assert.Equal(t, int64(allowed), s.UsedToday)
	require.NoError(t, p.stop())
	assert.NotContains(t, p.output.String(), secret)
}

// The page Companions: a companion is made, tried, its values picked by clicks and categories named, at seven
// widths and in the dark; then its service fails.
func TestCompanionsPage(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	weather, secret := withWeather(t, s)
	there, err := s.client.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	p := openPage(t, s)
	p.expected("/v1/companions/try") // which says what is wrong while somebody types
	p.do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.adminURL+"/companions"), visible(".companion-editor"), click(".companions-list .companions-head button"), visible(`[aria-label="New companion"]`))
	p.do(
		chromedp.SendKeys(chromedp.CSS(`[aria-label="Title"]`), "Sky"), chromedp.SendKeys(chromedp.CSS(`[aria-label="Name on the card"]`), "sky"),
		chromedp.SendKeys(chromedp.CSS(`[aria-label="Address of the service"]`), there.Said.URL), click(`.companion-add button:last-child`), click(`.companion-try > button:last-child`),
	)
	p.says(".companion-answer", `"temp":`)
	p.eval(`[...document.querySelectorAll("button.companion-line")].find((b) => b.textContent.includes('"wind"')).click(), "picked"`)
	p.says(".companion-answer .companion-line.chosen", "/now/wind")
	p.do(click(".companion-more .textlink"), chromedp.SendKeys(chromedp.CSS(`[aria-label="Name of the category"]`), "windy"))
	p.says(".companion-places .chip.category", "windy")
	p.do(click(".companion-buttons .ant-btn-primary"))
	p.says(".companions-list li.chosen", "Sky")
	made, err := s.client.Companion(t.Context(), demo.Site, "sky")
	require.NoError(t, err)
	assert.Equal(t, []companion.Pick{{Name: "wind", Pointer: "/now/wind", Type: "number"}}, made.Said.Values)
	assert.Equal(t, []companion.Category{{Name: "windy", When: "wind >= 0"}}, made.Said.Categories)
	p.do(click(`.companion-try > button:last-child`))
	p.says(".companions-question", "key=••••")

	require.NoError(t, weather.Fail("503"))
	long := strings.Repeat("a very long note ", 11)
	saidAnew(t, s.client, func(c *companion.Said) {
		c.Grid, c.Note, c.Title, c.Credit = 5, long, strings.Repeat("Weather ", 7), strings.Repeat("Credit ", 25)
	})
	_, err = s.client.TryCompanion(t.Context(), demo.Site, companion.Try{Name: "weather", Said: there.Said, Visitors: []string{"Oslo, NO"}, Ask: true})
	require.NoError(t, err)
	s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/visitor?site="+demo.Site+"&companions=wait:2s", "", "X-Forwarded-For: 198.18.3.40")
	p.do(chromedp.Navigate(s.adminURL + "/companions?companion=weather"))
	p.says(".companion-strip", "Answered 503")
	for _, path := range []string{"/companions?companion=weather", "/companions?companion=sky", "/companions?companion=%2B"} {
		p.do(chromedp.Navigate(s.adminURL+path), visible(".companion-editor"))
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	require.NoError(t, weather.Fail("none"))
	p.do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.adminURL+"/companions?companion=weather"), visible(".companion-strip"), click(".companion-strip .textlink"))
	p.says(".companion-ok", "answers")
	assert.NotContains(t, p.eval("document.documentElement.outerHTML"), secret)
	p.nothingWrong()
}
