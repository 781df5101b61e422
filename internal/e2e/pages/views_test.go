package pages

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/keys"
	"eastporch/internal/demo"
	testbrowser "eastporch/internal/testkit/browser"
	"eastporch/internal/testkit/live"
)

// nonceOnly is a policy that runs only scripts with its nonce, and lets nobody make markup of texts.
const nonceOnly = "default-src 'none'; script-src 'nonce-regatta'; connect-src %s; img-src data:; require-trusted-types-for 'script'; base-uri 'none'"

// viewed is a web site whose pages record their visits at a service elsewhere, which can lose
// answers.
type viewed struct {
	mu     sync.Mutex
	asked  []string // methods and paths that came to the service
	nonces []string
	lose   int // so many answers to visits that come next are lost after the service had them
	attrs  string
	show   bool // the page before the prepared one goes on to it
	site   string
}

func (v *viewed) calls() []string {
	v.mu.Lock()
	defer v.mu.Unlock()
	return append([]string{}, v.asked...)
}

// before has the browser prepare a page, and goes there once it may; prepared tells that it was.
const (
	before = `<script type="speculationrules" nonce="regatta">{"prerender":[{"urls":["/prepared"]}]}</script>
<script nonce="regatta">const timer = setInterval(async () => {
	if (await (await fetch("/on")).text() === "true") { clearInterval(timer); location.href = "/prepared"; }
}, 100);</script>`
	prepared = `<script nonce="regatta">if (document.prerendering) {
	fetch("/told?prepared");
	document.addEventListener("prerenderingchange", () => fetch("/told?shown"));
}</script>`
)

func serveViews(t *testing.T, s *live.Service, attributes string) *viewed {
	t.Helper()
	v := &viewed{attrs: attributes}
	target, err := url.Parse(s.PublicURL)
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Header.Set("X-Forwarded-For", "198.18.3.40")
	}}
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		v.mu.Lock()
		v.asked = append(v.asked, r.Method+" "+r.URL.Path)
		lost := false
		if r.Method == http.MethodPost {
			text, _ := io.ReadAll(r.Body)
			r.Body = io.NopCloser(strings.NewReader(string(text)))
			var body struct{ Nonce string }
			_ = json.Unmarshal(text, &body)
			v.nonces = append(v.nonces, body.Nonce)
			if lost = v.lose > 0; lost {
				v.lose--
			}
		}
		v.mu.Unlock()
		if lost {
			proxy.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(elsewhere.Close)
	var key string
	pages := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/told": // by the prepared page
			v.mu.Lock()
			v.asked = append(v.asked, "page: "+r.URL.RawQuery)
			v.mu.Unlock()
			return
		case "/on": // whether the page before it may go on
			v.mu.Lock()
			fmt.Fprint(w, v.show)
			v.mu.Unlock()
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", fmt.Sprintf(nonceOnly, "'self' "+elsewhere.URL))
		more := map[string]string{"/before": before, "/prepared": prepared}[r.URL.Path]
		fmt.Fprintf(w, `<!doctype html><html lang="en"><title>%s</title><link rel="icon" href="data:,">%s
<script nonce="regatta">addEventListener("pageshow", (e) => { window.restored = e.persisted; });</script>
<script src="%s/porch.js" data-key="%s" data-fields="location.city" %s nonce="regatta" defer></script>
<p>Hello in <b id="city" data-porch="location.city">your town</b></p></html>`, r.URL.Path, more, elsewhere.URL, key, v.attrs)
	}))
	t.Cleanup(pages.Close)
	v.site = pages.URL
	made, err := s.Client.CreateKey(t.Context(), keys.NewKey{Name: "the pages", Scope: "page", Sites: []string{demo.Site}, Origins: []string{pages.URL}})
	require.NoError(t, err)
	key = made.Secret
	return v
}

