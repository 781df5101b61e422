package proxies

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/client"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/link"
	"eastporch/internal/core/snippet"
	"eastporch/internal/testkit/live"
)

// A link that is followed through real nginx and HAProxy, set up as the service hands it out, from four places:
// its statistics say so by API, command and page; what is left out is said, and a local address has the
// owner's word for its place.
func TestALinkThroughRealProxies(t *testing.T) {
	t.Parallel()
	for proxy, front := range map[string]func(*testing.T, string, string, string){"nginx": live.NginxSite, "haproxy": live.HAProxySite} {
		t.Run(proxy, func(t *testing.T) {
			t.Parallel()
			s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32", "::1/128"}, "not_found_placeholder": "somewhere"})
			s.Change(t, "policy:\n", "policy:\n  - { prefix: 10.0.0.0/8, action: skip, placeholder: club-house }\n")
			require.Equal(t, http.StatusOK, s.Reload(t).Status)
			application, port := live.FreePort(t), live.FreePort(t)
			sitePage(t, application)
			block, ok := snippet.Location(proxy, s.PublicURL)
			require.True(t, ok)
			front(t, port, application, block)
			made, err := s.Client.CreateLink(t.Context(), client.NewLink{Code: "tickets", Said: link.Said{
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
			follow(get, "/pt/bilhetes", live.Firefox, "X-Forwarded-For: 198.18.3.40", "Referer: https://rowing-news.example/x")
			follow(get, "/fr/billets", live.Firefox, "X-Forwarded-For: 198.18.24.7", "Accept-Language: fr-FR")
			follow(get, "/en/tickets", live.Firefox, "X-Forwarded-For: 198.19.140.8", "Accept-Language: ja")
			follow(get, "/en/tickets", live.Firefox, "X-Forwarded-For: 2001:db8:5e1:40::1f")
			follow(get, "/en/tickets", live.Firefox, "X-Forwarded-For: 10.1.2.3")                            // local
			follow(get, "/en/tickets", live.Firefox, "X-Forwarded-For: unreadable")                          // nobody
			follow(get, "/pt/bilhetes", live.Firefox, "X-Forwarded-For: 192.0.2.200, 198.18.3.99", "DNT: 1") // a list, of which the nearest counts
			follow("HEAD /to/tickets", "/pt/bilhetes", live.Firefox, "X-Forwarded-For: 198.18.3.41")
			follow(get, "/pt/bilhetes", live.Firefox, "X-Forwarded-For: 198.18.3.42", "Sec-Purpose: prefetch")
			follow(get, "/pt/bilhetes", "User-Agent: LinkExpanding/1", "X-Forwarded-For: 198.18.3.43")
			follow(get, "/pt/bilhetes", "User-Agent: HeronCrawler/0.4", "X-Forwarded-For: 198.18.3.44")
			follow(get, "/pt/bilhetes", live.Firefox, "X-Forwarded-For: 198.18.3.40") // again
			status, body, _ := request(t, port, "GET /to/ticket", live.Firefox, "Accept-Language: pt")
			assert.Equal(t, http.StatusNotFound, status)
			assert.Contains(t, body, "Este link não existe.")

			report, err := s.Client.Clicks(t.Context(), "tickets", url.Values{"days": {"2"}})
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

			code, out, errs := live.RunIn(t, t.TempDir(), "", "links", "show", "tickets", "--server", s.AdminURL, "--key", s.Admin, "--days", "2")
			require.Zero(t, code, errs)
			for _, says := range []string{"7 clicks by 6 visitors", "Lisbon", "club-house", "Left out: 1 bot, 3 previews, 1 repeat.", "/fr/billets"} {
				assert.Contains(t, out, says)
			}
			_, err = s.Client.Links(t.Context(), url.Values{"site": {"heronlake.example"}})
			require.NoError(t, err)
			assert.Eventually(t, func() bool {
				page, err := s.Client.Links(t.Context(), url.Values{"site": {"heronlake.example"}})
				return err == nil && len(page.Asked) == 1 && page.Asked[0].Code == "ticket" && page.Links[0].Clicks == 7
			}, 10*time.Minute, 50*time.Millisecond)
			differs := live.Parse[api.Verified](t, s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits/verify", `{"site":"heronlake.example"}`))
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

// A link leads nobody past the gate of its destination, however the owner wrote the address.
func TestALinkAsksTheGateOfItsDestination(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}, "public.hosts": []any{"heronlake.example", "127.0.0.1"}})
	s.SaveGates(t, nordic(gate.Refuse))
	for i, destination := range []string{"/early/eights", "https://heronlake.example/early/eights", "https://HeronLake.example/early/eights", "http://heronlake.example:8443/early/eights", "https://heronlake.example//early/eights"} {
		code := fmt.Sprintf("early-%d", i)
		_, err := s.Client.CreateLink(t.Context(), client.NewLink{Code: code, Said: link.Said{Destination: destination}})
		require.NoError(t, err, destination)
		for visitor, want := range map[string]int{portuguese: http.StatusFound, japanese: 451} {
			got := s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/to/"+code, "", visitor, live.Anonymous)
			assert.Equal(t, want, got.Status, "%s for %s", destination, visitor)
		}
	}
	_, err := s.Client.CreateLink(t.Context(), client.NewLink{Code: "open", Said: link.Said{Destination: "https://heronlake.example"}})
	require.NoError(t, err)
	got := s.Call(t, "127.0.0.1", http.MethodGet, s.PublicURL+"/to/open", "", japanese, live.Anonymous)
	assert.Equal(t, http.StatusFound, got.Status, "no gate stands before the front page")
}
