package faults

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/visit"
	"eastporch/internal/demo"
	"eastporch/internal/server/cluster"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// rounds is how often each fault is caused: a few times in make test, many in
// make soak.
var rounds = flag.Int("rounds", 2, "how often each fault is caused")

const senders = 8

// kill -9 of the service under load, again and again.
func TestFaultTheServiceIsKilled(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	p := live.NewProcess(t, database)
	p.Start()
	l := begin(t, p.Key, func() []string { return []string{p.AdminURL} })
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	for range 2 * *rounds {
		l.pass(t, 1+r.IntN(400))
		p.Kill()
		p.Start()
	}
	l.pass(t, 100)
	l.end()
	live.Settled(t, p.AdminURL, p.Key)
	l.tally(t, database)
}

// stops is how often the service is told to stop: a few times in make test, 200 times in make
// soak.
var stops = flag.Int("stops", 10, "how often the service is told to stop at a random moment")

// SIGTERM at random moments: while it starts, migrates an empty database, has a backlog that it
// cannot store, stores one, builds, exports and streams, under load all the time. It always ends by
// itself within the grace, without an error, and nothing acknowledged is lost.
func TestFaultTheServiceIsStopped(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	p := live.NewProcess(t, database)
	p.Start()
	l := begin(t, p.Key, func() []string { return []string{p.AdminURL} })
	busy, rest := context.WithCancel(t.Context())
	defer rest()
	var others sync.WaitGroup
	for _, ask := range [][2]string{{http.MethodPost, "/v1/atlas/editions"}, {http.MethodGet, "/v1/visits/export?site=heronlake.example&format=parquet"}, {http.MethodGet, "/v1/visits/stream?site=heronlake.example"}} {
		others.Go(func() {
			for busy.Err() == nil {
				req, _ := http.NewRequestWithContext(busy, ask[0], p.AdminURL+ask[1], nil)
				req.Header.Set("Authorization", "Bearer "+p.Key)
				if res, err := http.DefaultClient.Do(req); err == nil {
					_, _ = io.Copy(io.Discard, res.Body)
					_ = res.Body.Close()
				}
			}
		})
	}
	conn, err := pgx.Connect(t.Context(), database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 2))
	// moment waits until the service has worked for a random time, at the most so long.
	moment := func(most time.Duration) { p.HasWorked(p.Worked() + time.Duration(r.Int64N(int64(most)))) }
	kinds := map[string]int{}
	var longest time.Duration
	stop := func(kind string, n int) {
		kinds[kind]++
		told := time.Now()
		if err := p.Stop(); kind != "starting" && kind != "migrating" || !notYet(err) {
			require.NoError(t, err, "stop %d, %s", n, kind)
		}
		took := time.Since(told)
		longest = max(longest, took)
		require.Less(t, took, 10*time.Second, "stop %d, %s", n, kind)
	}
	for n := range *stops {
		switch r.IntN(5) {
		case 0:
			l.pass(t, 1+r.IntN(300))
			stop("under load", n)
		case 1: // nothing is stored while somebody has the turn
			tx, err := conn.Begin(t.Context())
			require.NoError(t, err)
			_, err = tx.Exec(t.Context(), `SELECT pg_advisory_xact_lock(7263001)`)
			require.NoError(t, err)
			l.pass(t, 1+r.IntN(2000))
			if r.IntN(2) == 0 { // it begins to store what waits
				require.NoError(t, tx.Rollback(t.Context()))
				moment(30 * time.Millisecond)
				stop("storing a backlog", n)
			} else {
				stop("with a backlog", n)
				require.NoError(t, tx.Rollback(t.Context()))
			}
		case 2:
			stop("idle", n)
			p.Launch()
			moment(300 * time.Millisecond)
			stop("starting", n)
		case 3:
			stop("idle", n)
			other := *p
			other.Args = append(append([]string{}, p.Args...), "--database-url", db.NewEmpty(t), "--data-dir", t.TempDir(), "--admin-address", live.FreeAddress(t), "--public-address", live.FreeAddress(t))
			p.Cmd, p.Output = nil, nil
			first := other.Launch()
			other.HasWorked(time.Duration(r.Int64N(int64(400 * time.Millisecond))))
			p.Cmd, p.Output = other.Cmd, other.Output
			stop("migrating", n)
			<-first
			if r.IntN(2) == 0 { // what was begun is gone on with
				other.Start()
				require.NoError(t, other.Stop())
			}
		case 4:
			l.pass(t, 1)
			moment(200 * time.Millisecond)
			stop("building and exporting", n)
		}
		p.Start()
	}
	rest()
	others.Wait()
	l.pass(t, 100)
	l.end()
	live.Settled(t, p.AdminURL, p.Key)
	l.tally(t, database)
	t.Logf("stops: %v; the longest took %s", kinds, longest.Round(time.Millisecond))
}

