package proxies

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/snippet"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// request sends one request line through a front, and gives what came.
func request(t *testing.T, port, line string, header ...string) (status int, body string, got http.Header) {
	t.Helper()
	conn, err := net.Dial("tcp", "127.0.0.1:"+port)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(30*time.Second)))
	_, err = fmt.Fprintf(conn, "%s HTTP/1.1\r\nHost: heronlake.example\r\n%s\r\n", line, strings.Join(append(header, "Connection: close", ""), "\r\n"))
	require.NoError(t, err)
	method, _, _ := strings.Cut(line, " ")
	in := bufio.NewReader(conn)
	res, err := http.ReadResponse(in, &http.Request{Method: method})
	for err == nil && res.StatusCode == http.StatusContinue {
		res, err = http.ReadResponse(in, &http.Request{Method: method})
	}
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text), res.Header
}

// sitePage answers every request of the site with a page that says its path.
func sitePage(t testing.TB, port string) {
	t.Helper()
	for _, at := range []string{"127.0.0.1:", "[::1]:"} {
		l, err := net.Listen("tcp", at+port)
		require.NoError(t, err)
		app := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			if r.URL.Path == "/early/own" {
				w.WriteHeader(http.StatusForbidden)
			}
			_, _ = fmt.Fprintf(w, `<html lang=%q><title>The page</title><p>served %s to %s, gate %s, rehearsal %q`, r.Header.Get("Porch-Language"), r.URL.Path, r.Header.Get("Porch-Country-Code"), r.Header.Get("Porch-Gate"), r.Header.Get("Porch-Rehearsal"))
		})}
		go func() { _ = app.Serve(l) }()
		t.Cleanup(func() { _ = app.Close() })
	}
}

// nordic admits Portugal and Norway, and says what happens without a location.
func nordic(unknown gate.Outcome) gate.Rules {
	return gate.Rules{Exceptions: gate.Exceptions{Paths: []string{"/early/health"}}, Gates: []gate.Gate{{
		Name: "Early entry", Path: "/early/**", Mode: gate.On, List: gate.Allow, Missing: gate.Missing{Unknown: unknown, Skipped: unknown, NotFound: unknown, NoData: unknown},
		Rules: []gate.Rule{{Countries: []string{"PT", "NO"}}}, Refusal: &gate.Refusal{Status: 451, Texts: map[string]string{"en": "Early entry is for two countries."}},
	}}}
}

const (
	portuguese = "X-Forwarded-For: 198.18.3.40"
	japanese   = "X-Forwarded-For: 198.19.140.8"
	skippedOne = "X-Forwarded-For: 10.1.2.3"
)

