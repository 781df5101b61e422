package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	cdplog "github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/keys"
	"eastporch/internal/testkit/browser"
)

// page is a browser tab that watches for console errors, uncaught exceptions
// and requests to other hosts.
type page struct {
	t   *testing.T
	ctx context.Context

	mu     sync.Mutex
	wrong  []string
	wanted []string
}

// expected names paths whose answers may be problems.
func (p *page) expected(paths ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wanted = append(p.wanted, paths...)
}

func (p *page) isExpected(url string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.ContainsFunc(p.wanted, func(path string) bool { return strings.Contains(url, path) })
}

func openPage(t *testing.T, s *service) *page {
	t.Helper()
	admin := s.adminURL
	browser, stop, err := browser.Start(context.Background())
	require.NoError(t, err)
	t.Cleanup(stop)
	ctx, cancel := context.WithTimeout(browser, 3*time.Minute)
	t.Cleanup(cancel)
	p := &page{t: t, ctx: ctx, wanted: []string{"/v1/addresses/"}}
	host, err := url.Parse(admin)
	require.NoError(t, err)
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventConsoleAPICalled:
			if e.Type == "error" || e.Type == "warning" {
				p.report("console %s: %v", e.Type, e.Args)
			}
		case *runtime.EventExceptionThrown:
			p.report("exception: %+v", e.ExceptionDetails)
		case *cdplog.EventEntryAdded:
			if e.Entry.Source == "security" || strings.Contains(e.Entry.Text, "Content Security Policy") {
				p.report("policy: %s", e.Entry.Text)
			}
		case *network.EventRequestWillBeSent:
			u, err := url.Parse(e.Request.URL)
			if err != nil || u.Host != host.Host && u.Scheme != "data" && u.Scheme != "blob" {
				p.report("request to another host: %s", e.Request.URL)
			}
		case *network.EventResponseReceived:
			if e.Response.Status >= 400 && !p.isExpected(e.Response.URL) {
				p.report("%d for %s", e.Response.Status, e.Response.URL)
			}
		}
	}))
	link, err := s.server.Link(t.Context())
	require.NoError(t, err)
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(link), visible(".list"))
	return p
}

func (p *page) report(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wrong = append(p.wrong, fmt.Sprintf(format, args...))
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, steps...))
}

func (p *page) text(selector string) string {
	p.t.Helper()
	text, err := chromedp.Run(p.ctx, chromedp.Text(chromedp.CSS(selector)))
	require.NoError(p.t, err)
	return text
}

// says waits until a part of the page has a text: answers of before stand until
// new ones come, and parts are drawn anew meanwhile.
func (p *page) says(selector, text string) {
	p.t.Helper()
	look := fmt.Sprintf(`document.querySelector(%q)?.innerText ?? ""`, selector)
	require.Eventually(p.t, func() bool { return strings.Contains(p.eval(look), text) }, time.Minute, 20*time.Millisecond, text)
}

func (p *page) eval(expression string) string {
	p.t.Helper()
	value, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](expression, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	return value
}

func visible(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.WaitVisible(chromedp.CSS(selector))
}

// stands is a promise kept once the element of a selector has stood still for
// ten frames: windows that open and answers that come move what is below.
const stands = `(selector => new Promise(resolve => {
	let before = "", still = 0;
	const look = () => {
		const element = document.querySelector(selector);
		element?.scrollIntoView({ block: "nearest", behavior: "instant" });
		const now = JSON.stringify(element?.getBoundingClientRect() ?? "");
		still = element && now === before ? still + 1 : 0;
		before = now;
		still === 10 ? resolve("") : requestAnimationFrame(look);
	};
	look();
}))(%q)`

// click clicks on an element that stands still.
func click(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		if _, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(stands, selector), chromedp.EvalAwaitPromise)); err != nil {
			return err
		}
		return chromedp.Do(ctx, chromedp.Click(chromedp.CSS(selector)))
	})
}

