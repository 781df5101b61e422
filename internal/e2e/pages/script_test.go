package pages

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/keys"
	"eastporch/internal/core/report"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// strict is a content-security policy that leaves a page only its own files.
const strict = "default-src 'none'; script-src 'self'; connect-src 'self'; img-src 'self'; style-src 'none'; require-trusted-types-for 'script'; base-uri 'none'"

const testPage = `<!doctype html><html lang="%s"><head><meta charset="utf-8"><title>A page</title>
<link rel="alternate" hreflang="pt-PT" href="/pt/"><link rel="alternate" hreflang="ja" href="/ja/">
<script src="/porch/porch.js" data-site="heronlake.example" defer></script><script src="/shift.js"></script></head><body>
<p>Hello in <b id="city" data-porch="location.city">your town</b>, <i id="none" data-porch="location.postal_code">no code</i></p>
<p><time id="time" datetime="2027-06-12T08:00:00Z" data-porch="time">12 June, 10:00 in Oslo</time></p>
<p><data id="price" value="85" data-porch="price">85 euros</data> <data id="own" value="85" data-porch="price" data-currency="CHF">85 francs</data></p>
<p id="odd"><time datetime="soon" data-porch="time">soon</time> <data value="ten" data-porch="price">ten</data>
<i data-porch="constructor.name">a</i> <i data-porch="location">b</i> <i data-porch="location..city">c</i> <i data-porch="">d</i> <i data-porch="toString">e</i></p>
<p><img id="flag" data-porch="flag" width="24" height="18" alt="" data-shape="round"></p>
<button id="locate" data-porch="locate" hidden>near me</button><p id="near">Near <b data-porch="device.city">–</b></p>
<div id="switch" data-porch="switch" hidden><span data-porch="locale.names.language"></span><button data-porch="go">go</button><button data-porch="stay">stay</button></div>
</body></html>`

// shiftJS adds up layout shift, and the events of the script.
const shiftJS = `window.shift = 0; window.heard = [];
new PerformanceObserver((list) => { for (const e of list.getEntries()) shift += e.value; }).observe({ type: "layout-shift", buffered: true });
for (const name of ["card", "failed", "choice"]) document.addEventListener("porch:" + name, (e) => heard.push(name + (e.detail.stale ? " stale" : "")));
window.before = Object.keys(window);`

// front is a web site with the service under /porch/, as a proxy of the owner's has it,
// that can be seen from elsewhere, hold answers back and fail.
type front struct {
	mu     sync.Mutex
	from   string
	down   bool
	hold   chan struct{} // answers wait until it is closed; nil for not
	asked  []string      // the queries for cards
	policy string
	page   string // instead of [testPage]; "" for that
}

func (f *front) set(change func(f *front)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	change(f)
}

func (f *front) queries() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]string{}, f.asked...)
}

func (f *front) serve(t *testing.T, s *live.Service, key string) string {
	t.Helper()
	target, err := url.Parse(s.PublicURL)
	require.NoError(t, err)
	service := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.URL.Scheme, r.Out.URL.Host, r.Out.URL.Path = target.Scheme, target.Host, strings.TrimPrefix(r.In.URL.Path, "/porch")
		r.Out.Host = "heronlake.example"
		r.Out.Header.Set("Authorization", "Bearer "+key)
		r.Out.Header.Del("Accept-Language") // where somebody is decides
		f.mu.Lock()
		defer f.mu.Unlock()
		r.Out.Header.Set("X-Forwarded-For", f.from)
	}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		hold, down, policy := f.hold, f.down, f.policy
		if r.URL.Path == "/porch/v1/visitor" {
			f.asked = append(f.asked, r.URL.RawQuery)
		}
		f.mu.Unlock()
		switch {
		case r.URL.Path == "/porch/v1/visitor" && down:
			http.Error(w, `{"detail":"down for the test"}`, http.StatusServiceUnavailable)
		case strings.HasPrefix(r.URL.Path, "/porch/"):
			if hold != nil && r.URL.Path == "/porch/v1/visitor" {
				select {
				case <-hold:
				case <-r.Context().Done():
				}
			}
			service.ServeHTTP(w, r)
		case r.URL.Path == "/shift.js":
			w.Header().Set("Content-Type", "text/javascript")
			fmt.Fprint(w, shiftJS)
		default:
			lang := map[string]string{"/pt/": "pt-PT", "/ja/": "ja"}[r.URL.Path]
			if lang == "" {
				lang = "en"
			}
			w.Header().Set("Content-Security-Policy", policy)
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			if f.page != "" {
				fmt.Fprint(w, f.page)
				return
			}
			page := testPage
			if r.URL.Path == "/at-once" { // the script runs before the elements are there
				page = strings.Replace(page, " defer>", ">", 1)
			}
			fmt.Fprintf(w, page, lang)
		}
	}))
	t.Cleanup(server.Close)
	return strings.Replace(server.URL, "127.0.0.1", "localhost", 1)
}