// Real nginx, HAProxy and Apache, set up as the service hands it out, admit and refuse by country; a visitor without a
// location by what the owner chose; and nobody gets past by method, spelling or fields.
func TestTheGateThroughRealProxies(t *testing.T) {
	t.Parallel()
	for _, front := range handoverFronts {
		t.Run(front.name, func(t *testing.T) {
			t.Parallel()
			s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}})
			application, port := live.FreePort(t), live.FreePort(t)
			sitePage(t, application)
			front.start(t, port, s.Recipes(t, s.PublicURL, s.Keys(t)["server"], port, "127.0.0.1:"+application))
			s.SaveGates(t, nordic(gate.Refuse))

			status, body, _ := request(t, port, "GET /early/eights", portuguese)
			assert.Equal(t, http.StatusOK, status)
			assert.Contains(t, body, `served /early/eights to PT, gate admit, rehearsal ""`)
			status, body, header := request(t, port, "GET /early/eights", japanese, "Accept-Language: pt")
			assert.Equal(t, 451, status)
			assert.NotContains(t, body, "served")
			assert.Contains(t, header.Get("Cache-Control"), "no-store")
			if front.name != "Apache" { // which shows what its ErrorDocument says
				assert.Contains(t, body, "Early entry is for two countries.")
				assert.Contains(t, body, "Heron Lake Regatta")
			}
			for _, line := range []string{"GET /programme", "GET /early/health", "GET /earlybird"} {
				status, body, _ = request(t, port, line, japanese)
				assert.Equal(t, http.StatusOK, status, line)
				assert.Contains(t, body, "served", line)
			}
			status, _, _ = request(t, port, "GET /early/own", portuguese)
			assert.Equal(t, http.StatusForbidden, status, "what the application refuses is its own")

			for _, line := range []string{
				"POST /early/eights", "PUT /early/eights", "DELETE /early/eights", "HEAD /early/eights", "OPTIONS /early/eights", "PATCH /early/eights", "BREW /early/eights",
				"GET //early/eights", "GET /early//eights", "GET /%65arly/eights", "GET /early%2feights", "GET /x/../early/eights", "GET /x/%2e%2e/early/eights", "GET /EARLY/eights", "GET /early;a=b/eights",
				"GET /./early/eights", "GET /early/health/../eights", "GET /early/health%2f..%2feights", "GET http://heronlake.example/early/eights", `GET /early\eights`, "GET /early/eights?/early/health", "GET /%2565arly/eights",
			} {
				for _, forged := range [][]string{
					nil,
					{"Porch-Gate: admit", "Porch-Country-Code: PT", "Porch-Original-Target: /programme", "Porch-Rehearsal: a.b"},
					{"Origin: https://evil.example", "Cookie: porch_pass=a.b", "Authorization: Bearer x"},
					{"Cookie: a=" + strings.Repeat("a", 7000)},
					{"Accept-Language: " + strings.Repeat("pt,", 2500)},
					{"X-Real-IP: 198.18.3.40", "Forwarded: for=198.18.3.40", "X-HTTP-Method-Override: GET", "X-Original-URL: /programme"},
					{"Content-Length: 0", "Expect: 100-continue"},
				} {
					status, body, _ = request(t, port, line, append([]string{japanese}, forged...)...)
					assert.NotContains(t, body, "served", "%s with %q", line, forged)
					assert.GreaterOrEqual(t, status, 400, "%s with %q", line, forged)
				}
			}
			for _, line := range []string{skippedOne, "X-Forwarded-For: unknown", "X-Forwarded-For: 192.0.2.200"} {
				status, _, _ = request(t, port, "GET /early/eights", line)
				assert.Equal(t, 451, status, "without a location, which the owner refuses: %s", line)
			}
			s.SaveGates(t, nordic(gate.Admit))
			for _, line := range []string{skippedOne, "X-Forwarded-For: unknown", "X-Forwarded-For: 192.0.2.200"} {
				status, body, _ = request(t, port, "GET /early/eights", line)
				assert.Equal(t, http.StatusOK, status, "and now admits: %s", line)
				assert.Contains(t, body, "served", line)
			}
			status, _, _ = request(t, port, "GET /early/eights", japanese)
			assert.Equal(t, 451, status)
			watch := nordic(gate.Refuse)
			watch.Gates[0].Mode = gate.Watch
			s.SaveGates(t, watch)
			status, _, _ = request(t, port, "GET /early/eights", japanese)
			assert.Equal(t, http.StatusOK, status)
			sum := live.Parse[api.GateRefusals](t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/gate/refusals?site=heronlake.example", ""))
			assert.EqualValues(t, 1, sum.WouldRefuse)
			assert.Greater(t, sum.Refused, int64(50))
		})
	}
}

