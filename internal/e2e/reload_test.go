package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/testkit/db"
)

// change replaces a part of the configuration.
func (s *service) change(t *testing.T, old, new string) {
	t.Helper()
	file := filepath.Join(s.dir, "eastporch.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), old)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), old, new, 1)), 0o600))
}

func (s *service) reload(t *testing.T) answer {
	t.Helper()
	return s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/reload", "")
}

func TestAChangedConfigurationIsTakenUp(t *testing.T) {
	t.Parallel()
	s := start(t, map[string]any{"atlas.activate": "auto"})
	assert.Empty(t, parse[api.Reloaded](t, s.reload(t)).Changed, "nothing has changed yet")
	visit := func(site string) answer {
		return s.post(t, fmt.Sprintf(`{"site":%q,"path":"/","peer":"198.18.3.40","user_agent":"Firefox"}`, site))
	}
	assert.Equal(t, http.StatusUnprocessableEntity, visit("boathouse.example").status)
	address := func(from string) string {
		return s.call(t, from, http.MethodGet, s.publicURL+"/v1/visitor/address", "", "X-Forwarded-For: 198.18.3.40").body
	}
	assert.Equal(t, "127.0.0.9\n", address("127.0.0.9"), "who is not trusted")
	country := func(of string) any {
		return s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/addresses/"+of, "").at(t, "location.country_code")
	}
	assert.Nil(t, country("192.0.2.7"))

	more := filepath.Join(s.dir, "more.csv")
	require.NoError(t, os.WriteFile(more, []byte("range,country_code\n192.0.2.0/24,NZ\n"), 0o600))
	s.change(t, "sites:\n", "sites:\n  - host: boathouse.example\n    privacy: whole\n")
	s.change(t, "  trusted: [", "  trusted: [127.0.0.9/32, ")
	s.change(t, "  sources:\n", "  sources:\n    - { name: more, file: more.csv, format: csv, rank: 9 }\n")
	s.change(t, "policy:\n", "policy:\n  - { prefix: 192.0.2.0/24, action: resolve }\n")
	got := parse[api.Reloaded](t, s.reload(t))
	assert.ElementsMatch(t, []string{"sites", "proxies", "atlas", "policy"}, got.Changed)
	assert.Empty(t, got.Restart)
	assert.True(t, got.Building)
	assert.Equal(t, http.StatusCreated, visit("boathouse.example").status)
	assert.Equal(t, "198.18.3.40\n", address("127.0.0.9"))
	require.Eventually(t, func() bool { return country("192.0.2.7") == "NZ" }, time.Minute, 50*time.Millisecond, "the new source is in an edition in use")

	// What is wrong leaves all as it is, also what stands beside it and is right.
	s.change(t, "host: boathouse.example", "host: jetty.example")
	s.change(t, "action: resolve", "action: resolv")
	bad := s.reload(t)
	assert.Equal(t, []any{http.StatusUnprocessableEntity, "/problems/unusable-configuration"}, []any{bad.status, bad.at(t, "type")})
	assert.Contains(t, bad.said(t), "policy.0.action")
	assert.Equal(t, http.StatusUnprocessableEntity, visit("jetty.example").status)
	assert.Equal(t, http.StatusCreated, visit("boathouse.example").status)
	s.change(t, "action: resolv ", "action: resolve ")

	// What cannot be taken up is listed.
	s.change(t, "sites:\n", "retention_days: 30\nsites:\n")
	done := runCLI(t, s, "reload")
	assert.Equal(t, "In use now: sites.\nAfter a restart only: retention_days.\n", done.out, done.err)
	assert.Equal(t, http.StatusCreated, visit("jetty.example").status)
	events := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/audit-log", "")
	assert.Equal(t, "configuration changed", events.at(t, "events.0.what"))
}

// However often it is reloaded, no request is dropped, and each is answered by one configuration.
func TestNoRequestIsDroppedWhileItReloads(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	key := s.keys(t)["server"]
	var stop atomic.Bool
	var asked atomic.Int64
	var askers sync.WaitGroup
	for range 4 {
		askers.Go(func() {
			for !stop.Load() {
				req := httptest.NewRequest(http.MethodGet, s.publicURL+"/v1/visitor?fields=address.text,labels", nil)
				req.RequestURI = ""
				req.Header.Set("Authorization", "Bearer "+key)
				req.Header.Set("X-Forwarded-For", "198.18.3.40")
				res, err := http.DefaultClient.Do(req)
				if !assert.NoError(t, err) {
					return
				}
				assert.Equal(t, http.StatusOK, res.StatusCode)
				_ = res.Body.Close()
				asked.Add(1)
			}
		})
	}
	names := []string{"host: boathouse.example", "host: jetty.example"}
	s.change(t, "sites:\n", "sites:\n  - "+names[0]+"\n")
	for i := range 60 {
		require.Equal(t, http.StatusOK, s.reload(t).status)
		s.change(t, names[i%2], names[(i+1)%2])
	}
	stop.Store(true)
	askers.Wait()
	t.Logf("%d requests while it was reloaded 60 times, none dropped", asked.Load())
	assert.Positive(t, asked.Load())
}

func TestAHangUpReloads(t *testing.T) {
	t.Parallel()
	p := newProcess(t, db.New(t))
	p.start()
	file := p.args[2]
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "sites:\n", "sites:\n  - host: boathouse.example\n", 1)), 0o600))
	sites := func() string {
		code, out, _ := run(t, "", "--server", p.adminURL, "--key", p.key, "visits", "list", "--site", "boathouse.example")
		return fmt.Sprint(code, out)
	}
	assert.NotContains(t, sites(), "No visits yet.")
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(sites(), "No visits yet.") }, time.Minute, 50*time.Millisecond)
	require.NoError(t, p.stop())
}
