package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image/png"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/client"
	"eastporch/internal/core/link"
	"eastporch/internal/core/snippet"
	"eastporch/internal/testkit/db"
)

const firefox = "User-Agent: Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"

// A link that is followed through real nginx and HAProxy, set up as the service hands it out, from four places:
// its statistics say so by API, command and page; what is left out is said, and a local address has the
// owner's word for its place.
func TestALinkThroughRealProxies(t *testing.T) {
	t.Parallel()
	for proxy, front := range map[string]func(*testing.T, string, string, string){"nginx": nginxSite, "haproxy": haproxySite} {
		t.Run(proxy, func(t *testing.T) {
			t.Parallel()
			s := start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32", "::1/128"}, "not_found_placeholder": "somewhere"})
			s.change(t, "policy:\n", "policy:\n  - { prefix: 10.0.0.0/8, action: skip, placeholder: club-house }\n")
			require.Equal(t, http.StatusOK, s.reload(t).status)
			application, port := freePort(t), freePort(t)
			sitePage(t, application)
			block, ok := snippet.Location(proxy, s.publicURL)
			require.True(t, ok)
			front(t, port, application, block)
			made, err := s.client.CreateLink(t.Context(), client.NewLink{Code: "tickets", Said: link.Said{
				Destination: "/en/tickets", Name: "Posters in the towns", Routes: []link.Route{{Countries: []string{"PT"}, Destination: "/pt/bilhetes"}, {Languages: []string{"fr"}, Destination: "/fr/billets"}},
			}})
			require.NoError(t, err)
			origin := strings.TrimSuffix(made.URL, "/to/tickets")
			follow := func(line, leads string, header ...string) {
				t.Helper()
				status, _, got := request(t, port, line, header...)
				assert.Equal(t, http.StatusFound, status)
				assert.Equal(t, origin+leads, got.Get("Location"))
				assert.Equal(t, "no-store", got.Get("Cache-Control"))
			}
			const get = "GET /to/tickets"
			follow(get, "/pt/bilhetes", firefox, "X-Forwarded-For: 198.18.3.40", "Referer: https://rowing-news.example/x")
			follow(get, "/fr/billets", firefox, "X-Forwarded-For: 198.18.24.7", "Accept-Language: fr-FR")
			follow(get, "/en/tickets", firefox, "X-Forwarded-For: 198.19.140.8", "Accept-Language: ja")
			follow(get, "/en/tickets", firefox, "X-Forwarded-For: 2001:db8:5e1:40::1f")
			follow(get, "/en/tickets", firefox, "X-Forwarded-For: 10.1.2.3")                            // local
			follow(get, "/en/tickets", firefox, "X-Forwarded-For: unreadable")                          // nobody
			follow(get, "/pt/bilhetes", firefox, "X-Forwarded-For: 192.0.2.200, 198.18.3.99", "DNT: 1") // a list, of which the nearest counts
			follow("HEAD /to/tickets", "/pt/bilhetes", firefox, "X-Forwarded-For: 198.18.3.41")
			follow(get, "/pt/bilhetes", firefox, "X-Forwarded-For: 198.18.3.42", "Sec-Purpose: prefetch")
			follow(get, "/pt/bilhetes", "User-Agent: LinkExpanding/1", "X-Forwarded-For: 198.18.3.43")
			follow(get, "/pt/bilhetes", "User-Agent: HeronCrawler/0.4", "X-Forwarded-For: 198.18.3.44")
			follow(get, "/pt/bilhetes", firefox, "X-Forwarded-For: 198.18.3.40") // again
			status, body, _ := request(t, port, "GET /to/ticket", firefox, "Accept-Language: pt")
			assert.Equal(t, http.StatusNotFound, status)
			assert.Contains(t, body, "Este link não existe.")

			report, err := s.client.Clicks(t.Context(), "tickets", url.Values{"days": {"2"}})
			require.NoError(t, err)
			of := report.Of
			assert.Equal(t, []int64{7, 6}, []int64{of.Clicks, of.Visitors}, "whoever is not found is not told apart")
			assert.Equal(t, map[string]int64{"preview": 3, "bot": 1, "repeat": 1}, of.LeftOut)
			assert.Equal(t, map[string]int64{"/pt/bilhetes": 2, "/fr/billets": 1, "/en/tickets": 4}, named(of.Destinations))
			assert.Equal(t, map[string]int64{"Portugal": 2, "France": 1, "Japan": 1, "Norway": 1, "": 2}, named(of.Countries))
			assert.Equal(t, map[string]int64{"rowing-news.example": 1, "": 6}, named(of.Referrers))
			assert.Equal(t, map[string]int64{"Firefox": 7}, named(of.Agents))
			words := map[string]int64{}
			for _, p := range of.Places {
				if p.Placeholder != nil {
					words[*p.Placeholder] = p.Clicks
				}
			}
			assert.Equal(t, map[string]int64{"club-house": 1, "somewhere": 1}, words)
			assert.Equal(t, words, of.NoPoint.Placeholders)
			assert.Equal(t, int64(8), of.Link.Used, "all but previews, bots and HEAD; a repetition is one too")

			code, out, errs := runIn(t, t.TempDir(), "", "links", "show", "tickets", "--server", s.adminURL, "--key", s.admin, "--days", "2")
			require.Zero(t, code, errs)
			for _, says := range []string{"7 clicks by 6 visitors", "Lisbon", "club-house", "Left out: 1 bot, 3 previews, 1 repeat.", "/fr/billets"} {
				assert.Contains(t, out, says)
			}
			_, err = s.client.Links(t.Context(), url.Values{"site": {"heronlake.example"}})
			require.NoError(t, err)
			assert.Eventually(t, func() bool {
				page, err := s.client.Links(t.Context(), url.Values{"site": {"heronlake.example"}})
				return err == nil && len(page.Asked) == 1 && page.Asked[0].Code == "ticket" && page.Links[0].Clicks == 7
			}, 20*time.Second, 50*time.Millisecond)
			differs := parse[api.Verified](t, s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/visits/verify", `{"site":"heronlake.example"}`))
			assert.Empty(t, differs.Differs, "the counts of links too are those of their rows")
		})
	}
}

func named(list []link.Count) map[string]int64 {
	by := map[string]int64{}
	for _, c := range list {
		by[c.Name] = c.Clicks
	}
	return by
}

func nginxSite(t *testing.T, port, application, block string) {
	startNginx(t, port, fmt.Sprintf("server { listen 127.0.0.1:%[1]s; listen [::1]:%[1]s;\nlocation / { proxy_pass http://127.0.0.1:%[2]s; }\n%[3]s}", port, application, block))
}

func haproxySite(t *testing.T, port, application, block string) {
	use := ""
	for line := range strings.Lines(block) { // the line that the recipe says to copy
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "#     "); ok {
			use += "    " + text + "\n"
		}
	}
	startHAProxy(t, port, fmt.Sprintf(`
defaults
    mode http
    timeout connect 5s
    timeout client 30s
    timeout server 30s
frontend site
    bind 127.0.0.1:%[1]s
    bind [::1]:%[1]s
%[4]s    default_backend application
backend application
    server application 127.0.0.1:%[2]s
%[3]s`, port, application, block, use))
}