func (p *page) nothingWrong() {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	assert.Empty(p.t, p.wrong)
}

func TestConsole(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 300)
	p := openPage(t, s)

	// Today is the first page, and moves with what comes in.
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.adminURL+"/"), visible(".chart .bar"), visible(".live-visits li"))
	assert.Equal(t, "Today · East Porch", p.eval("document.title"))
	p.says(".lead", "since midnight in Oslo")
	s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/visits", visitBody("203.0.113.4", "198.19.140.77"))
	p.do(visible(".live-visits li.fresh"))
	assert.Contains(t, p.text(".live-visits li.fresh"), "198.19.140.77")
	p.do(click(".live-visits li.fresh .when"), visible(".visit .place"))
	assert.Contains(t, p.text(".visit"), "/programme")

	p.do(chromedp.Navigate(s.adminURL+"/visits"), visible(".visits-table tbody tr"))
	assert.Equal(t, "Visits · East Porch", p.eval("document.title"))
	s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/visits", visitBody("203.0.113.4", "198.19.140.78"))
	p.do(visible(".list-head button"))
	assert.Equal(t, "1 new", p.text(".list-head button"), "they wait until they are wanted")
	p.do(click(".list-head button"), chromedp.WaitNotPresent(chromedp.CSS(".list-head button")))
	p.says(".list-head", "302 visits")
	assert.Contains(t, p.text(".rail footer"), "4 sources, ready")

	// A visit opens as its card, with trail and evidence; Escape closes it.
	p.do(click(".visits-table tbody tr"), visible(".visit .place"), click(".visit .fold button"), visible(".visit .hops"))
	assert.Contains(t, p.text(".visit .hops"), "peer")
	p.do(chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(chromedp.CSS(".visit")))

	// Filters live in the page's address.
	p.do(chromedp.Navigate(s.adminURL+"/visits?country_code=PT&skipped=false"), visible(".filterchip"), visible(".list-head"))
	assert.Contains(t, p.text(".chips"), "Portugal")
	assert.Contains(t, p.text(".list-head"), "excluded by these filters")
	p.do(chromedp.Navigate(s.adminURL+"/visits?city=Atlantis"), visible(".state"))
	assert.Contains(t, p.text(".state"), "No visits match these filters.")
	p.do(click(".state button"), visible(".visits-table tbody tr"))

	// The map and its table twin say the same.
	p.do(chromedp.Navigate(s.adminURL+"/map"), visible(".worldmap [role=button]"), visible(".places tbody tr"))
	assert.Regexp(t, `of 2\d\d visits`, p.text(".map-drawer"), "the club's own monitors are left out")
	assert.Contains(t, p.text(".map-rest"), "have no point")
	assert.Equal(t, p.eval("String(document.querySelectorAll('.worldmap [role=button]').length)"),
		p.eval("String(document.querySelectorAll('.places tbody tr').length)"), "a circle for every row")
	p.do(chromedp.KeyEvent("t"), chromedp.WaitNotPresent(chromedp.CSS(".map-drawer")))
	p.do(click(".map-top .ant-segmented-item:nth-child(2)"), visible(".map .share"))
	p.do(click(".playbutton"), visible(".timebar .textlink"), click(".timebar .textlink"), chromedp.WaitNotPresent(chromedp.CSS(".timebar .textlink")))

	// Look up: the key /, the card, the circle, the evidence, JSON.
	p.do(chromedp.Navigate(s.adminURL+"/visits"), visible(".quick"), chromedp.KeyEvent("/"))
	assert.Equal(t, "Look up an address", p.eval("document.activeElement.ariaLabel"))
	p.do(chromedp.KeyEvent("\b198.18.3.40\r"), visible(".placemap .ring")) // a driver types the key into the field that it focused
	assert.Contains(t, p.text(".answer-card"), "Lisbon")
	assert.Contains(t, p.text(".evidence"), "disagrees")
	p.do(click(".tools .ant-segmented-item:nth-child(2)"), visible(".json"))
	assert.Contains(t, p.text(".json"), `"country_code": "PT"`)
	p.do(chromedp.Navigate(s.adminURL+"/lookup?address=10.1.2.3"), visible(".facts"))
	assert.Contains(t, p.text(".answer-card"), "private · skipped")
	p.do(chromedp.Navigate(s.adminURL+"/lookup?address=999.1.1.1"), visible("[role=alert]"))
	assert.Contains(t, p.text("[role=alert]"), "0 to 255")
	p.nothingWrong()
}

