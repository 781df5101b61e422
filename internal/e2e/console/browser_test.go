package console

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/keys"
	"eastporch/internal/testkit/live"
)

// Today is the first page, and moves with what comes in.
func TestToday(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 60)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/"), live.Visible(".chart .bar"), live.Visible(".live-visits li"))
	assert.Equal(t, "Today · East Porch", p.Eval("document.title"))
	p.Says(".lead", "since midnight in Oslo")
	s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", live.VisitBody("203.0.113.4", "198.19.140.77"))
	p.Do(live.Visible(".live-visits li.fresh"))
	assert.Contains(t, p.Text(".live-visits li.fresh"), "198.19.140.77")
	p.Do(live.Click(".live-visits li.fresh .when"), live.Visible(".visit .place"))
	assert.Contains(t, p.Text(".visit"), "/programme")
	assert.Contains(t, p.Text(".rail footer"), "4 sources, ready")
	p.NothingWrong()
}

func TestVisits(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 60)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/visits"), live.Visible(".visits-table tbody tr"))
	assert.Equal(t, "Visits · East Porch", p.Eval("document.title"))
	s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", live.VisitBody("203.0.113.4", "198.19.140.78"))
	p.Do(live.Visible(".list-head button"))
	assert.Equal(t, "1 new", p.Text(".list-head button"), "they wait until they are wanted")
	p.Do(live.Press("", "button", "1 new"), chromedp.WaitNotPresent(chromedp.CSS(".list-head button")))
	p.Says(".list-head", "61 visits")

	// A visit opens as its card, with trail and evidence; Escape closes it.
	p.Do(live.Click(".visits-table tbody tr"), live.Visible(".visit .place"), live.Click(".visit .fold button"), live.Visible(".visit .hops"))
	assert.Contains(t, p.Text(".visit .hops"), "peer")
	p.Do(chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(chromedp.CSS(".visit")))

	// Filters live in the page's address.
	p.Do(chromedp.Navigate(s.AdminURL+"/visits?country_code=PT&skipped=false"), live.Visible(".filterchip"), live.Visible(".list-head"))
	assert.Contains(t, p.Text(".chips"), "Portugal")
	assert.Contains(t, p.Text(".list-head"), "excluded by these filters")
	p.Do(chromedp.Navigate(s.AdminURL+"/visits?city=Atlantis"), live.Visible(".state"))
	assert.Contains(t, p.Text(".state"), "No visits match these filters.")
	p.Do(live.Press("", "button", "Clear the filters"), live.Visible(".visits-table tbody tr"))
	p.NothingWrong()
}

// The map and its table twin say the same.
func TestMap(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 300)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/map"), live.Visible(".worldmap [role=button]"), live.Visible(".places tbody tr"))
	assert.Regexp(t, `of 2\d\d visits`, p.Text(".map-drawer"), "the club's own monitors are left out")
	assert.Contains(t, p.Text(".map-rest"), "have no point")
	assert.Equal(t, p.Eval("String(document.querySelectorAll('.worldmap [role=button]').length)"),
		p.Eval("String(document.querySelectorAll('.places tbody tr').length)"), "a circle for every row")
	p.Do(chromedp.KeyEvent("t"), chromedp.WaitNotPresent(chromedp.CSS(".map-drawer")))
	p.Do(live.Press("", "radio", "Share by country"), live.Visible(".map .share"))
	p.Do(live.Click(".playbutton"), live.Visible(".timebar .textlink"), live.Click(".timebar .textlink"), chromedp.WaitNotPresent(chromedp.CSS(".timebar .textlink")))
	p.NothingWrong()
}