func TestTheScriptForPages(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	f := &front{from: "198.18.3.40", hold: make(chan struct{}), policy: strict}
	site := f.serve(t, s, s.Keys(t)["server"])
	p := live.OpenTab(t)

	// Before the answer the elements' own texts stand.
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(site+"/"))
	p.Until(`document.querySelector("#city").dataset.porchState === "loading"`)
	assert.Equal(t, "your town", p.Text("#city"))
	assert.Equal(t, "12 June, 10:00 in Oslo", p.Text("#time"))

	// After it they are the visitor's, and nothing has moved.
	f.set(func(f *front) { close(f.hold); f.hold = nil })
	p.Says("#city", "Lisbon")
	assert.Equal(t, "ready", p.State("#city"))
	assert.Equal(t, "no code", p.Text("#none"), "what is not known stays")
	assert.Equal(t, "failed", p.State("#none"))
	assert.Equal(t, "Saturday, June 12, 2027 at 9:00 AM", p.Text("#time"), "by the visitor's clock, in the page's language")
	assert.Equal(t, "€85.00", p.Text("#price"))
	francs := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/convert?amount=85&from=CHF&to=EUR&language=en", "")
	assert.Equal(t, francs.At(t, "conversions.0.to.text"), p.Text("#own"), "what is priced in francs is converted from them")
	assert.Equal(t, "soon ten a b c d e", strings.Join(strings.Fields(p.Text("#odd")), " "), "what cannot be meant changes nothing")
	p.Until(`document.querySelector("#flag").complete && document.querySelector("#flag").naturalWidth > 0`)
	assert.Contains(t, p.Eval(`document.querySelector("#flag").src`), "/porch/v1/countries/PT/flag.svg?shape=round")
	assert.Equal(t, "Portugal", p.Eval(`document.querySelector("#flag").alt`))
	assert.Equal(t, "Lisbon", p.Eval(`(async () => (await porch.card()).location.city)()`))
	assert.Equal(t, "porch", p.Eval(`Object.keys(window).filter((k) => !before.includes(k) && k !== "before").join(",")`), "nothing global but one name")
	assert.Equal(t, "card", p.Eval(`heard.join(",")`))
	assert.Equal(t, "true", p.Eval("String(shift < 0.02)"), "shifted by %s", p.Eval("String(shift)"))
	require.Len(t, f.queries(), 1, "one request a page view")

	// The last answer stands at once, and a changed country comes without a hard reload.
	f.set(func(f *front) { f.from, f.hold = "198.19.141.9", make(chan struct{}) })
	p.Do(chromedp.Navigate(site + "/?again"))
	p.Says("#city", "Lisbon")
	f.set(func(f *front) { close(f.hold); f.hold = nil })
	p.Says("#city", "Tokyo")
	assert.Equal(t, "card stale,card", p.Eval(`heard.join(",")`))
	assert.Regexp(t, `^¥1[0-9],[0-9]00$`, p.Text("#price"))
	assert.Regexp(t, `^85 EUR\. 1 EUR = [0-9.]+ JPY, 20[0-9-]+, Lake Bank`, p.Eval(`document.querySelector("#price").title`))
	assert.Equal(t, "true", p.Eval("String(shift < 0.02)"))

	// Stay or switch: the choice is remembered, and wins.
	p.Do(live.Visible("#switch"))
	assert.Contains(t, p.Text("#switch"), "日本語")
	p.Do(live.Click("#switch [data-porch=go]"))
	p.Until(`location.pathname === "/ja/" && document.readyState === "complete"`)
	p.Says("#city", "Tokyo")
	assert.Equal(t, "ja", p.Eval("porch.choice"))
	assert.Contains(t, p.Eval("document.cookie"), "porch_choice=ja")
	assert.Equal(t, "true", p.Eval(`String(document.querySelector("#switch").hidden)`))
	f.set(func(f *front) { f.from = "198.18.3.40" })
	p.Do(chromedp.Navigate(site + "/"))
	p.Says("#city", "Lisbon")
	assert.Equal(t, "choice ja", p.Eval(`(async () => { const c = await porch.card(); return c.locale.reason + " " + c.locale.language; })()`), "although the address is in Portugal now")
	assert.Equal(t, "true", p.Eval(`String(document.querySelector("#switch").hidden)`), "nobody is asked twice")
	assert.Contains(t, f.queries()[len(f.queries())-1], "choice=ja")
	p.Eval(`(async () => { await porch.choose("en"); return "done"; })()`)
	assert.Equal(t, "en", p.Eval("porch.last.locale.language"))

	// A position is for the visitor to give.
	assert.Contains(t, p.Eval(`(async () => { try { await porch.locate(); return "located"; } catch (e) { return e.message; } })()`), "after the visitor's own action only")
	at := emulation.SetGeolocationOverrideParams{Latitude: ptr(41.15), Longitude: ptr(-8.61), Accuracy: ptr(40.0)}
	_, err := chromedp.CallBrowser(p.Ctx, browser.SetPermission, browser.SetPermissionParams{
		Permission: &browser.PermissionDescriptor{Name: "geolocation"}, Setting: "granted", Origin: site, BrowserContextID: chromedp.FromContext(p.Ctx).BrowserContextID,
	})
	require.NoError(t, err)
	_, err = chromedp.Call(p.Ctx, emulation.SetGeolocationOverride, at)
	require.NoError(t, err)
	p.Do(live.Visible("#locate"), live.Click("#locate"))
	p.Says("#near", "Near Porto")
	assert.Equal(t, "true", p.Eval("String(porch.last.device.from_address_km > 200)"), "the address is in Lisbon")
	assert.NotContains(t, p.Eval("JSON.stringify(localStorage)"), "41.15", "the position is not kept")
	p.NothingWrong()
}