// notYet says that a process ended by the signal itself, which it does in its first
// milliseconds, before anything is begun.
func notYet(err error) bool { return err != nil && err.Error() == "signal: terminated: " }

// The same with a private database, from its very first start on.
func TestFaultAServiceWithAPrivateDatabaseIsStopped(t *testing.T) {
	t.Parallel()
	p := live.NewProcess(t, db.New(t))
	parent, err := os.MkdirTemp("", "eastporch-private-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(parent) })
	require.NoError(t, os.Chmod(parent, 0o755)) // the database may run as another user
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3))
	var longest time.Duration
	starts, data := 0, ""
	// What a start comes by, in its order; the last is never there, so that it comes to listen.
	stages := []string{"", "database/lock", "database/data/PG_VERSION", "database/data/postmaster.pid", "database/port", "spool", "never"}
	for n := range max(4, *stops/4) {
		if n%4 == 0 {
			data = filepath.Join(parent, fmt.Sprint(n))
			p.Args = append(p.Args, "--database-url", "", "--data-dir", data)
		}
		listens := p.Launch()
		reached := filepath.Join(data, stages[r.IntN(len(stages))])
		require.Eventually(t, func() bool {
			_, err := os.Stat(reached)
			return err == nil || len(listens) > 0
		}, 10*time.Minute, time.Millisecond)
		told := time.Now()
		if err := p.Stop(); !notYet(err) {
			require.NoError(t, err, "stop %d", n)
		}
		longest = max(longest, time.Since(told))
		require.Less(t, time.Since(told), 10*time.Second)
		if <-listens {
			starts++
		}
	}
	p.Start()
	require.NoError(t, p.Stop())
	t.Logf("%d of them had come to listen; the longest stop took %s", starts, longest.Round(time.Millisecond))
}

// PostgreSQL stopped for a while, killed, and started again, under load.
func TestFaultTheDatabaseIsStoppedAndKilled(t *testing.T) {
	t.Parallel()
	opt := clusterOptions(t)
	database, err := cluster.Start(t.Context(), opt)
	require.NoError(t, err)
	t.Cleanup(func() {
		if database != nil {
			_ = database.Stop(context.Background())
		}
	})
	s := live.Start(t, map[string]any{"database.url": database.URL(), "limits.key_per_second": 1_000_000})
	l := begin(t, s.Admin, func() []string { return []string{s.AdminURL} })
	for n := range *rounds {
		l.pass(t, 300)
		if n%2 == 0 {
			require.NoError(t, database.Stop(t.Context()))
		} else {
			database.Kill()
		}
		l.pass(t, 500) // which are taken in while there is none
		database, err = cluster.Start(t.Context(), opt)
		require.NoError(t, err)
	}
	l.pass(t, 300)
	l.end()
	live.Settled(t, s.AdminURL, s.Admin)
	l.tally(t, database.URL())
}