// Look up: the key /, the card, the circle, the evidence, JSON.
func TestLookUp(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/visits"), live.Visible(".quick"), chromedp.KeyEvent("/"))
	assert.Equal(t, "Look up an address", p.Eval("document.activeElement.ariaLabel"))
	p.Do(chromedp.KeyEvent("\b198.18.3.40\r"), live.Visible(".placemap .ring")) // a driver types the key into the field that it focused
	assert.Contains(t, p.Text(".answer-card"), "Lisbon")
	assert.Contains(t, p.Text(".evidence"), "disagrees")
	p.Do(live.Press("", "radio", "JSON"), live.Visible(".json"))
	assert.Contains(t, p.Text(".json"), `"country_code": "PT"`)
	p.Do(chromedp.Navigate(s.AdminURL+"/lookup?address=10.1.2.3"), live.Visible(".facts"))
	assert.Contains(t, p.Text(".answer-card"), "private · skipped")
	p.Do(chromedp.Navigate(s.AdminURL+"/lookup?address=999.1.1.1"), live.Visible("[role=alert]"))
	assert.Contains(t, p.Text("[role=alert]"), "0 to 255")
	p.NothingWrong()
}

func TestConsoleOnAPhoneAndInTheDark(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 60)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(s.AdminURL+"/visits"), live.Visible(".phone-list li"))
	for _, path := range []string{"/today", "/visits", "/map", "/lookup?address=198.18.3.40", "/gate", "/rehearse?from=PT&from=NZ&path=/early/eights"} {
		p.Do(chromedp.Navigate(s.AdminURL+path), live.Visible(".tabs"), live.Visible("#content > *"))
		assert.Equal(t, "true", p.Eval("String(document.documentElement.scrollWidth <= 390)"), "%s scrolls sideways", path)
	}
	for path, ready := range map[string]string{"/gate": ".gate-exceptions", "/rehearse?from=PT&from=NZ&path=/early/eights": ".rehearse-table .ring"} {
		p.Do(chromedp.Navigate(s.AdminURL+path), live.Visible(ready))
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.Do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.Eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	before := p.Eval("getComputedStyle(document.body).backgroundColor")
	p.Do(live.Press("", "button", "Turn to dark"))
	assert.NotEqual(t, before, p.Eval("getComputedStyle(document.body).backgroundColor"))
	p.NothingWrong()
}

func TestPresentationMasksEveryAddress(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 60)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.AdminURL+"/visits"), live.Visible(".visits-table tbody tr"),
		live.Press("", "switch", "Presentation: mask every address"), live.Click(".visits-table tbody tr"), live.Visible(".visit .facts"), live.Click(".visit .fold button"), live.Visible(".hops"))
	const unmasked = `String(document.body.innerText.match(/(198|203|192|10|127)\.\d+\.\d+\.\d+|2001:db8:\w+:\w+/))`
	assert.Equal(t, "null", p.Eval(unmasked))
	p.Do(chromedp.Navigate(s.AdminURL+"/visits"), live.Visible(".visits-table tbody tr"))
	assert.Equal(t, "null", p.Eval(unmasked), "it is kept across reloads")

	// The page's own address carries an opaque key, and a shown one is hidden.
	p.Do(live.Click(".visits-table tbody a.addr"), live.Visible(".facts"))
	assert.Regexp(t, `^\?address=~\w+$|^\?address=%7E\w+$`, p.Eval("location.search"))
	assert.Equal(t, "null", p.Eval(unmasked))
	p.Do(chromedp.Navigate(s.AdminURL+"/lookup?address=198.18.3.40"), live.Visible(".facts"))
	assert.NotContains(t, p.Eval("location.href + document.title"), "198.18")
	p.Do(live.Press("", "radio", "JSON"), live.Visible(".json"))
	assert.Equal(t, "null", p.Eval(unmasked))
	p.NothingWrong()
}