// snapshot is all that the script shows on a page.
const snapshot = `JSON.stringify([...document.querySelectorAll("[data-porch]")].map((e) => [e.dataset.porch, e.textContent, e.title, e.getAttribute("src"), e.getAttribute("alt"), e.hidden, e.dataset.porchState]))`

// One answer is shown whole or not at all: wherever the visitor was before, the page is as
// it would be had they come there first.
func TestOneAnswerIsShownWhole(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	f := &front{policy: strict}
	site := f.serve(t, s, s.Keys(t)["server"])
	p := live.OpenTab(t)
	from := []string{"198.18.3.40", "198.19.141.9", "198.18.130.7", "10.1.2.3", "192.0.2.5", "198.19.45.7", "unknown"}
	fresh := map[string]string{}
	for _, a := range from {
		f.set(func(f *front) { f.from = a })
		p.Do(chromedp.Navigate(site + "/"))
		p.Until(`heard.length === 1`)
		fresh[a] = p.Eval(snapshot)
		p.Eval(`localStorage.clear(), "cleared"`)
	}
	assert.NotEqual(t, fresh["198.18.3.40"], fresh["198.19.141.9"])
	p.Do(chromedp.Navigate(site + "/"))
	p.Until(`heard.length === 1`)
	for i, a := range []int{0, 2, 1, 3, 5, 4, 1, 6, 0, 3, 1, 2, 5, 6, 2, 0, 5} {
		f.set(func(f *front) { f.from = from[a] })
		p.Eval(`window.dispatchEvent(new PageTransitionEvent("pageshow", { persisted: true })), "shown"`)
		p.Until(fmt.Sprintf(`heard.length === %d`, i+2))
		assert.JSONEq(t, fresh[from[a]], p.Eval(snapshot), "at %s, after %d moves", from[a], i)
	}
	// And after a reload, where the last answer stands first.
	f.set(func(f *front) { f.from = "10.1.2.3" })
	p.Do(chromedp.Navigate(site + "/"))
	p.Until(`heard.join(",") === "card stale,card"`)
	assert.JSONEq(t, fresh["10.1.2.3"], p.Eval(snapshot))

	// An answer that is overtaken by a later one does not replace it.
	held, asked := make(chan struct{}), len(f.queries())
	f.set(func(f *front) { f.from, f.hold = "198.19.141.9", held })
	p.Eval(`window.dispatchEvent(new PageTransitionEvent("pageshow", { persisted: true })), window.overtaken = porch.card(), "asked"`)
	require.Eventually(t, func() bool { return len(f.queries()) > asked }, 10*time.Minute, 20*time.Millisecond)
	f.set(func(f *front) { f.hold = nil })
	p.Eval(`porch.choose("en"), "asked otherwise"`) // the browser asks one address once at a time
	p.Says("#city", "Tokyo")
	f.set(func(f *front) { f.from = "198.18.3.40" })
	close(held)
	assert.Equal(t, "Lisbon", p.Eval(`(async () => (await overtaken).location.city)()`))
	assert.Equal(t, "Tokyo", p.Text("#city"))
	p.NothingWrong()
}