// kill -9 of the service while a link is followed, again and again: every click that was synced stands once.
func TestFaultTheServiceIsKilledUnderClicks(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	p := newProcess(t, database)
	public := freeAddress(t)
	p.args = append(p.args, "--public-address", public)
	p.start()
	c, err := client.New(p.adminURL, p.key, nil)
	require.NoError(t, err)
	_, err = c.CreateLink(t.Context(), client.NewLink{Code: "tickets", Said: link.Said{Destination: "/en/tickets"}})
	require.NoError(t, err)
	var answered atomic.Int64
	stop := make(chan struct{})
	var group sync.WaitGroup
	web := &http.Transport{MaxIdleConnsPerHost: 8}
	for worker := range 8 {
		group.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+public+"/to/tickets", nil)
				req.Host = "heronlake.example"
				req.Header.Set("User-Agent", fmt.Sprintf("Visitor %d %d", worker, n))
				req.Header.Set("X-Forwarded-For", fmt.Sprintf("198.18.3.%d", n%60))
				if res, err := web.RoundTrip(req); err == nil {
					_ = res.Body.Close()
					if res.StatusCode == http.StatusFound {
						answered.Add(1)
					}
				}
			}
		})
	}
	var synced int64
	for range 2 * *rounds {
		var accepted int64
		require.Eventually(t, func() bool {
			accepted = acceptedBy(t, p)
			return accepted > 300
		}, time.Minute, 5*time.Millisecond)
		p.kill()
		synced += accepted
		p.start()
	}
	close(stop)
	group.Wait()
	require.NoError(t, p.stop()) // which brings what waits onto the disk
	p.start()
	settled(t, p.adminURL, p.key)
	conn, err := pgx.Connect(t.Context(), database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	var stored, distinct, counted int64
	require.NoError(t, conn.QueryRow(t.Context(), `SELECT count(*), count(DISTINCT user_agent) FROM visit WHERE link = 'tickets'`).Scan(&stored, &distinct))
	require.NoError(t, conn.QueryRow(t.Context(), `SELECT sum(visits) FROM rollup WHERE site = 'heronlake.example/to/tickets' AND dimension = 'all' AND granularity = 'day'`).Scan(&counted))
	assert.Equal(t, stored, distinct, "none stands twice")
	assert.Equal(t, stored, counted)
	assert.GreaterOrEqual(t, stored, synced, "none that was synced is lost")
	assert.LessOrEqual(t, stored, answered.Load()+16, "but those whose answer was cut off")
	t.Logf("%d answered, %d synced before a kill, %d stored, %d differ", answered.Load(), synced, stored, stored-counted)
}

