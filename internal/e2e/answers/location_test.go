package answers

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/snippet"
	"eastporch/internal/testkit/live"
)

// The blocks that init hands out, each in a site that was there before: its pages reach the
// service under /porch/, and all else stays the site's own.
func TestThePartOfASiteThatReachesTheService(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"proxies.trusted": []any{"127.0.0.1/32", "::1/128"}})
	key := s.Keys(t)["page"]
	for proxy, site := range map[string]func(t *testing.T, port, application, block string){
		"nginx": live.NginxSite, "haproxy": live.HAProxySite,
		"apache": func(t *testing.T, port, application, block string) {
			live.StartApache(t, port, fmt.Sprintf("<VirtualHost *:%s>\n%s\nProxyPass / http://127.0.0.1:%s/\n</VirtualHost>\n", port, block, application))
		},
	} {
		t.Run(proxy, func(t *testing.T) {
			application, port := live.FreePort(t), live.FreePort(t)
			live.Applications["CGI"](t, application)
			block, ok := snippet.Location(proxy, s.PublicURL)
			require.True(t, ok)
			site(t, port, application, block)
			ask := func(path string, header ...string) live.Answer {
				return s.Call(t, "127.0.0.1", http.MethodGet, "http://127.0.0.1:"+port+path, "", append(header, "Authorization: Bearer "+key, "Host: heronlake.example")...)
			}
			assert.Equal(t, "198.18.3.40\n", ask("/porch/v1/visitor/address", "X-Forwarded-For: 198.18.3.40").Body)
			assert.Equal(t, "Lisbon\n", ask("/porch/v1/visitor?fields=location.city&format=text", "X-Forwarded-For: 192.0.2.1, 198.18.3.40").Body, "with its query, and the nearest that no proxy of ours is")
			assert.Contains(t, ask("/porch/porch.js").Body, "East Porch for pages")
			missing := ask("/to/none")
			assert.Equal(t, http.StatusNotFound, missing.Status)
			assert.Contains(t, missing.Body, "There is no such link.", "links are followed under /to/")
			assert.Contains(t, ask("/").Body, "HTTP_HOST", "the site's own page")
			assert.NotEqual(t, http.StatusOK, ask("/porchy").Status, "which is the site's own, and not there")
		})
	}
	_, ok := snippet.Location("none", s.PublicURL)
	assert.False(t, ok)
}
