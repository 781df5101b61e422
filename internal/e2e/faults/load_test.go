package faults

import (
	"context"
	crypto "crypto/rand"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/visit"
	"eastporch/internal/demo"
	"eastporch/internal/server/store"
)

// load sends visits until it is told to stop, and remembers what was
// acknowledged.
type load struct {
	key  string
	urls func() []string // of services; one is picked for each visit

	mu     sync.Mutex
	acked  map[uuid.UUID]bool
	sent   atomic.Int64
	failed atomic.Int64
	hung   atomic.Int64 // clients that did not wait for an answer
	fresh  chan struct{}

	stop    context.CancelFunc
	senders sync.WaitGroup
}

// begin sends from several clients at once: most visits alone, some in lists,
// some twice, and some by clients that hang up.
func begin(t *testing.T, key string, urls func() []string) *load {
	t.Helper()
	ctx, stop := context.WithCancel(t.Context())
	l := &load{key: key, urls: urls, acked: map[uuid.UUID]bool{}, stop: stop, fresh: make(chan struct{}, 1)}
	for n := range senders {
		l.senders.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 1))
			web := &http.Client{Transport: &http.Transport{}, Timeout: 20 * time.Second}
			defer web.CloseIdleConnections()
			for ctx.Err() == nil {
				l.send(ctx, web, r)
			}
		})
	}
	t.Cleanup(l.end)
	return l
}

func (l *load) end() {
	l.stop()
	l.senders.Wait()
}

// pass waits until n more visits were acknowledged.
func (l *load) pass(t *testing.T, n int) {
	t.Helper()
	l.mu.Lock()
	until := len(l.acked) + n
	l.mu.Unlock()
	for {
		l.mu.Lock()
		now := len(l.acked)
		l.mu.Unlock()
		if now >= until {
			return
		}
		select {
		case <-l.fresh:
		case <-time.After(10 * time.Minute):
			t.Fatalf("no visit was acknowledged for half a minute; %d were", now)
		}
	}
}

func (l *load) send(ctx context.Context, web *http.Client, r *rand.Rand) {
	var ids []uuid.UUID
	var bodies []string
	many := 1
	if r.IntN(10) == 0 {
		many = 1 + r.IntN(40)
	}
	for range many {
		// Times of the last days, so that ids are in no order.
		id, _ := visit.NewID(time.Now().Add(-time.Duration(r.Int64N(int64(72*time.Hour)))), crypto.Reader)
		ids = append(ids, id)
		bodies = append(bodies, fmt.Sprintf(`{"id":%q,"site":%q,"path":"/load/%d","peer":"203.0.113.4","headers":{"X-Forwarded-For":["198.18.%d.%d"],"User-Agent":["Firefox"]}}`,
			id, demo.Site, r.IntN(50), r.IntN(100), r.IntN(256)))
	}
	body := bodies[0]
	if many > 1 {
		body = "[" + strings.Join(bodies, ",") + "]"
	}
	times := 1
	if r.IntN(10) == 0 { // the same again, as after an answer that was lost
		times = 2
	}
	for range times {
		if r.IntN(20) == 0 {
			brief, cancel := context.WithTimeout(ctx, time.Duration(r.IntN(2000))*time.Microsecond)
			l.post(brief, web, body, ids, r)
			cancel()
			l.hung.Add(1)
			continue
		}
		l.post(ctx, web, body, ids, r)
	}
}

func (l *load) post(ctx context.Context, web *http.Client, body string, ids []uuid.UUID, r *rand.Rand) {
	urls := l.urls()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, urls[r.IntN(len(urls))]+"/v1/visits", strings.NewReader(body))
	if err != nil {
		return
	}
	req.Header.Set("Authorization", "Bearer "+l.key)
	l.sent.Add(int64(len(ids)))
	res, err := web.Do(req)
	if err != nil {
		l.failed.Add(int64(len(ids)))
		return
	}
	_, _ = io.Copy(io.Discard, res.Body)
	res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		l.failed.Add(int64(len(ids)))
		return
	}
	l.mu.Lock()
	for _, id := range ids {
		l.acked[id] = true
	}
	l.mu.Unlock()
	select {
	case l.fresh <- struct{}{}:
	default:
	}
}

// tally fails the test unless every acknowledged visit stands in the database,
// once, and all counts say what the rows say.
func (l *load) tally(t *testing.T, database string) {
	t.Helper()
	s, err := store.Open(t.Context(), database, 0)
	require.NoError(t, err)
	defer s.Close()
	conn, err := pgx.Connect(t.Context(), database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	rows, err := conn.Query(t.Context(), `SELECT id, count(*) FROM visit GROUP BY id`)
	require.NoError(t, err)
	stored := map[uuid.UUID]bool{}
	for rows.Next() {
		var id uuid.UUID
		var n int
		require.NoError(t, rows.Scan(&id, &n))
		require.Equal(t, 1, n, id)
		stored[id] = true
	}
	require.NoError(t, rows.Err())
	missing := 0
	for id := range l.acked {
		if !stored[id] {
			missing++
		}
	}
	days, err := s.Days(t.Context(), demo.Site, time.Now())
	require.NoError(t, err)
	differs := 0
	for _, day := range days {
		list, _, err := s.Verify(t.Context(), demo.Site, day, false)
		require.NoError(t, err)
		differs += len(list)
	}
	t.Logf("sent %d, acknowledged %d, failed %d, hung up %d; stored %d, missing %d, counts that differ %d",
		l.sent.Load(), len(l.acked), l.failed.Load(), l.hung.Load(), len(stored), missing, differs)
	require.Zero(t, missing, "acknowledged, and not there")
	require.Zero(t, differs)
	require.NotEmpty(t, l.acked)
}