func TestSignInAndSetUp(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	p := live.OpenPage(t, s)
	p.Do(chromedp.Navigate(s.AdminURL+"/setup"), live.Visible(".keys-table tbody tr"))
	assert.Contains(t, p.Text(".keys-table"), "the tests")

	// A key is made, shown once, and works.
	p.Do(live.Click(".keys-head button"), live.Visible(".keyform"), chromedp.SendKeys(chromedp.CSS(".keyform input"), "the shop"),
		live.Press("[role=dialog]", "radio", "server: reports and looks up for others"), live.Press("[role=dialog]", "button", "Create"), live.Visible(".secret code"))
	secret := p.Text(".secret code")
	assert.Equal(t, http.StatusOK, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/198.18.3.40", "", "Authorization: Bearer "+secret).Status)
	p.Do(live.Press("[role=dialog]", "button", "I have saved it"), chromedp.WaitNotPresent(chromedp.CSS(".secret")))
	assert.Contains(t, p.Text(".keys-table"), "the shop")

	// Snippets are for the facts that are ticked, beside the answer.
	p.Says(".snippet-code .snippet-text", "money.currency_code")
	p.Says(".snippet-answer .snippet-text", `"locale"`)
	p.Do(live.Click(".snippet-facts fieldset:last-of-type input"))
	p.Says(".snippet-code .snippet-text", "variants")
	p.Says(".snippet-answer .snippet-text", `"variants"`)
	p.Do(live.Press(".snippet-bar", "radio", "Python"))
	p.Says(".snippet-code .snippet-text", "def porch_card(headers, peer):")

	// A set of variants is made, refused with the reason while it is wrong, and used.
	p.Expected("/v1/variants/banner")
	p.Says(".local", "Own prices in EUR")
	p.Says(".local", "42 currencies for EUR, of today.")
	p.Do(live.Click(".local-head button"), live.Visible(".keyform"), chromedp.SendKeys(chromedp.CSS(".keyform input"), "banner"), live.Press("[role=dialog]", "button", "Save and use"), live.Visible(".keyform [role=alert]"))
	assert.Contains(t, p.Text(".keyform [role=alert]"), "is not a variant")
	p.Do(chromedp.SendKeys(chromedp.CSS(".keyform > label:last-of-type input"), "plain"), live.Press("[role=dialog]", "button", "Save and use"), chromedp.WaitNotPresent(chromedp.CSS(".keyform")))
	p.Says(".local", "plain for everybody else")
	assert.Contains(t, s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/v1/visitor?fields=variants", "").Body, `"banner":"plain"`)

	p.Do(live.Click(".keys-foot .textlink:nth-of-type(2)"), live.Visible(".audit tbody tr"))
	assert.Contains(t, p.Text(".audit"), "key created")
	assert.Contains(t, p.Text(".audit"), "variants saved")

	// Signed out, every page asks to sign in; a wrong key says how many tries
	// are left, an admin key opens the page that was asked for.
	p.Do(live.Click(".keys-foot .textlink:last-child"), live.Visible("#admin-key"))
	p.Expected("/v1/sites", "/v1/sessions") // 401, once each
	p.Do(chromedp.SendKeys(chromedp.CSS("#admin-key"), "porch_admin_wrong\r"), live.Visible(".signin-failed"))
	assert.Contains(t, p.Text(".signin-failed"), "of 5 tries left this minute")
	p.Do(chromedp.Navigate(s.AdminURL+"/setup"), live.Visible("#admin-key"), chromedp.SendKeys(chromedp.CSS("#admin-key"), s.Admin+"\r"), live.Visible(".keys-table tbody tr"))
	p.NothingWrong()
}

func TestTrailAndCheckupPages(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	p := live.OpenPage(t, s)
	p.Do(chromedp.Navigate(s.AdminURL+"/trail"), live.Visible(".bighops .visitor"))
	p.Says(".trail-visitor", "198.18.7.114")
	p.Says(".warning", "office")
	p.Do(live.Visible(".trail-others tbody tr:nth-child(3) .addr"))
	p.Says(".trail-others tbody", "198.51.100.7")

	// Another setting is tried, and its lines can be copied.
	p.Do(live.Click(".believed input[role=spinbutton]"), chromedp.KeyEvent("\b1\r"), live.Visible(".trail-lines pre"))
	p.Says(".trail-lines pre", "hops: 1")
	p.Do(live.Press("", "radio", "This request"), chromedp.WaitNotPresent(chromedp.CSS(".trail-request textarea")))
	p.Says(".trail-answer", "127.0.0.1")

	// Something is wrong: the checkup says so on its page, in the rail and on top.
	for i := range 30 {
		s.Call(t, "127.0.0.9", http.MethodGet, s.PublicURL+"/v1/visitor", "", fmt.Sprintf("X-Forwarded-For: 198.18.3.%d", i))
	}
	p.Do(chromedp.Navigate(s.AdminURL+"/visits"), live.Visible(".banner"))
	p.Says(".banner", "127.0.0.9 looks like a proxy")
	p.Do(live.Click(".banner a"), live.Visible(".checkup.attention .lines pre"))
	p.Says(".checkup .lines pre", `- "127.0.0.9/32"`)
	p.NothingWrong()
}

// Where the sites are refused, the console says so inside its shell, and asks again with
// growing pauses; once they are there, it goes on by itself.
func TestTheConsoleWhenItIsRefused(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 20)
	target, err := url.Parse(s.AdminURL)
	require.NoError(t, err)
	admin := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = r.In.Host
	}}
	// Each refusal has a port of its own, so that what a page before it still asks counts nowhere.
	type refusal struct {
		status        int
		refuse        atomic.Bool
		asked, others atomic.Int32
	}
	through := func(of *refusal) string {
		front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !of.refuse.Load() || !strings.HasPrefix(r.URL.Path, "/v1/") {
				admin.ServeHTTP(w, r)
				return
			}
			if r.URL.Path == "/v1/sites" {
				of.asked.Add(1)
			} else {
				of.others.Add(1)
			}
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(of.status)
			fmt.Fprintf(w, `{"type":"about:blank","title":"Refused for the test","status":%d,"detail":"It answers %d.","hint":"","request_id":"R1"}`, of.status, of.status)
		}))
		t.Cleanup(front.Close) // after the browser, which holds a stream open
		return front.URL
	}
	link, err := s.Server.Link(t.Context())
	require.NoError(t, err)
	_, secret, _ := strings.Cut(link, "#")
	refusals := []*refusal{{}, {status: 500}, {status: 429}, {status: 502}}
	fronts := make([]string, len(refusals))
	for i, of := range refusals {
		fronts[i] = through(of)
	}
	p := live.OpenTab(t)
	p.Do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(fronts[0]+"/sign-in#"+secret), live.Visible(".visits-table, .list"))
	for i, of := range refusals[1:] {
		of.refuse.Store(true)
		began := time.Now()
		p.Do(chromedp.Navigate(fronts[1+i] + "/today"))
		p.Says("main [role=alert]", "Refused for the test")
		p.Do(live.Visible("nav a[href='/visits']")) // it is inside the shell
		require.Eventually(t, func() bool { return of.asked.Load() >= 3 }, 10*time.Minute, 20*time.Millisecond)
		assert.Greater(t, time.Since(began), 5*time.Second, "two and then four seconds lie between")
		assert.Zero(t, of.others.Load(), "nothing else is asked meanwhile")
		of.refuse.Store(false)
		p.Do(live.Visible(".today"))
	}
}

