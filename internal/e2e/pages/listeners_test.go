package pages

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

// hostile is a page of another origin that tries everything a page can: simple
// requests, ones with credentials and keys in them, forms, frames, scripts.
const hostile = `<!doctype html><title>hostile</title><script>
const tries = [
  ["read", () => fetch("%[1]s/v1/visits?site=heronlake.example", {credentials: "include"}).then(r => r.text())],
  ["read a page", () => fetch("%[1]s/visits", {credentials: "include"}).then(r => r.text())],
  ["post", () => fetch("%[1]s/v1/keys", {method: "POST", credentials: "include", headers: {"Content-Type": "application/json"}, body: '{"name":"stolen","scope":"admin"}'}).then(r => r.text())],
  ["post simply", () => fetch("%[1]s/v1/keys", {method: "POST", credentials: "include", body: '{"name":"stolen","scope":"admin"}'}).then(r => r.text())],
  ["visit", () => fetch("%[2]s/v1/visits", {method: "POST", credentials: "include", body: '{"site":"heronlake.example","path":"/stolen"}'}).then(r => r.text())],
  ["frame", () => new Promise((ok, no) => { const f = document.createElement("iframe"); f.src = "%[1]s/visits"; f.onload = () => { try { f.contentDocument.body.innerHTML.length > 0 ? no() : no() } catch { no() } }; document.body.append(f); setTimeout(no, 1500); })],
  ["script", () => new Promise((ok, no) => { const e = document.createElement("script"); e.src = "%[1]s/v1/atlas"; e.onload = ok; e.onerror = no; document.body.append(e); })],
];
async function run() {
  fetch("%[1]s/v1/keys", {method: "POST", mode: "no-cors", credentials: "include", body: '{"name":"stolen","scope":"admin"}'}).catch(() => 0);
  fetch("%[2]s/v1/visits", {method: "POST", mode: "no-cors", credentials: "include", body: '{"site":"heronlake.example","path":"/stolen"}'}).catch(() => 0);
  const out = [];
  for (const [name, attempt] of tries) { try { await attempt(); out.push(name); } catch { } }
  document.title = "done: " + out.join(", ");
  document.body.insertAdjacentHTML("beforeend", "<p id=done>done</p>");
}
</script><body onload="run()">`

func TestAHostilePageCanNeitherReadNorPost(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, hostile, s.AdminURL, s.PublicURL)
	}))
	defer web.Close()
	p := live.OpenTab(t)
	link, err := s.Server.Link(t.Context())
	require.NoError(t, err)
	// The victim is signed in, in the same browser.
	require.NoError(t, chromedp.Do(p.Ctx, chromedp.Navigate(link), live.Visible(".list"), chromedp.Navigate(web.URL), chromedp.WaitReady(chromedp.CSS("#done"))))
	title, err := chromedp.Run(p.Ctx, chromedp.Title())
	require.NoError(t, err)
	assert.Equal(t, "done:", title, "what the page could do")
	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	for _, k := range keys {
		assert.NotEqual(t, "stolen", k.Name)
	}
	page, err := s.Client.Visits(t.Context(), map[string][]string{"site": {"heronlake.example"}}, "", 10)
	require.NoError(t, err)
	assert.Zero(t, page.Count.All, "nothing was stored")
}