func TestConsoleOnAPhoneAndInTheDark(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 60)
	p := openPage(t, s)
	p.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(s.adminURL+"/visits"), visible(".phone-list li"))
	for _, path := range []string{"/today", "/visits", "/map", "/lookup?address=198.18.3.40", "/gate", "/rehearse?from=PT&from=NZ&path=/early/eights"} {
		p.do(chromedp.Navigate(s.adminURL+path), visible(".tabs"), visible("#content > *"))
		assert.Equal(t, "true", p.eval("String(document.documentElement.scrollWidth <= 390)"), "%s scrolls sideways", path)
	}
	for path, ready := range map[string]string{"/gate": ".gate-exceptions", "/rehearse?from=PT&from=NZ&path=/early/eights": ".rehearse-table .ring"} {
		p.do(chromedp.Navigate(s.adminURL+path), visible(ready))
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	before := p.eval("getComputedStyle(document.body).backgroundColor")
	p.do(click(".bar .iconbutton:last-child"))
	assert.NotEqual(t, before, p.eval("getComputedStyle(document.body).backgroundColor"))
	p.nothingWrong()
}

func TestPresentationMasksEveryAddress(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 60)
	p := openPage(t, s)
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.adminURL+"/visits"), visible(".visits-table tbody tr"),
		click(".bar .ant-switch"), click(".visits-table tbody tr"), visible(".visit .facts"), click(".visit .fold button"), visible(".hops"))
	const unmasked = `String(document.body.innerText.match(/(198|203|192|10|127)\.\d+\.\d+\.\d+|2001:db8:\w+:\w+/))`
	assert.Equal(t, "null", p.eval(unmasked))
	p.do(chromedp.Navigate(s.adminURL+"/visits"), visible(".visits-table tbody tr"))
	assert.Equal(t, "null", p.eval(unmasked), "it is kept across reloads")

	// The page's own address carries an opaque key, and a shown one is hidden.
	p.do(click(".visits-table tbody a.addr"), visible(".facts"))
	assert.Regexp(t, `^\?address=~\w+$|^\?address=%7E\w+$`, p.eval("location.search"))
	assert.Equal(t, "null", p.eval(unmasked))
	p.do(chromedp.Navigate(s.adminURL+"/lookup?address=198.18.3.40"), visible(".facts"))
	assert.NotContains(t, p.eval("location.href + document.title"), "198.18")
	p.do(click(".tools .ant-segmented-item:nth-child(2)"), visible(".json"))
	assert.Equal(t, "null", p.eval(unmasked))
	p.nothingWrong()
}