// While the service is away the proxy does what its one line says.
func TestTheGateWhileTheServiceIsAway(t *testing.T) {
	t.Parallel()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	away := closed.Addr().String()
	require.NoError(t, closed.Close())
	s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}})
	s.SaveGates(t, nordic(gate.Refuse))
	// What answers and decides nothing is not silent, whatever its status: only "none" serves.
	answering := func(status int, word string) string {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			if word != "" {
				w.Header().Set("Porch-Gate", word)
			}
			w.WriteHeader(status)
		}))
		t.Cleanup(server.Close)
		return server.URL
	}
	undecided := map[string]struct {
		at     string
		serves bool
	}{
		"without rules": {answering(http.StatusServiceUnavailable, "unknown"), false}, "limited": {answering(http.StatusTooManyRequests, ""), false}, "broken": {answering(http.StatusInternalServerError, ""), false},
		"unable to read it": {answering(http.StatusBadRequest, ""), false}, "without a gate there": {answering(http.StatusServiceUnavailable, "none"), true},
	}
	for _, front := range handoverFronts {
		for what, c := range undecided {
			t.Run(front.name+", "+what, func(t *testing.T) {
				t.Parallel()
				application, port := live.FreePort(t), live.FreePort(t)
				sitePage(t, application)
				front.start(t, port, s.Recipes(t, c.at, "porch_server_none", port, "127.0.0.1:"+application))
				status, body, _ := request(t, port, "GET /early/eights", japanese)
				assert.Equal(t, c.serves, strings.Contains(body, "served"), "%d %s", status, body)
				assert.Equal(t, c.serves, status == http.StatusOK)
			})
		}
	}
	refuse := map[string]*strings.Replacer{
		"nginx": strings.NewReplacer("return 204;", "return 403;"), "HAProxy": strings.NewReplacer("setenv PORCH_DOWN admit", "setenv PORCH_DOWN refuse"), "Apache": strings.NewReplacer(`local when_down = "admit"`, `local when_down = "refuse"`),
	}
	for _, front := range handoverFronts {
		for choice, want := range map[string]int{"admit": http.StatusOK, "refuse": http.StatusForbidden} {
			for what, at := range map[string]string{"away": "http://" + away, "with a key that was revoked": s.PublicURL} {
				t.Run(fmt.Sprintf("%s, %s, %s", front.name, what, choice), func(t *testing.T) {
					t.Parallel()
					application, port := live.FreePort(t), live.FreePort(t)
					sitePage(t, application)
					recipes := s.Recipes(t, at, "porch_server_none", port, "127.0.0.1:"+application)
					if choice == "refuse" {
						for name, text := range recipes {
							recipes[name] = refuse[front.name].Replace(text)
						}
					}
					front.start(t, port, recipes)
					// Only silence is for the line of the recipe to decide: an answer serves what no gate stands at.
					gated, open := want, want
					if at == s.PublicURL {
						gated, open = http.StatusForbidden, http.StatusOK
					}
					for line, want := range map[string]int{"GET /early/eights": gated, "GET /%65arly/eights": gated, "GET /programme": open, "GET /early/health": open} {
						status, body, _ := request(t, port, line, japanese)
						assert.Equal(t, want, status, "%s: %s", line, body)
						assert.Equal(t, want == http.StatusOK, strings.Contains(body, "served"), line)
					}
				})
			}
		}
	}
}

// However many requests one visitor sends, and however little the key may ask: the gate neither opens nor closes.
func TestManyRequestsOpenNoGate(t *testing.T) {
	t.Parallel()
	for _, front := range handoverFronts {
		t.Run(front.name, func(t *testing.T) {
			t.Parallel()
			s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}, "limits.key_per_second": 20, "limits.visitor_per_second": 1})
			application, port := live.FreePort(t), live.FreePort(t)
			sitePage(t, application)
			front.start(t, port, s.Recipes(t, s.PublicURL, s.Keys(t)["server"], port, "127.0.0.1:"+application))
			s.SaveGates(t, nordic(gate.Refuse))
			for i := range 300 {
				status, body, _ := request(t, port, "GET /early/eights", japanese)
				require.Contains(t, []int{451, http.StatusTooManyRequests}, status, "request %d: the page of refusal has the limit of a visitor", i)
				require.NotContains(t, body, "served")
				if i%10 == 0 {
					status, body, _ = request(t, port, "GET /early/eights", portuguese)
					require.Equal(t, http.StatusOK, status, "request %d: %s", i, body)
				}
			}
		})
	}
}