// Between a phone and a wide screen every column of the list of visits has its width.
func TestVisitsOnATablet(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Fill(t, 30)
	p := live.OpenPage(t, s)
	for _, width := range []int64{1280, 1100, 1024, 900, 768, 701} {
		p.Do(chromedp.EmulateViewport(width, 900), chromedp.Navigate(s.AdminURL+"/visits"), live.Visible(".visits-table tbody tr"))
		narrowest := p.Eval(`String(Math.min(...[...document.querySelectorAll(".visits-table th")].map((th) => th.getBoundingClientRect().width)))`)
		n, err := strconv.ParseFloat(narrowest, 64)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, n, 60.0, "the narrowest column at %d", width)
		place := p.Eval(`String([...document.querySelectorAll(".visits-table th")].find((th) => th.textContent === "Location").getBoundingClientRect().width)`)
		n, err = strconv.ParseFloat(place, 64)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, n, 140.0, "the place's column at %d", width)
		assert.Equal(t, "true", p.Eval(`String(document.documentElement.scrollWidth <= innerWidth)`), "nothing scrolls sideways at %d", width)
	}
	p.NothingWrong()
}

// spellings writes one address of each family as people, programs and name servers do.
// needles are what would give it away; plain spellings may keep their beginning.
func spellings() (texts, needles []string) {
	b, hex := [4]int{198, 18, 119, 147}, "c6127793"
	n := uint64(b[0])<<24 | uint64(b[1])<<16 | uint64(b[2])<<8 | uint64(b[3])
	g := "2001:db8:1abc:2bcd:3cde:4def:5efa:6fab"
	long := "20010db81abc2bcd3cde4def5efa6fab"
	var nibbles []string
	for i := len(long) - 1; i >= 0; i-- {
		nibbles = append(nibbles, long[i:i+1])
	}
	texts = []string{
		"198.18.119.147", "198.18.119.147:4711", "198.18.119.147/32", `"198.18.119.147"`, "[198.18.119.147]", "::ffff:198.18.119.147", "[::ffff:198.18.119.147]:80", "::ffff:c612:7793", "64:ff9b::198.18.119.147",
		fmt.Sprint(n), "0x" + hex, strings.ToUpper("0x" + hex), "0xc6.0x12.0x77.0x93", "0306.022.0167.0223", "198.018.119.147", "0" + strconv.FormatUint(n, 8), "198.18.30611",
		"147.119.18.198.in-addr.arpa", "host-198-18-119-147.dyn.example.net", "198-18-119-147.example.net", "147-119-18-198.pool.example.net", "ip_198_18_119_147", "198%2E18%2E119%2E147", "198[.]18[.]119[.]147", "198(.)18(.)119(.)147",
		"198[dot]18[dot]119[dot]147", "198．18．119．147", "http://198.18.119.147/x", "2002:c612:7793::1",
		g, strings.ToUpper(g), "2001:db8::6fab", "[2001:db8::6fab]:443", "2001:db8::6fab%eth0", strings.ReplaceAll(g, ":", "-"), "2001-db8--6fab.dyn.example.net", strings.ReplaceAll(g, ":", "%3A"), strings.Join(nibbles, ".") + ".ip6.arpa", long, "0x" + long,
		"anna.147@club.heronlake.example", "cpe119.city.example.net",
	}
	needles = []string{"119.147", "119-147", "119_147", "147.119", "147-119", "7793", fmt.Sprint(n), "0167", "0x77", "30611", "119%2E147", "119[.]147", "119(.)147", "[dot]147", "119．147", strconv.FormatUint(n, 8), "6fab", "6FAB", "5efa", "b.a.f.6", "anna.147", "cpe119"}
	return texts, needles
}

