package faults

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/link"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// kill -9 of the service while a link is followed, again and again: every click that was synced stands once.
func TestFaultTheServiceIsKilledUnderClicks(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	p := live.NewProcess(t, database)
	public := live.FreeAddress(t)
	p.Args = append(p.Args, "--public-address", public)
	p.Start()
	c, err := client.New(p.AdminURL, p.Key, nil)
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
		}, 10*time.Minute, 5*time.Millisecond)
		p.Kill()
		synced += accepted
		p.Start()
	}
	close(stop)
	group.Wait()
	require.NoError(t, p.Stop()) // which brings what waits onto the disk
	p.Start()
	live.Settled(t, p.AdminURL, p.Key)
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
func acceptedBy(t *testing.T, p *live.Process) int64 {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, p.AdminURL+"/v1/visits/state", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+p.Key)
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
