package answers

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/gate"
	"eastporch/internal/server/access"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

func TestAChangedConfigurationIsTakenUp(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"atlas.activate": "auto"})
	assert.Empty(t, live.Parse[api.Reloaded](t, s.Reload(t)).Changed, "nothing has changed yet")
	visit := func(site string) live.Answer {
		return s.Post(t, fmt.Sprintf(`{"site":%q,"path":"/","peer":"198.18.3.40","user_agent":"Firefox"}`, site))
	}
	assert.Equal(t, http.StatusUnprocessableEntity, visit("boathouse.example").Status)
	address := func(from string) string {
		return s.Call(t, from, http.MethodGet, s.PublicURL+"/v1/visitor/address", "", "X-Forwarded-For: 198.18.3.40").Body
	}
	assert.Equal(t, "127.0.0.9\n", address("127.0.0.9"), "who is not trusted")
	country := func(of string) any {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/addresses/"+of, "").At(t, "location.country_code")
	}
	assert.Nil(t, country("192.0.2.7"))

	more := filepath.Join(s.Dir, "more.csv")
	require.NoError(t, os.WriteFile(more, []byte("range,country_code\n192.0.2.0/24,NZ\n"), 0o600))
	s.Change(t, "sites:\n", "sites:\n  - host: boathouse.example\n    privacy: whole\n")
	s.Change(t, "  trusted: [", "  trusted: [127.0.0.9/32, ")
	s.Change(t, "  sources:\n", "  sources:\n    - { name: more, file: more.csv, format: csv, rank: 9 }\n")
	s.Change(t, "policy:\n", "policy:\n  - { prefix: 192.0.2.0/24, action: resolve }\n")
	got := live.Parse[api.Reloaded](t, s.Reload(t))
	assert.ElementsMatch(t, []string{"sites", "proxies", "atlas", "policy"}, got.Changed)
	assert.Empty(t, got.Restart)
	assert.True(t, got.Building)
	assert.Equal(t, http.StatusCreated, visit("boathouse.example").Status)
	assert.Equal(t, "198.18.3.40\n", address("127.0.0.9"))
	require.Eventually(t, func() bool { return country("192.0.2.7") == "NZ" }, 10*time.Minute, 50*time.Millisecond, "the new source is in an edition in use")

	// What is wrong leaves all as it is, also what stands beside it and is right.
	s.Change(t, "host: boathouse.example", "host: jetty.example")
	s.Change(t, "action: resolve", "action: resolv")
	bad := s.Reload(t)
	assert.Equal(t, []any{http.StatusUnprocessableEntity, "/problems/unusable-configuration"}, []any{bad.Status, bad.At(t, "type")})
	assert.Contains(t, bad.Said(t), "policy.0.action")
	assert.Equal(t, http.StatusUnprocessableEntity, visit("jetty.example").Status)
	assert.Equal(t, http.StatusCreated, visit("boathouse.example").Status)
	s.Change(t, "action: resolv ", "action: resolve ")

	// What cannot be taken up is listed.
	s.Change(t, "sites:\n", "retention_days: 30\nsites:\n")
	done := live.RunCLI(t, s, "reload", "--force")
	assert.Equal(t, "In use now: sites.\nAfter a restart only: retention_days.\n", done.Out, done.Err)
	assert.Equal(t, http.StatusCreated, visit("jetty.example").Status)
	events := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/audit-log", "")
	assert.Equal(t, "configuration changed", events.At(t, "events.0.what"))
}