func TestSignInAndSetUp(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	p := openPage(t, s)
	p.do(chromedp.Navigate(s.adminURL+"/setup"), visible(".keys-table tbody tr"))
	assert.Contains(t, p.text(".keys-table"), "the tests")

	// A key is made, shown once, and works.
	p.do(click(".keys-head button"), visible(".keyform"), chromedp.SendKeys(chromedp.CSS(".keyform input"), "the shop"),
		click(".keyform .ant-radio-wrapper:nth-child(2)"), click(".ant-modal .ant-btn-primary"), visible(".secret code"))
	secret := p.text(".secret code")
	assert.Equal(t, http.StatusOK, s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/addresses/198.18.3.40", "", "Authorization: Bearer "+secret).status)
	p.do(click(".ant-modal-footer .ant-btn"), chromedp.WaitNotPresent(chromedp.CSS(".secret")))
	assert.Contains(t, p.text(".keys-table"), "the shop")

	// Snippets are for the facts that are ticked, beside the answer.
	p.says(".snippet-code .snippet-text", "money.currency_code")
	p.says(".snippet-answer .snippet-text", `"locale"`)
	p.do(click(".snippet-facts fieldset:last-of-type input"))
	p.says(".snippet-code .snippet-text", "variants")
	p.says(".snippet-answer .snippet-text", `"variants"`)
	p.do(click(".snippet-bar .ant-segmented-item:nth-child(4)"))
	p.says(".snippet-code .snippet-text", "def porch_card(headers, peer):")

	// A set of variants is made, refused with the reason while it is wrong, and used.
	p.expected("/v1/variants/banner")
	p.says(".local", "Own prices in EUR")
	p.says(".local", "42 currencies for EUR, of today.")
	p.do(click(".local-head button"), visible(".keyform"), chromedp.SendKeys(chromedp.CSS(".keyform input"), "banner"), click(".ant-modal .ant-btn-primary"), visible(".keyform [role=alert]"))
	assert.Contains(t, p.text(".keyform [role=alert]"), "is not a variant")
	p.do(chromedp.SendKeys(chromedp.CSS(".keyform > label:last-of-type input"), "plain"), click(".ant-modal .ant-btn-primary"), chromedp.WaitNotPresent(chromedp.CSS(".keyform")))
	p.says(".local", "plain for everybody else")
	assert.Contains(t, s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/v1/visitor?fields=variants", "").body, `"banner":"plain"`)

	p.do(click(".keys-foot .textlink:nth-of-type(2)"), visible(".audit tbody tr"))
	assert.Contains(t, p.text(".audit"), "key created")
	assert.Contains(t, p.text(".audit"), "variants saved")

	// Signed out, every page asks to sign in; a wrong key says how many tries
	// are left, an admin key opens the page that was asked for.
	p.do(click(".keys-foot .textlink:last-child"), visible("#admin-key"))
	p.expected("/v1/sites", "/v1/sessions") // 401, once each
	p.do(chromedp.SendKeys(chromedp.CSS("#admin-key"), "porch_admin_wrong\r"), visible(".signin-failed"))
	assert.Contains(t, p.text(".signin-failed"), "of 5 tries left this minute")
	p.do(chromedp.Navigate(s.adminURL+"/setup"), visible("#admin-key"), chromedp.SendKeys(chromedp.CSS("#admin-key"), s.admin+"\r"), visible(".keys-table tbody tr"))
	p.nothingWrong()
}

func TestTrailAndCheckupPages(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	p := openPage(t, s)
	p.do(chromedp.Navigate(s.adminURL+"/trail"), visible(".bighops .visitor"))
	p.says(".trail-visitor", "198.18.7.114")
	p.says(".warning", "office")
	p.do(visible(".trail-others tbody tr:nth-child(3) .addr"))
	p.says(".trail-others tbody", "198.51.100.7")

	// Another setting is tried, and its lines can be copied.
	p.do(click(".believed input[role=spinbutton]"), chromedp.KeyEvent("\b1\r"), visible(".trail-lines pre"))
	p.says(".trail-lines pre", "hops: 1")
	p.do(click(".trail-request .ant-segmented-item:nth-child(2)"), chromedp.WaitNotPresent(chromedp.CSS(".trail-request textarea")))
	p.says(".trail-answer", "127.0.0.1")

	// Something is wrong: the checkup says so on its page, in the rail and on top.
	for i := range 30 {
		s.call(t, "127.0.0.9", http.MethodGet, s.publicURL+"/v1/visitor", "", fmt.Sprintf("X-Forwarded-For: 198.18.3.%d", i))
	}
	p.do(chromedp.Navigate(s.adminURL+"/visits"), visible(".banner"))
	p.says(".banner", "127.0.0.9 looks like a proxy")
	p.do(click(".banner a"), visible(".checkup.attention .lines pre"))
	p.says(".checkup .lines pre", `- "127.0.0.9/32"`)
	p.nothingWrong()
}

// Where the sites are refused, the console says so inside its shell, and asks again with
// growing pauses; once they are there, it goes on by itself.
func TestTheConsoleWhenItIsRefused(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 20)
	target, err := url.Parse(s.adminURL)
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
	link, err := s.server.Link(t.Context())
	require.NoError(t, err)
	_, secret, _ := strings.Cut(link, "#")
	refusals := []*refusal{{}, {status: 500}, {status: 429}, {status: 502}}
	fronts := make([]string, len(refusals))
	for i, of := range refusals {
		fronts[i] = through(of)
	}
	p := openTab(t)
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(fronts[0]+"/sign-in#"+secret), visible(".visits-table, .list"))
	for i, of := range refusals[1:] {
		of.refuse.Store(true)
		began := time.Now()
		p.do(chromedp.Navigate(fronts[1+i] + "/today"))
		p.says("main [role=alert]", "Refused for the test")
		p.do(visible("nav a[href='/visits']")) // it is inside the shell
		require.Eventually(t, func() bool { return of.asked.Load() >= 3 }, time.Minute, 20*time.Millisecond)
		assert.Greater(t, time.Since(began), 5*time.Second, "two and then four seconds lie between")
		assert.Zero(t, of.others.Load(), "nothing else is asked meanwhile")
		of.refuse.Store(false)
		p.do(visible(".today"))
	}
}