func ptr[T any](v T) *T { return &v }

func TestTheScriptWhenTheServiceFails(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	f := &front{from: "198.18.3.40", down: true, policy: strict}
	site := f.serve(t, s, s.Keys(t)["server"])
	p := live.OpenTab(t)
	p.Do(chromedp.Navigate(site + "/"))
	p.Until(`document.querySelector("#city").dataset.porchState === "failed"`)
	assert.Equal(t, "your town", p.Text("#city"))
	assert.Equal(t, "failed", p.Eval(`heard.join(",")`))
	assert.Contains(t, p.Eval(`(async () => { try { await porch.card(); return "a card"; } catch (e) { return e.message; } })()`), "down for the test")
	assert.Equal(t, "true", p.Eval(`String(document.querySelector("#switch").hidden && porch.last === null && porch.time(0) === null && porch.price(1, "EUR") === null)`))

	p.Do(chromedp.Navigate(site + "/at-once"))
	p.Until(`document.readyState === "complete" && document.querySelector("#city").dataset.porchState === "failed" && document.querySelector("#flag").dataset.porchState === "failed"`)

	// What was known before stands while the service is away.
	f.set(func(f *front) { f.down = false })
	p.Do(chromedp.Navigate(site + "/"))
	p.Says("#city", "Lisbon")
	p.Do(chromedp.Navigate(site + "/at-once"))
	p.Says("#city", "Lisbon")
	p.Until(`document.querySelector("#city").dataset.porchState === "ready"`)
	f.set(func(f *front) { f.down = true })
	p.Do(chromedp.Navigate(site + "/"))
	p.Until(`heard.join(",") === "card stale,failed"`)
	assert.Equal(t, "Lisbon", p.Text("#city"))
	assert.Equal(t, "ready", p.State("#city"))
	p.NothingWrong()
}