// A service whose database is away when it starts: with a copy of what it said last it believes the same keys, decides
// by the same rules, follows the same links and takes visits into the queue; without one it answers 503 to everybody, and
// opens no gate. When the database answers, it goes on by itself, and nothing is lost.
func TestFaultTheDatabaseIsAwayAtTheStart(t *testing.T) {
	t.Parallel()
	opt := clusterOptions(t)
	database, err := cluster.Start(t.Context(), opt)
	require.NoError(t, err)
	t.Cleanup(func() { _ = database.Stop(context.Background()) })
	p := live.NewProcess(t, database.URL())
	decide := func(from string) (int, string) {
		status, header, _ := p.Call(http.MethodGet, "/v1/gate/decide?site=heronlake.example", "", "X-Forwarded-For: "+from, "Porch-Original-Target: /early/eights")
		return status, header.Get("Porch-Gate")
	}
	visits := func(path string) int {
		status, _, _ := p.Call(http.MethodPost, "/v1/visits", `{"site":"heronlake.example","path":"`+path+`","peer":"198.18.3.40","user_agent":"Firefox"}`)
		return status
	}
	// Without a copy: nothing but 503, until the database answers.
	require.NoError(t, database.Stop(t.Context()))
	waits := p.Launch()
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", strings.TrimPrefix(p.AdminURL, "http://"))
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 10*time.Minute, 20*time.Millisecond)
	for _, path := range []string{"/v1/gate/decide?site=heronlake.example", "/v1/handover?site=heronlake.example", "/v1/visitor", "/v1/keys", "/to/tickets", "/readyz", "/"} {
		status, header, body := p.Call(http.MethodGet, path, "")
		assert.Equal(t, http.StatusServiceUnavailable, status, path)
		if strings.HasPrefix(path, "/v1/gate") || strings.HasPrefix(path, "/v1/handover") {
			assert.Equal(t, "unknown", header.Get("Porch-Gate"), path)
		}
		if strings.HasPrefix(path, "/v1") {
			assert.Contains(t, body, "/problems/database-unavailable")
		}
	}
	status, _, _ := p.Call(http.MethodGet, "/livez", "")
	assert.Equal(t, http.StatusOK, status)
	database, err = cluster.Start(t.Context(), opt)
	require.NoError(t, err)
	require.True(t, <-waits, p.Output)

	saved, err := json.Marshal(api.GateSave{Rules: gate.Rules{Gates: []gate.Gate{{
		Name: "Early entry", Path: "/early/**", Mode: gate.On, List: gate.Allow, Rules: []gate.Rule{{Countries: []string{"PT"}}},
		Missing: gate.Missing{Unknown: gate.Refuse, Skipped: gate.Refuse, NotFound: gate.Refuse, NoData: gate.Refuse},
	}}}})
	require.NoError(t, err)
	rules := string(saved)
	status, _, body := p.Call(http.MethodPut, "/v1/gate?site=heronlake.example", rules)
	require.Equal(t, http.StatusOK, status, body)
	status, _, body = p.Call(http.MethodPost, "/v1/links", `{"site":"heronlake.example","code":"tickets","destination":"/tickets"}`)
	require.Equal(t, http.StatusCreated, status, body)
	require.Less(t, visits("/before"), 300)
	require.NoError(t, p.Stop())

	// With a copy.
	require.NoError(t, database.Stop(t.Context()))
	p.Start()
	status, word := decide("198.18.3.40")
	assert.Equal(t, []any{http.StatusNoContent, "admit"}, []any{status, word})
	status, word = decide("198.19.140.8")
	assert.Equal(t, []any{http.StatusForbidden, "refuse"}, []any{status, word})
	status, header, _ := p.Call(http.MethodGet, "/to/tickets", "")
	assert.Equal(t, http.StatusFound, status)
	assert.Contains(t, header.Get("Location"), "/tickets")
	for i := range 20 {
		assert.Less(t, visits(fmt.Sprintf("/while/%d", i)), 300)
	}
	status, _, body = p.Call(http.MethodGet, "/v1/visitor", "", "X-Forwarded-For: 198.18.3.40")
	assert.Equal(t, http.StatusOK, status, body)
	status, _, _ = p.Call(http.MethodGet, "/v1/visitor", "", "Authorization: Bearer porch_admin_nothing")
	assert.Equal(t, http.StatusUnauthorized, status)
	_, _, body = p.Call(http.MethodGet, "/v1/checkup", "")
	assert.Contains(t, body, "The database has not answered since the start.")
	status, _, _ = p.Call(http.MethodPut, "/v1/gate?site=heronlake.example", rules)
	assert.Equal(t, http.StatusServiceUnavailable, status, "nothing can be changed")
	database, err = cluster.Start(t.Context(), opt)
	require.NoError(t, err)
	live.Settled(t, p.AdminURL, p.Key)
	require.Eventually(t, func() bool {
		_, _, body := p.Call(http.MethodGet, "/v1/checkup", "")
		return !strings.Contains(body, "since the start")
	}, 10*time.Minute, 50*time.Millisecond)
	_, _, body = p.Call(http.MethodGet, "/v1/visits?site=heronlake.example&limit=100", "")
	assert.Equal(t, 21, strings.Count(body, `"path":"/while/`)+strings.Count(body, `"path":"/before"`), "each once")
	status, _ = decide("198.19.140.8")
	assert.Equal(t, http.StatusForbidden, status)
	require.NoError(t, p.Stop())
	info, err := os.Stat(filepath.Join(p.Args[4], "keys", "last-known.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(filepath.Join(p.Args[4], "keys", "last-known.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), p.Key, "keys are there as hashes")
}