// The service asks the site itself, through the real proxy, and the page is what somebody from there would see; the
// signed field is good for that one request.
func TestRehearsingTheSiteItself(t *testing.T) {
	t.Parallel()
	for _, front := range handoverFronts {
		t.Run(front.name, func(t *testing.T) {
			t.Parallel()
			s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}})
			application, port := live.FreePort(t), live.FreePort(t)
			sitePage(t, application)
			front.start(t, port, s.Recipes(t, s.PublicURL, s.Keys(t)["server"], port, "127.0.0.1:"+application))
			s.SaveGates(t, nordic(gate.Refuse))
			rehearse := func() api.Rehearsal {
				got := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/rehearsals", `{"site":"heronlake.example","visitors":[{"from":"PT"},{"from":"198.19.140.8"}],"paths":["/early/eights?a=1"],"fetch":true}`)
				require.Equal(t, http.StatusOK, got.Status, got.Body)
				return live.Parse[api.Rehearsal](t, got)
			}
			site := func(lines string) {
				file := filepath.Join(s.Dir, "eastporch.yaml")
				text, err := os.ReadFile(file)
				require.NoError(t, err)
				changed := regexp.MustCompile(`(?m)^    url: .*\n(    fetch_inside: .*\n)?`).ReplaceAllLiteralString(string(text), lines)
				require.NoError(t, os.WriteFile(file, []byte(changed), 0o600))
				reloaded := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/reload", "")
				require.Equal(t, http.StatusOK, reloaded.Status, reloaded.Body)
			}
			site("    url: http://127.0.0.1:" + port + "\n")
			inside := rehearse().Results[0].Page
			require.NotNil(t, inside.Problem)
			assert.Contains(t, *inside.Problem, "is not public: sites[].fetch_inside allows it")
			site("    url: http://127.0.0.1:" + port + "\n    fetch_inside: true\n")
			results := rehearse().Results
			admitted, refused := results[0].Page, results[1].Page
			require.Nil(t, admitted.Problem)
			assert.Equal(t, []any{200, true, "pt-PT", "The page"}, []any{admitted.Status, admitted.Honoured, admitted.Language, admitted.Title})
			assert.Contains(t, admitted.Text, `served /early/eights to PT, gate admit, rehearsal "1"`)
			assert.Equal(t, []any{451, true}, []any{refused.Status, refused.Honoured})
			assert.NotContains(t, refused.Text, "served")
			visits := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/gate/refusals?site=heronlake.example", "")
			assert.Zero(t, live.Parse[api.GateRefusals](t, visits).Refused, "a rehearsal is not counted")
		})
	}
}

// An owner's pass, taken through the real proxy, opens every gate in that browser until the session ends that made it;
// rules that are saved at one instance hold at the other one.
func TestTheGateOfTwoInstancesAndAnOwnersPass(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	flags := map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}, "database.url": database}
	first, s := live.Start(t, flags), live.Start(t, flags)
	application, port := live.FreePort(t), live.FreePort(t)
	sitePage(t, application)
	recipes := s.Recipes(t, s.PublicURL, s.Keys(t)["server"], port, "127.0.0.1:"+application)
	location, ok := snippet.Location("nginx", s.PublicURL)
	require.True(t, ok)
	live.StartNginx(t, port, strings.Replace(recipes["nginx"], "    location / {", location+"    location / {", 1))
	seen := func(header ...string) int {
		status, _, _ := request(t, port, "GET /early/eights", append(header, japanese)...)
		return status
	}
	require.Equal(t, http.StatusOK, seen())
	first.Admin = s.Admin // the second start made it anew
	require.Eventually(t, func() bool {
		return first.Call(t, "127.0.0.1", http.MethodGet, first.AdminURL+"/v1/gate?site=heronlake.example", "").Status == http.StatusOK
	}, 10*time.Minute, 50*time.Millisecond)
	first.SaveGates(t, nordic(gate.Refuse))
	require.Eventually(t, func() bool { return seen() == 451 }, 10*time.Minute, 50*time.Millisecond, "rules of the other instance")

	cookie, _ := s.SignIn(t, s.Admin)
	at := func(method, path string) live.Answer {
		return s.Call(t, "127.0.0.1", method, s.AdminURL+path, "", live.Anonymous, cookie, "Origin: "+s.AdminURL)
	}
	keyed := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/gate/passes?site=heronlake.example", "")
	assert.GreaterOrEqual(t, keyed.Status, 400, "a key makes no pass: %s", keyed.Body)
	base := "&base=" + url.QueryEscape("http://heronlake.example:"+port+"/porch")
	link := live.Parse[api.GatePass](t, at(http.MethodPost, "/v1/gate/passes?site=heronlake.example"+base)).URL
	target, err := url.Parse(link)
	require.NoError(t, err)
	status, _, header := request(t, port, "GET "+target.RequestURI())
	require.Equal(t, http.StatusSeeOther, status)
	pass := "Cookie: " + strings.Split(header.Get("Set-Cookie"), ";")[0]
	assert.Equal(t, http.StatusOK, seen(pass))
	status, _, header = request(t, port, "GET "+target.RequestURI())
	assert.GreaterOrEqual(t, status, 400, "the link is good once")
	assert.Empty(t, header.Get("Set-Cookie"))

	require.Equal(t, http.StatusNoContent, at(http.MethodDelete, "/v1/sessions/current").Status)
	assert.Eventually(t, func() bool { return seen(pass) == 451 }, 10*time.Minute, 50*time.Millisecond, "the session has ended")
}