func TestPagesRecordTheirViews(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	v := serveViews(t, s, "data-visit")
	p := live.OpenTab(t)
	p.Do(chromedp.Navigate(v.site + "/programme"))
	p.Says("#city", "Lisbon")
	assert.Equal(t, []string{"GET /porch.js", "POST /v1/visits"}, v.calls(), "one request for both, and no preflight")
	paths, list := s.Stored(t, 1)
	assert.Equal(t, []string{"/programme"}, paths)
	assert.Equal(t, "198.18.3.40", list[0].Card.Address.Text.String())
	assert.Contains(t, *list[0].UserAgent, "Mozilla/5.0")

	// What is a view, and what is none.
	for _, step := range []struct {
		does string
		want string // the path that is recorded, "" for none
	}{
		{`history.pushState({}, "", "/map")`, "/map"},
		{`history.pushState({}, "", "/map")`, ""},
		{`history.pushState({}, "", "/map?heat=2")`, "/map"},
		{`history.replaceState({}, "", "/other")`, ""},
		{`history.pushState({}, "", "/other")`, ""},
		{`location.hash = "results"`, ""},
		{`history.pushState({}, "", "/other#more")`, ""},
		{`history.go(-2)`, ""},
		{`history.go(-2)`, "/map"},
		{`porch.visit({path: "/bought", attributes: {tickets: 2}, link: "poster"}).then(() => true)`, "/bought"},
	} {
		before := p.Eval("String(location.href)")
		p.Eval(`String((` + step.does + `, true))`)
		if strings.HasPrefix(step.does, "history.go") {
			p.Until(fmt.Sprintf("location.href !== %q", before))
		}
		if step.want != "" {
			paths = append(paths, step.want)
		}
		got, _ := s.Stored(t, len(paths))
		assert.Equal(t, paths, got, step.does)
	}
	_, list = s.Stored(t, len(paths))
	assert.JSONEq(t, `{"tickets":2}`, string(list[0].Attributes))
	assert.Equal(t, "poster", *list[0].Link)
	p.NothingWrong()
}

// A page that the browser kept whole is viewed again when it comes back.
func TestAPageThatIsRestoredIsViewedAgain(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	v := serveViews(t, s, "data-visit")
	p := live.OpenTab(t)
	p.Do(chromedp.Navigate(v.site + "/first"))
	p.Says("#city", "Lisbon")
	p.Do(chromedp.Navigate(v.site + "/second"))
	p.Says("#city", "Lisbon")
	p.Eval(`history.back(), "going"`)
	p.Until(`location.pathname === "/first"`)
	p.Until(`window.restored === true`)
	paths, _ := s.Stored(t, 3)
	assert.Equal(t, []string{"/first", "/second", "/first"}, paths)
	p.NothingWrong()
}

// A page that the browser prepares before anybody asks for it is viewed when it is shown. A
// browser that is debugged prepares none, so this one is watched by what its pages ask for.
func TestAPageThatIsPreparedIsViewedWhenItIsShown(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	v := serveViews(t, s, "data-visit")
	run, stop, err := testbrowser.Unwatched(v.site + "/before")
	require.NoError(t, err)
	t.Cleanup(stop)
	told := func(what string) func() bool {
		return func() bool { return slices.Contains(v.calls(), what) }
	}
	require.Eventually(t, told("page: prepared"), 10*time.Minute, 20*time.Millisecond, run)
	paths, _ := s.Stored(t, 1)
	assert.Equal(t, []string{"/before"}, paths, "it is prepared, and not viewed yet")
	v.mu.Lock()
	v.show = true
	v.mu.Unlock()
	require.Eventually(t, told("page: shown"), 10*time.Minute, 20*time.Millisecond, run)
	paths, _ = s.Stored(t, 2)
	assert.Equal(t, []string{"/before", "/prepared"}, paths)
}