// clusterOptions are those of a database at a port of its own, with all that
// protects its data, so that it can be stopped and started again.
func clusterOptions(t *testing.T) cluster.Options {
	t.Helper()
	dir, err := os.MkdirTemp("", "eastporch-faults-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) // the database may run as another user
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	_, text, err := net.SplitHostPort(live.FreeAddress(t))
	require.NoError(t, err)
	opt := cluster.Options{Dir: filepath.Join(dir, "c"), Log: slog.New(slog.DiscardHandler)}
	_, err = fmt.Sscan(text, &opt.Port)
	require.NoError(t, err)
	return opt
}

// waiting is how many visits wait in TestFaultALongQueue: some in make test, a
// million in make soak.
var waiting = flag.Int("waiting", 20_000, "how many visits wait for a database that is away")

// A long queue drains when the database returns, while new visits are accepted,
// and the service stays small throughout.
func TestFaultALongQueue(t *testing.T) {
	t.Parallel()
	opt := clusterOptions(t)
	database, err := cluster.Start(t.Context(), opt)
	require.NoError(t, err)
	t.Cleanup(func() { _ = database.Stop(context.Background()) })
	p := live.NewProcess(t, database.URL())
	p.Start()
	require.NoError(t, database.Stop(t.Context()))
	r := rand.New(rand.NewPCG(5, 5))
	web := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	send := func(n int) {
		list := make([]string, n)
		for i := range list {
			list[i] = fmt.Sprintf(`{"site":%q,"path":"/load/%d","peer":"203.0.113.4","headers":{"X-Forwarded-For":["198.18.%d.%d"],"User-Agent":["Firefox"]}}`, demo.Site, r.IntN(500), r.IntN(100), r.IntN(256))
		}
		req, err := http.NewRequest(http.MethodPost, p.AdminURL+"/v1/visits", strings.NewReader("["+strings.Join(list, ",")+"]"))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+p.Key)
		res, err := web.Do(req)
		require.NoError(t, err, p.Output)
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		require.Equal(t, http.StatusAccepted, res.StatusCode, "%.300s", body)
	}
	begun := time.Now()
	for sent := 0; sent < *waiting; sent += 1000 {
		send(1000)
	}
	accepted := time.Since(begun)
	database, err = cluster.Start(t.Context(), opt)
	require.NoError(t, err)
	begun = time.Now()
	for range 10 { // while it drains
		send(100)
	}
	live.Settled(t, p.AdminURL, p.Key)
	drained := time.Since(begun)
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.Cmd.Process.Pid))
	require.NoError(t, err)
	_, peak, _ := strings.Cut(string(status), "VmHWM:")
	var kb int
	_, err = fmt.Sscan(peak, &kb)
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), database.URL())
	require.NoError(t, err)
	defer conn.Close(context.Background())
	var n int
	require.NoError(t, conn.QueryRow(t.Context(), `SELECT count(*) FROM visit`).Scan(&n))
	t.Logf("%d visits accepted in %s while the database was away, drained at %.0f a second; the service had %d MB at its peak",
		*waiting, accepted.Round(time.Millisecond), float64(n)/drained.Seconds(), kb/1024)
	require.Equal(t, *waiting+1000, n)
	require.Less(t, kb/1024, 512)
}