// A page of another origin uses a page key, in one request without a preflight.
func TestTheScriptFromAnotherOrigin(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	var page string
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; script-src "+s.PublicURL+"; connect-src "+s.PublicURL+"; img-src "+s.PublicURL)
		fmt.Fprint(w, page)
	}))
	t.Cleanup(site.Close)
	key, err := s.Client.CreateKey(t.Context(), keys.NewKey{Name: "the page", Scope: "page", Sites: []string{demo.Site}, Origins: []string{site.URL}})
	require.NoError(t, err)
	page = fmt.Sprintf(`<!doctype html><html lang="en"><title>A page</title><script src="%s/porch.js" data-key="%s" data-fields="address.kind,locale.language" defer></script>
		<b id="kind" data-porch="address.kind">unknown</b>`, s.PublicURL, key.Secret)
	p := live.OpenTab(t)
	p.Do(chromedp.Navigate(site.URL))
	p.Says("#kind", "loopback")
	assert.JSONEq(t, `{"address":{"kind":"loopback"},"locale":{"language":"en"}}`, p.Eval("JSON.stringify(porch.last)"), "only what was asked for")
	p.NothingWrong()
}

// The regatta's own page, which an application without a line of ours could be.
func TestTheRegattasPage(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 100)
	report := func(ctx context.Context) (report.Report, error) {
		return s.Client.Report(ctx, "countries", url.Values{"site": {demo.Site}})
	}
	key := s.Keys(t)["server"]
	site, err := demo.NewPage(report)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	at, stopped, err := demo.StartSite(ctx, "127.0.0.1:0", s.PublicURL, key, site)
	require.NoError(t, err)
	t.Cleanup(func() { stop(); <-stopped })
	get := func(path string, header ...string) live.Answer {
		return s.Call(t, "127.0.0.1", http.MethodGet, at+path, "", append(header, live.Anonymous)...)
	}
	for from, want := range map[string][]string{
		"198.18.3.40":         {`<html lang="pt-PT"`, "sábado, 12 de junho de 2027 às 09:00", "Europe/Lisbon", `class="pictures-coast"`, "menos um décimo", "Portugal:"},
		"198.19.141.9":        {`<html lang="ja"`, "2027年6月12日土曜日 17:00", "ポルトガル:", `class="pictures-lake"`},
		"198.19.45.7":         {`<html lang="pt-PT"`, "12 de junho de 2027 às 05:00", "America/Sao_Paulo"},
		"2001:db8:5e1:40::1f": {`<html lang="nb"`, "lørdag 12. juni 2027 kl. 10:00", `class="pictures-winter"`},
		"10.9.8.7":            {`<html lang="en"`, "10:00", "Europe/Oslo", "open until 1 May"},
	} {
		page := get("/", "X-Forwarded-For: "+from, "Porch-Language: fr", "Porch-Variant: pictures=forged")
		for _, text := range want {
			assert.Contains(t, strings.ReplaceAll(page.Body, "\u202f", " "), text, from)
		}
		assert.Equal(t, "private, no-store", page.Header.Get("Cache-Control"))
		assert.NotContains(t, page.Body, "forged")
	}
	canada := get("/", "X-Forwarded-For: 198.18.41.12", "Accept-Language: fr-CA,fr;q=0.9")
	assert.Contains(t, canada.Body, `<html lang="fr"`)
	assert.Contains(t, get("/", "Cookie: seen_from=Japan").Body, `<html lang="ja"`)
	assert.Contains(t, get("/", "X-Forwarded-For: 198.19.141.9", "Cookie: porch_choice=nb").Body, `<html lang="nb"`, "the choice wins")
	assert.Contains(t, get("/porch/v1/visitor?fields=location.city", "X-Forwarded-For: 198.18.3.40").Body, "Lisbon")
	assert.Equal(t, http.StatusNotFound, get("/words.tsv").Status)
	assert.GreaterOrEqual(t, get("/../demo.go").Status, 400)

	p := live.OpenTab(t)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(at+"/from/Brazil"))
	p.Says(`[data-porch="location.names.city"]`, "São Paulo")
	assert.Regexp(t, `^R\$[0-9.,]+\.90$`, p.Text(`[data-porch="price"]`))
	p.Do(live.Click(`footer a[hreflang="fr"]`))
	p.Until(`document.documentElement?.lang === "fr" && document.readyState === "complete"`)
	p.Do(chromedp.Navigate(at + "/"))
	assert.Equal(t, "fr", p.Eval("document.documentElement.lang"), "picked by hand, and remembered")
	p.NothingWrong()
}