// acceptedBy is how many visits a process has synced since it started.
func acceptedBy(t *testing.T, p *process) int64 {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, p.adminURL+"/v1/visits/state", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+p.key)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	var state struct {
		Intake struct {
			Since struct {
				Accepted int64 `json:"accepted"`
			} `json:"since"`
		} `json:"intake"`
	}
	require.NoError(t, json.NewDecoder(res.Body).Decode(&state))
	return state.Intake.Since.Accepted
}

// The database away: links are followed and their clicks wait; what was made at one instance is followed at
// the other, with one limit for both.
func TestLinksOfTwoInstances(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	one := start(t, map[string]any{"database.url": database})
	other := start(t, map[string]any{"database.url": database})
	one.admin = other.admin // the second start made it anew
	var err error
	one.client, err = client.New(one.adminURL, one.admin, one.contract)
	require.NoError(t, err)
	require.Eventually(t, func() bool { _, err := one.client.Sites(t.Context()); return err == nil }, 20*time.Second, 50*time.Millisecond)
	_, err = one.client.CreateLink(t.Context(), client.NewLink{Code: "few", Said: link.Said{Destination: "/x", Limit: new(int64(3))}})
	require.NoError(t, err)
	follow := func(s *service) int {
		return s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/to/few", "", firefox).status
	}
	assert.Eventually(t, func() bool { return follow(other) == http.StatusFound }, 20*time.Second, 50*time.Millisecond)
	for range 5 {
		follow(one)
	}
	assert.Eventually(t, func() bool { return follow(one) == http.StatusGone && follow(other) == http.StatusGone }, 20*time.Second, 50*time.Millisecond, "the limit is of both")
	_, err = other.client.ChangeLink(t.Context(), "few", map[string]any{"limit": nil, "destination": "/y"})
	require.NoError(t, err)
	assert.Eventually(t, func() bool {
		return one.call(t, "127.0.0.1", http.MethodGet, one.publicURL+"/to/few", "").header.Get("Location") == "https://heronlake.example/y" || follow(one) == http.StatusFound
	}, 20*time.Second, 50*time.Millisecond)
	_, err = one.client.ChangeLink(t.Context(), "few", map[string]any{"disabled": true})
	require.NoError(t, err)
	assert.Equal(t, http.StatusGone, follow(one), "at once where it was disabled")
	assert.Eventually(t, func() bool { return follow(other) == http.StatusGone }, 20*time.Second, 50*time.Millisecond)
}