// A configuration that was cut short, or is no file, is not taken for one that trusts nobody and has no site.
func TestACutConfigurationIsNotTakenUp(t *testing.T) {
	t.Parallel()
	p := live.NewProcess(t, db.New(t))
	p.Start()
	file := p.Args[2]
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	asks := func() (sites, address string) {
		_, sites, _ = live.Run(t, "", "--server", p.AdminURL, "--key", p.Key, "visits", "list", "--site", "heronlake.example")
		_, _, address = p.Call(http.MethodGet, "/v1/visitor/address", "", "X-Forwarded-For: 198.18.3.40")
		return sites, address
	}
	sites, address := asks()
	require.Equal(t, "198.18.3.40\n", address)
	reload := func(more ...string) (int, string) {
		code, out, errs := live.Run(t, "", append([]string{"--server", p.AdminURL, "--key", p.Key, "reload"}, more...)...)
		return code, out + errs
	}
	cut := regexp.MustCompile(`(?m)^  trusted: .*\n`).ReplaceAllString(string(whole), "")
	for text, says := range map[string]string{"": "sites: none is named", "# all is commented out\n": "sites: none is named", "sites: []\n": "sites: none is named", cut: "The proxy 203.0.113.0/28, the proxy 127.0.0.1/32, the proxy ::1/128 would be dropped."} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		code, said := reload()
		assert.Equal(t, 1, code, "%q", text)
		assert.Contains(t, said, says)
		require.NoError(t, p.Cmd.Process.Signal(syscall.SIGHUP))
		_, now := asks()
		assert.Equal(t, address, now)
	}
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(whole), "host: heronlake.example", "host: heronlake.exampel", 1)), 0o600))
	code, said := reload()
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "The site heronlake.example would be dropped.")
	assert.Contains(t, said, "--force")
	require.NoError(t, os.Remove(file))
	require.NoError(t, syscall.Mkfifo(file, 0o600))
	_, said = reload()
	assert.Contains(t, said, "is a named pipe, not a file")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o700))
	_, said = reload()
	assert.Contains(t, said, "is a directory, not a file")
	same, now := asks()
	assert.Equal(t, []string{sites, address}, []string{same, now})
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.WriteFile(file, []byte(cut), 0o600))
	code, said = reload("--force")
	assert.Zero(t, code, said)
	_, now = asks()
	assert.Equal(t, "127.0.0.1\n", now)
	require.NoError(t, p.Stop())
}

// A key that eastporch init made while the service ran is in force after a reload.
func TestAReloadTakesWaitingKeysOver(t *testing.T) {
	t.Parallel()
	p := live.NewProcess(t, db.New(t))
	p.Start()
	secret, err := access.Wait(p.Args[4], access.Key{Name: "pages of another site", Scope: access.Server, Sites: []string{"heronlake.example"}}, time.Now())
	require.NoError(t, err)
	ask := func() int {
		status, _, _ := p.Call(http.MethodGet, "/v1/visitor/address", "", "Authorization: Bearer "+secret)
		return status
	}
	assert.Equal(t, http.StatusUnauthorized, ask())
	code, _, errs := live.Run(t, "", "--server", p.AdminURL, "--key", p.Key, "reload")
	require.Zero(t, code, errs)
	assert.Equal(t, http.StatusOK, ask())
	require.NoError(t, p.Stop())
}

// A configuration whose sources are not there, or lack a column that is named, is not called usable.
func TestSourcesThatAreNotThereAreSaid(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	file := filepath.Join(s.Dir, "eastporch.yaml")
	check := func() string {
		code, out, errs := live.Run(t, "", "serve", "--check", "--config", file)
		return fmt.Sprint(code, " ", out, errs)
	}
	assert.Contains(t, check(), "0 The configuration is usable.")
	for _, c := range [][3]string{
		{"file: lakeside-exchange.csv", "file: lakeside.csv", "(Lakeside Exchange geofeed)"},
		{"city: town,", "city: stadt,", `alder-networks.csv has no column "stadt" for city: its columns are `},
	} {
		s.Change(t, c[0], c[1])
		assert.Contains(t, check(), c[2])
		bad := s.Reload(t)
		assert.Equal(t, http.StatusUnprocessableEntity, bad.Status)
		assert.Contains(t, bad.Said(t), c[2])
		s.Change(t, c[1], c[0])
	}
	assert.Equal(t, http.StatusOK, s.Reload(t).Status)
}