// A disk without buffer: here the size of files is bounded for the process.
func TestFaultTheDiskIsFull(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	p := live.NewProcess(t, database)
	p.Start() // which builds the edition
	p.Kill()
	p.Wrap = []string{"sh", "-c", `ulimit -f 64; exec "$@"`, "sh"} // blocks of 512 bytes: 32 KB a file
	conn, err := pgx.Connect(t.Context(), database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	p.Start()
	l := begin(t, p.Key, func() []string { return []string{p.AdminURL} })
	for range *rounds {
		l.pass(t, 50)
		tx, err := conn.Begin(t.Context()) // nothing is stored while somebody has the turn
		require.NoError(t, err)
		_, err = tx.Exec(t.Context(), `SELECT pg_advisory_xact_lock(7263001)`)
		require.NoError(t, err)
		full := l.failed.Load()
		require.Eventually(t, func() bool { return l.failed.Load() > full+20 }, 10*time.Minute, 10*time.Millisecond, "there is an end to the buffer")
		var header http.Header
		var body string
		require.Eventually(t, func() (full bool) { // one alone may fit in still
			var status int
			status, header, body = p.Call(http.MethodPost, "/v1/visits", `{"site":"heronlake.example","path":"/"}`)
			return status == http.StatusServiceUnavailable
		}, 10*time.Minute, 10*time.Millisecond)
		assert.Contains(t, body, "/problems/disk-full")
		assert.NotEmpty(t, header.Get("Retry-After"))
		require.Eventually(t, func() bool {
			status, _, _ := p.Call(http.MethodGet, "/readyz", "")
			return status == http.StatusServiceUnavailable
		}, 10*time.Minute, 10*time.Millisecond)
		require.NoError(t, tx.Rollback(t.Context()))
		l.pass(t, 100) // there is buffer again
		require.Eventually(t, func() bool { status, _, _ := p.Call(http.MethodGet, "/readyz", ""); return status == http.StatusOK }, 10*time.Minute, 10*time.Millisecond)
	}
	l.end()
	live.Settled(t, p.AdminURL, p.Key)
	l.tally(t, database)
}

// Two services write to one database, and one of them is killed.
func TestFaultTwoServicesOnOneDatabase(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	first := live.Start(t, map[string]any{"database.url": database, "limits.key_per_second": 1_000_000})
	second := live.NewProcess(t, database)
	second.Start()
	l := begin(t, second.Key, func() []string { return []string{first.AdminURL, second.AdminURL} })
	for range *rounds {
		l.pass(t, 500)
		second.Kill()
		l.pass(t, 100)
		second.Start()
	}
	l.pass(t, 300)
	l.end()
	live.Settled(t, first.AdminURL, second.Key)
	live.Settled(t, second.AdminURL, second.Key)
	l.tally(t, database)
}

// A row that the database refuses is set apart, the rest of its batch is stored,
// and it can be mended.
func TestFaultOneBadRow(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"limits.key_per_second": 1_000_000})
	conn, err := pgx.Connect(t.Context(), s.Database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(t.Context(), `ALTER TABLE visit ADD CONSTRAINT no_poison CHECK (path <> '/poison')`)
	require.NoError(t, err)
	l := begin(t, s.Admin, func() []string { return []string{s.AdminURL} })
	l.pass(t, 100)
	bad := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", `{"site":"heronlake.example","path":"/poison"}`)
	require.Equal(t, http.StatusAccepted, bad.Status)
	l.pass(t, 300)
	l.end()
	live.Settled(t, s.AdminURL, s.Admin)
	l.tally(t, s.Database)
	list := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/quarantine", "")
	assert.Contains(t, list.At(t, "visits.0.reason"), "no_poison")
	url := fmt.Sprint(s.AdminURL, "/v1/visits/quarantine/", list.At(t, "visits.0.id"))
	refused := s.Call(t, "127.0.0.1", http.MethodPost, url, `{}`)
	assert.Equal(t, http.StatusUnprocessableEntity, refused.Status)
	mended := s.Call(t, "127.0.0.1", http.MethodPost, url, `{"path":"/mended"}`)
	require.Equal(t, http.StatusOK, mended.Status, mended.Body)
	assert.Equal(t, "/mended", s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits?site=heronlake.example&path=/mended", "").At(t, "visits.0.path"))
	assert.InDelta(t, 0, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/visits/quarantine", "").At(t, "all"), 0)
}

// A clock that jumps back changes nothing about what is stored, counted and
// followed.
func TestFaultTheClockJumpsBack(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"limits.key_per_second": 1_000_000})
	seen := make(chan string, 100)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	followed := make(chan error, 1)
	go func() {
		followed <- s.Client.Follow(ctx, map[string][]string{"site": {demo.Site}, "after": {"0"}}, func(v visit.Visit) error {
			seen <- v.Path
			return nil
		})
	}()
	for i, back := range []time.Duration{0, time.Hour, 26 * time.Hour, 2 * time.Minute, 9 * 24 * time.Hour} {
		body := fmt.Sprintf(`{"site":"heronlake.example","path":"/%d","time":%q}`, i, time.Now().Add(-back).UTC().Format(time.RFC3339Nano))
		made := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/visits", body, "Prefer: wait=10", "User-Agent: Firefox")
		require.Equal(t, http.StatusCreated, made.Status, made.Body)
		require.Equal(t, fmt.Sprintf("/%d", i), <-seen, "in the order of arrival")
	}
	stop()
	require.True(t, errors.Is(<-followed, context.Canceled))
	l := &load{acked: map[uuid.UUID]bool{firstID(t, s): true}}
	l.tally(t, s.Database)
}

func firstID(t *testing.T, s *live.Service) uuid.UUID {
	t.Helper()
	page, err := s.Client.Visits(t.Context(), map[string][]string{"site": {demo.Site}}, "", 1)
	require.NoError(t, err)
	return page.Visits[0].ID
}