// With Presentation on, no address reaches the screen, an attribute, a title, the
// clipboard or the page's address, in whatever spelling and field it came.
func TestPresentationHidesEverySpelling(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	texts, needles := spellings()
	require.GreaterOrEqual(t, len(texts), 40)
	for _, text := range texts {
		quoted, err := json.Marshal(map[string]any{
			"site": "heronlake.example", "path": "/seen/" + text + "/x", "referrer": "https://news.example/?from=" + text, "link": shortened(text, 60),
			"attributes": map[string]any{"from": text, "n": uint64(3323098003), text: "as a name"}, "peer": "203.0.113.4",
			"headers": map[string][]string{"X-Forwarded-For": {text + ", 198.18.119.147, 203.0.113.10"}, "User-Agent": {"Reader/1 (" + text + ")"}},
		})
		require.NoError(t, err)
		require.Equal(t, http.StatusAccepted, s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", string(quoted)).Status, text)
	}
	_, err := s.Client.CreateKey(t.Context(), keys.NewKey{Name: "for 198.18.119.147", Scope: "server"})
	require.NoError(t, err)
	s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/corrections", `{"range":"198.18.119.147/32","country_code":"PT","note":"asked by anna.147@club.heronlake.example"}`)
	live.Settled(t, s.AdminURL, s.Admin)
	p := live.OpenPage(t, s)
	p.Do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.AdminURL+"/visits?prefix=198.18.119.147/32"), live.Visible(".visits-table tbody tr"), live.Press("", "switch", "Presentation: mask every address"))
	p.Until(`document.querySelector(".visits-table tbody a.addr")?.textContent.includes("•")`)
	ids := regexp.MustCompile(`[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[0-9a-f]{4}-[0-9a-f]{12}`)
	// Whatever the page shows or would hand on, in every element.
	const everything = `(() => {
		const parts = [document.title, location.href, decodeURIComponent(location.href), document.body.innerText, document.body.textContent];
		for (const e of document.querySelectorAll("*")) {
			if (!(e instanceof SVGElement)) for (const a of e.attributes) parts.push(a.value); // shapes are numbers
			else parts.push(e.getAttribute("aria-label") ?? "");
			if ("value" in e) parts.push(String(e.value));
		}
		return parts.join("\n");
	})()`
	clean := func(where string) {
		t.Helper()
		all := ids.ReplaceAllString(p.Eval(everything), "an id") // whose digits are drawn
		for _, needle := range needles {
			if i := strings.Index(all, needle); i >= 0 {
				assert.Fail(t, "an address shows", "%s: %q in …%s…", where, needle, all[max(0, i-60):min(len(all), i+60)])
			}
		}
	}
	clean("the filter of an address")
	p.Do(live.Click(".filterchip"))
	p.Until(`document.querySelectorAll(".visits-table tbody tr").length >= 40`)
	clean("the list")
	p.Eval(`navigator.clipboard.writeText = (text) => { document.body.dataset.copied = text; return Promise.resolve(); }, "listening"`)
	for i := range len(texts) {
		p.Eval(fmt.Sprintf(`document.querySelectorAll(".visits-table tbody tr")[%d].click(), "opened"`, i))
		p.Until(fmt.Sprintf(`document.querySelectorAll(".visits-table tbody tr")[%d].classList.contains("chosen") && document.querySelector(".visit .facts") !== null`, i))
		p.Eval(`document.querySelectorAll(".visit .fold button").forEach((b) => b.getAttribute("aria-expanded") === "false" && b.click()), "unfolded"`)
		p.Eval(`delete document.body.dataset.copied, document.querySelector(".visit-foot button").click(), "copied"`)
		p.Until(`document.body.dataset.copied?.length > 100`)
		clean(fmt.Sprintf("visit %d and its copy", i))
	}
	p.Eval(`document.querySelector(".visit-close").click(), "closed"`)
	p.Until(`document.querySelector(".visit") === null`)
	assert.Equal(t, "true", p.Eval(`String(document.querySelector(".export").disabled)`), "what cannot be masked is off")
	assert.Contains(t, p.Eval(`document.querySelector(".bar .switch").title`), "in every spelling", "it says what it covers")

	// The links work all the same.
	p.Do(live.Click(".visits-table tbody a.addr"), live.Visible(".facts"))
	clean("a card")
	p.Do(live.Press("", "radio", "JSON"), live.Visible(".json"))
	clean("a card as JSON")
	p.Do(chromedp.Navigate(s.AdminURL+"/lookup?address=host-198-18-119-147.dyn.example.net"), live.Visible("main [role=alert]"))
	clean("an error that repeats what was asked")
	for _, at := range []string{"/today", "/map", "/trail", "/setup", "/atlas", "/lookup", "/gate", "/rehearse?from=" + texts[0]} {
		p.Do(chromedp.Navigate(s.AdminURL+at), live.Visible("#content > *"))
		p.Until(`document.querySelector(".bars") === null`)
		if at == "/setup" {
			p.Do(live.Click(".keys-foot .textlink:nth-of-type(2)"), live.Visible(".audit tbody tr"))
		}
		clean(at)
	}

	// A list that is pasted, its answers, and the file that is saved of them.
	p.Do(chromedp.Navigate(s.AdminURL+"/lookup/many"), live.Visible(".many-choose textarea"))
	list, err := json.Marshal(strings.Join(texts, "\n"))
	require.NoError(t, err)
	p.Eval(fmt.Sprintf(`(() => {
		const data = new DataTransfer();
		data.setData("text", %s);
		document.querySelector(".many-choose textarea").dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true }));
		return "pasted";
	})()`, list))
	p.Until(`document.querySelector(".many-choose textarea").value.length > 0`)
	clean("a pasted list")
	p.Eval(`URL.createObjectURL = (blob) => { blob.text().then((text) => { document.body.dataset.saved = text; }); return "#"; }, "listening"`)
	p.Do(live.Press("", "button", "Look them up"), live.Visible(".many-table tbody tr"))
	p.Until(`document.querySelector(".many-actions button:last-child").textContent === "Download"`)
	clean("the answers to a list")
	p.Do(live.Press(".many-actions", "button", "Download"))
	p.Until(`document.body.dataset.saved?.length > 100`)
	clean("the file of answers")
}

func shortened(text string, most int) string { return text[:min(len(text), most)] }