// Range data that is configured and cannot be fetched is told from range data that nobody configured.
func TestRangeDataThatCannotBeFetchedIsSaid(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	file := filepath.Join(s.Dir, "eastporch.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	head, _, _ := strings.Cut(string(text), "  sources:\n")
	away := live.FreeAddress(t)
	nowhere := head + "  fetch_inside: true\n  sources:\n    - { name: open data, url: 'http://" + away + "/ranges.csv', format: csv, rank: 1 }\nareas: [areas.geojson]\n"
	require.NoError(t, os.WriteFile(file, []byte(nowhere), 0o600))
	p := live.NewProcess(t, db.New(t))
	p.Args[2] = file
	p.Start()
	run := func(args ...string) string {
		_, out, errs := live.Run(t, "", append([]string{"--server", p.AdminURL, "--key", p.Key}, args...)...)
		return out + errs
	}
	require.Eventually(t, func() bool { return strings.Contains(run("checkup"), "none could be read") }, 10*time.Minute, 50*time.Millisecond)
	assert.Contains(t, run("checkup"), away)
	assert.Contains(t, run("resolve", "198.18.3.40"), "the range data that is configured could not be read yet")
	assert.Contains(t, run("atlas", "feeds"), "The last build failed")
	require.NoError(t, p.Stop())
}

// However often it is reloaded, no request is dropped, and each is answered by one configuration.
func TestNoRequestIsDroppedWhileItReloads(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	key := s.Keys(t)["server"]
	var stop atomic.Bool
	var asked atomic.Int64
	var askers sync.WaitGroup
	for range 4 {
		askers.Go(func() {
			for !stop.Load() {
				req := httptest.NewRequest(http.MethodGet, s.PublicURL+"/v1/visitor?fields=address.text,labels", nil)
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
	s.Change(t, "sites:\n", "sites:\n  - "+names[0]+"\n")
	for i := range 60 {
		require.Equal(t, http.StatusOK, s.Reload(t).Status)
		s.Change(t, names[i%2], names[(i+1)%2])
	}
	stop.Store(true)
	askers.Wait()
	t.Logf("%d requests while it was reloaded 60 times, none dropped", asked.Load())
	assert.Positive(t, asked.Load())
}

func TestAHangUpReloads(t *testing.T) {
	t.Parallel()
	p := live.NewProcess(t, db.New(t))
	p.Start()
	file := p.Args[2]
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "sites:\n", "sites:\n  - host: boathouse.example\n", 1)), 0o600))
	sites := func() string {
		code, out, _ := live.Run(t, "", "--server", p.AdminURL, "--key", p.Key, "visits", "list", "--site", "boathouse.example")
		return fmt.Sprint(code, out)
	}
	assert.NotContains(t, sites(), "No visits yet.")
	require.NoError(t, p.Cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(sites(), "No visits yet.") }, 10*time.Minute, 50*time.Millisecond)
	require.NoError(t, p.Stop())
}

// Rules and variants that are saved while the service reloads are in force afterwards, whatever fails or succeeds in
// which order.
func TestWhatIsSavedDuringAReloadIsInForce(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	s.Change(t, "sites:\n", "sites:\n  - host: boathouse.example\n")
	admits := func(country string) gate.Rules {
		return gate.Rules{Gates: []gate.Gate{{
			Name: "Early entry", Path: "/early/**", Mode: gate.On, List: gate.Allow, Rules: []gate.Rule{{Countries: []string{country}}},
			Missing: gate.Missing{Unknown: gate.Refuse, Skipped: gate.Refuse, NotFound: gate.Refuse, NoData: gate.Refuse},
		}}}
	}
	decide := func() int {
		return s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/gate/decide?site=heronlake.example", "", "X-Forwarded-For: 198.18.3.40", "Porch-Original-Target: /early/eights").Status
	}
	names := []string{"host: boathouse.example", "host: jetty.example"}
	countries, statuses := []string{"PT", "NO"}, []int{http.StatusNoContent, http.StatusForbidden}
	saves, good := 0, 0
	for round := range 200 {
		fails := round%3 == 2
		if fails {
			s.Change(t, "sites:\n", "retention_days: -1\nsites:\n")
		}
		done := make(chan int)
		go func() { done <- s.Reload(t).Status }()
		status := 0
		for status == 0 {
			s.SaveGates(t, admits(countries[saves%2]))
			saves++
			select {
			case status = <-done:
			default:
			}
		}
		require.Equal(t, statuses[(saves-1)%2], decide(), "round %d: what was saved last, %s, decides", round, countries[(saves-1)%2])
		if fails {
			require.Equal(t, http.StatusUnprocessableEntity, status)
			s.Change(t, "retention_days: -1\nsites:\n", "sites:\n")
		} else {
			require.Equal(t, http.StatusOK, status)
			s.Change(t, names[good%2], names[(good+1)%2])
			good++
		}
	}
	t.Logf("%d saves during 200 reloads", saves)
}