// What is printed can be read: a reader of QR codes gives the address back, from the PNG and from the SVG as
// a browser draws it.
func TestQRCodesCanBeRead(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	made, err := s.client.CreateLink(t.Context(), client.NewLink{Code: "a-rather-long-code-of-thirty-two", Said: link.Said{Destination: "/x"}})
	require.NoError(t, err)
	read := func(text []byte) string {
		t.Helper()
		picture, err := png.Decode(bytes.NewReader(text))
		require.NoError(t, err)
		bits, err := gozxing.NewBinaryBitmapFromImage(picture)
		require.NoError(t, err)
		found, err := qrcode.NewQRCodeReader().Decode(bits, nil)
		require.NoError(t, err)
		return found.GetText()
	}
	for _, size := range []int{100, 400, 800, 4000} {
		var text bytes.Buffer
		require.NoError(t, s.client.LinkQR(t.Context(), made.Code, "png", size, &text))
		assert.Equal(t, made.URL, read(text.Bytes()), size)
	}
	file := filepath.Join(t.TempDir(), "x.svg")
	code, _, errs := runIn(t, t.TempDir(), "", "links", "qr", made.Code, "--out", file, "--server", s.adminURL, "--key", s.admin)
	require.Zero(t, code, errs)
	p := openPage(t, s)
	p.do(chromedp.EmulateViewport(400, 400), chromedp.Navigate(s.adminURL+"/v1/links/"+made.Code+"/qr.svg"))
	drawn, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	require.NoError(t, err)
	assert.Equal(t, made.URL, read(drawn))
	written, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/links/"+made.Code+"/qr.svg", "").body, string(written))
}

// The page Links: a link is made, followed, looked at and disabled, at seven widths and in the dark.
func TestLinksPage(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	for i := range 60 {
		_, err := s.client.CreateLink(t.Context(), client.NewLink{Said: link.Said{Destination: "/" + strings.Repeat("long/", 20), Name: fmt.Sprintf("%d %s", i, strings.Repeat("wide ", 14))}})
		require.NoError(t, err)
	}
	p := openPage(t, s)
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.adminURL+"/links"), visible(".links-table tbody tr"), click(".links-new"), visible(".link-form"))
	p.do(chromedp.SendKeys(chromedp.CSS(".link-form input"), "/en/tickets"), chromedp.SendKeys(chromedp.CSS(".link-form-two input"), "tickets"), click(".ant-modal-footer .ant-btn-primary"))
	p.says(".link-url", "/to/tickets")
	for i := range 3 {
		require.Equal(t, http.StatusFound, s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/to/tickets", "", firefox, fmt.Sprintf("X-Forwarded-For: 198.18.3.%d", i)).status)
	}
	s.call(t, "127.0.0.1", http.MethodHead, s.publicURL+"/to/tickets", "")
	p.do(chromedp.Navigate(s.adminURL + "/links?link=tickets"))
	p.says(".link-legend", "3")
	p.says(".link-left", "1 preview left out")
	for _, path := range []string{"/links", "/links?link=tickets"} {
		p.do(chromedp.Navigate(s.adminURL+path), visible(".linkspage"))
		for _, width := range []int64{1280, 1100, 1024, 900, 768, 701, 390} {
			p.do(chromedp.EmulateViewport(width, 844))
			assert.Equal(t, "true", p.eval("String(document.documentElement.scrollWidth <= innerWidth)"), "%s scrolls sideways at %d", path, width)
		}
	}
	p.do(chromedp.EmulateViewport(1280, 800), click(".link-disable"))
	p.says(".link-stand", "disabled")
	assert.Equal(t, http.StatusGone, s.call(t, "127.0.0.1", http.MethodGet, s.publicURL+"/to/tickets", "").status)
	p.nothingWrong()
}