// Between a phone and a wide screen every column of the list of visits has its width.
func TestVisitsOnATablet(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.fill(t, 30)
	p := openPage(t, s)
	for _, width := range []int64{1280, 1100, 1024, 900, 768, 701} {
		p.do(chromedp.EmulateViewport(width, 900), chromedp.Navigate(s.adminURL+"/visits"), visible(".visits-table tbody tr"))
		narrowest := p.eval(`String(Math.min(...[...document.querySelectorAll(".visits-table th")].map((th) => th.getBoundingClientRect().width)))`)
		n, err := strconv.ParseFloat(narrowest, 64)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, n, 60.0, "the narrowest column at %d", width)
		place := p.eval(`String([...document.querySelectorAll(".visits-table th")].find((th) => th.textContent === "Location").getBoundingClientRect().width)`)
		n, err = strconv.ParseFloat(place, 64)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, n, 140.0, "the place's column at %d", width)
		assert.Equal(t, "true", p.eval(`String(document.documentElement.scrollWidth <= innerWidth)`), "nothing scrolls sideways at %d", width)
	}
	p.nothingWrong()
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
	s := start(t, nil)
	texts, needles := spellings()
	require.GreaterOrEqual(t, len(texts), 40)
	for _, text := range texts {
		quoted, err := json.Marshal(map[string]any{
			"site": "heronlake.example", "path": "/seen/" + text + "/x", "referrer": "https://news.example/?from=" + text, "link": shortened(text, 60),
			"attributes": map[string]any{"from": text, "n": uint64(3323098003), text: "as a name"}, "peer": "203.0.113.4",
			"headers": map[string][]string{"X-Forwarded-For": {text + ", 198.18.119.147, 203.0.113.10"}, "User-Agent": {"Reader/1 (" + text + ")"}},
		})
		require.NoError(t, err)
		require.Equal(t, http.StatusAccepted, s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/visits", string(quoted)).status, text)
	}
	_, err := s.client.CreateKey(t.Context(), keys.NewKey{Name: "for 198.18.119.147", Scope: "server"})
	require.NoError(t, err)
	s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/corrections", `{"range":"198.18.119.147/32","country_code":"PT","note":"asked by anna.147@club.heronlake.example"}`)
	settled(t, s.adminURL, s.admin)
	p := openPage(t, s)
	p.do(chromedp.EmulateViewport(1280, 900), chromedp.Navigate(s.adminURL+"/visits?prefix=198.18.119.147/32"), visible(".visits-table tbody tr"), click(".bar .ant-switch"))
	p.until(`document.querySelector(".visits-table tbody a.addr")?.textContent.includes("•")`)
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
		all := ids.ReplaceAllString(p.eval(everything), "an id") // whose digits are drawn
		for _, needle := range needles {
			if i := strings.Index(all, needle); i >= 0 {
				assert.Fail(t, "an address shows", "%s: %q in …%s…", where, needle, all[max(0, i-60):min(len(all), i+60)])
			}
		}
	}
	clean("the filter of an address")
	p.do(click(".filterchip"))
	p.until(`document.querySelectorAll(".visits-table tbody tr").length >= 40`)
	clean("the list")
	p.eval(`navigator.clipboard.writeText = (text) => { document.body.dataset.copied = text; return Promise.resolve(); }, "listening"`)
	for i := range len(texts) {
		p.eval(fmt.Sprintf(`document.querySelectorAll(".visits-table tbody tr")[%d].click(), "opened"`, i))
		p.do(visible(".visit .facts"))
		p.eval(`document.querySelectorAll(".visit .fold button").forEach((b) => b.getAttribute("aria-expanded") === "false" && b.click()), "unfolded"`)
		p.eval(`document.querySelector(".visit-foot button").click(), "copied"`)
		p.until(`document.body.dataset.copied?.length > 100`)
		clean(fmt.Sprintf("visit %d and its copy", i))
		p.eval(`delete document.body.dataset.copied, "forgotten"`)
		p.eval(`document.querySelector(".visit-close").click(), "closed"`)
		p.until(`document.querySelector(".visit") === null`)
	}
	assert.Equal(t, "true", p.eval(`String(document.querySelector(".export").disabled)`), "what cannot be masked is off")
	assert.Contains(t, p.eval(`document.querySelector(".bar .switch").title`), "in every spelling", "it says what it covers")

	// The links work all the same.
	p.do(click(".visits-table tbody a.addr"), visible(".facts"))
	clean("a card")
	p.do(click(".tools .ant-segmented-item:nth-child(2)"), visible(".json"))
	clean("a card as JSON")
	p.do(chromedp.Navigate(s.adminURL+"/lookup?address=host-198-18-119-147.dyn.example.net"), visible("main [role=alert]"))
	clean("an error that repeats what was asked")
	for _, at := range []string{"/today", "/map", "/trail", "/setup", "/atlas", "/lookup", "/gate", "/rehearse?from=" + texts[0]} {
		p.do(chromedp.Navigate(s.adminURL+at), visible("#content > *"))
		p.until(`document.querySelector(".bars") === null`)
		if at == "/setup" {
			p.do(click(".keys-foot .textlink:nth-of-type(2)"), visible(".audit tbody tr"))
		}
		clean(at)
	}

	// A list that is pasted, its answers, and the file that is saved of them.
	p.do(chromedp.Navigate(s.adminURL+"/lookup/many"), visible(".many-choose textarea"))
	list, err := json.Marshal(strings.Join(texts, "\n"))
	require.NoError(t, err)
	p.eval(fmt.Sprintf(`(() => {
		const data = new DataTransfer();
		data.setData("text", %s);
		document.querySelector(".many-choose textarea").dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true }));
		return "pasted";
	})()`, list))
	p.until(`document.querySelector(".many-choose textarea").value.length > 0`)
	clean("a pasted list")
	p.eval(`URL.createObjectURL = (blob) => { blob.text().then((text) => { document.body.dataset.saved = text; }); return "#"; }, "listening"`)
	p.do(click(".many-choose .ant-btn-primary"), visible(".many-table tbody tr"))
	p.until(`document.querySelector(".many-actions .ant-btn-primary").textContent === "Download"`)
	clean("the answers to a list")
	p.do(click(".many-actions .ant-btn-primary"))
	p.until(`document.body.dataset.saved?.length > 100`)
	clean("the file of answers")
}

func shortened(text string, most int) string { return text[:min(len(text), most)] }