// A visit whose answer was lost is sent again, and counts once.
func TestAViewThatIsSentAgainCountsOnce(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	v := serveViews(t, s, "data-visit")
	v.lose = 2
	p := live.OpenTab(t)
	p.Do(chromedp.Navigate(v.site + "/programme"))
	p.Says("#city", "Lisbon")
	v.mu.Lock()
	nonces := append([]string{}, v.nonces...)
	v.mu.Unlock()
	require.Len(t, nonces, 3)
	assert.Equal(t, []string{nonces[0], nonces[0]}, nonces[1:])
	paths, _ := s.Stored(t, 1)
	assert.Equal(t, []string{"/programme"}, paths)

	// A page whose clock is years off is counted once as well, and by the service's time.
	body := fmt.Sprintf(`{"path":"/wrong-clock","peer":"198.18.3.40","nonce":"%s"}`, "3x-abcdefgh12345678")
	first := live.Parse[struct{ ID string }](t, s.Post(t, body))
	again := live.Parse[struct{ ID string }](t, s.Post(t, body))
	assert.Equal(t, first.ID, again.ID)
	paths, list := s.Stored(t, 2)
	assert.Equal(t, []string{"/programme", "/wrong-clock"}, paths)
	assert.WithinDuration(t, time.Now(), list[0].Time, time.Minute)
	for nonce, says := range map[string]string{"short": "nonce", "nodashnodashnodash": "nonce", "3x-ABCDEFGHIJKLMNOP": "nonce", "!!!-abcdefgh12345678": "nonce", strings.Repeat("a", 65): "nonce"} {
		bad := s.Post(t, fmt.Sprintf(`{"path":"/","peer":"198.18.3.40","nonce":%q}`, nonce))
		assert.Equal(t, http.StatusUnprocessableEntity, bad.Status)
		assert.Contains(t, bad.Said(t), says)
	}
}

// Nothing is sent or remembered before the visitor agrees, nor after that is withdrawn.
func TestNothingIsSentWithoutConsent(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	v := serveViews(t, s, `data-visit="consent"`)
	p := live.OpenTab(t)
	p.Do(chromedp.Navigate(v.site + "/programme"))
	p.Until("typeof porch === 'object'")
	p.Eval(`history.pushState({}, "", "/map"), porch.choose("pt").catch(() => {}), porch.visit().catch(() => {}), "tried"`)
	assert.Equal(t, "refused", p.Eval(`porch.visit().then(() => "sent", () => "refused")`))
	assert.Equal(t, []string{"GET /porch.js"}, v.calls())
	remembered := func() string { return p.Eval(`JSON.stringify([Object.keys(localStorage).length, document.cookie])`) }
	assert.Equal(t, `[0,""]`, remembered())
	assert.Equal(t, "your town", p.Text("#city"))

	p.Eval(`porch.consent(true), "given"`)
	p.Says("#city", "Lisbon")
	assert.Equal(t, `[1,""]`, remembered())
	paths, _ := s.Stored(t, 1)
	assert.Equal(t, []string{"/map"}, paths, "the view that is")
	assert.Equal(t, "pt", p.Eval(`porch.choose("pt").then(() => porch.choice)`))

	asked := len(v.calls())
	p.Eval(`porch.consent(false), history.pushState({}, "", "/results"), "withdrawn"`)
	assert.Equal(t, "refused", p.Eval(`porch.visit().then(() => "sent", () => "refused")`))
	assert.Len(t, v.calls(), asked)
	assert.Equal(t, `[0,""]`, remembered())
	p.Eval(`porch.consent(true), "given again"`)
	require.Eventually(t, func() bool { return len(v.calls()) > asked }, 10*time.Minute, 20*time.Millisecond)
	paths, _ = s.Stored(t, 1)
	assert.Equal(t, []string{"/map"}, paths, "which is no other view")
	p.NothingWrong()
}

// The same in Firefox, which is driven over WebDriver BiDi.
func TestPagesRecordTheirViewsInFirefox(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	v := serveViews(t, s, "data-visit")
	firefox, err := exec.LookPath("firefox-esr")
	require.NoError(t, err, "make test installs it")
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "node", "firefox/views.mjs", v.site, firefox)
	cmd.Dir = "../../../web"
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir()) // where Firefox keeps what it keeps
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	require.NoError(t, err, errs.String())
	saw := live.Parse[struct {
		Restored       bool
		Price, Version string
		Said           []string
	}](t, live.Answer{Body: string(out)})
	t.Log(saw.Version)
	assert.True(t, saw.Restored, "the page was really restored")
	assert.Equal(t, "function", saw.Price)
	assert.Empty(t, saw.Said, "no error, and no policy that was broken")
	paths, list := s.Stored(t, 5)
	assert.Equal(t, []string{"/programme", "/map", "/programme", "/second", "/programme"}, paths)
	assert.Contains(t, *list[0].UserAgent, "Firefox")
	assert.Empty(t, list[0].Marks)
}
