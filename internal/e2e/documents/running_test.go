package documents

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/companion"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// a paper is a document that one goroutine saves again and again at one instance.
type paper struct {
	save func(s *live.Service, value string) live.Answer
	runs func(s *live.Service) string // what requests meet of it; "" for nothing
}

// said reads an answer; of a problem nothing.
func said[T any](a live.Answer) (v T) {
	_ = json.Unmarshal([]byte(a.Body), &v)
	return v
}

// papersOf are documents of several kinds whose names are one goroutine's own.
func papersOf(t *testing.T, n int) []paper {
	call := func(s *live.Service, method, path, body string, header ...string) live.Answer {
		return s.Call(t, "127.0.0.1", method, path, body, header...)
	}
	code, address := fmt.Sprintf("own%d", n), fmt.Sprintf("198.18.77.%d", n)
	made := false
	return []paper{{ // a link
		save: func(s *live.Service, value string) live.Answer {
			if !made {
				a := call(s, http.MethodPost, s.AdminURL+"/v1/links", fmt.Sprintf(`{"code":%q,"destination":"/%s"}`, code, value))
				made = a.Status == http.StatusCreated || a.Status == http.StatusConflict // it was kept although nobody heard so
				return a
			}
			return call(s, http.MethodPatch, s.AdminURL+"/v1/links/"+code, fmt.Sprintf(`{"destination":"/%s"}`, value))
		},
		runs: func(s *live.Service) string {
			to := call(s, http.MethodGet, s.PublicURL+"/to/"+code, "", live.Anonymous).Header.Get("Location")
			return to[strings.LastIndexByte(to, '/')+1:]
		},
	}, { // a correction
		save: func(s *live.Service, value string) live.Answer {
			return call(s, http.MethodPost, s.AdminURL+"/v1/corrections", fmt.Sprintf(`{"range":%q,"country_code":"PT","city":%q}`, address, value))
		},
		runs: func(s *live.Service) string {
			return said[struct{ Location struct{ City string } }](call(s, http.MethodGet, s.AdminURL+"/v1/addresses/"+address+"?fields=location.city", "")).Location.City
		},
	}, { // content variants
		save: func(s *live.Service, value string) live.Answer {
			return call(s, http.MethodPut, s.AdminURL+"/v1/variants/"+code+"?site="+demo.Site, fmt.Sprintf(`{"name":%q,"default":%q,"rules":[]}`, code, value))
		},
		runs: func(s *live.Service) string {
			return said[struct{ Variants map[string]string }](call(s, http.MethodGet, s.AdminURL+"/v1/visitor?fields=variants&site="+demo.Site, "")).Variants[code]
		},
	}, { // a companion
		save: func(s *live.Service, value string) live.Answer {
			of := companion.Fresh()
			of.Title, of.URL, of.Enabled, of.Values = value, "https://sky.example/", false, []companion.Pick{{Name: "wind", Pointer: "/wind", Type: "number"}}
			body, err := json.Marshal(companion.Save{Said: of})
			assert.NoError(t, err)
			return call(s, http.MethodPut, s.AdminURL+"/v1/companions/"+code+"?site="+demo.Site, string(body))
		},
		runs: func(s *live.Service) string {
			return said[struct{ Said struct{ Title string } }](call(s, http.MethodGet, s.AdminURL+"/v1/companions/"+code+"?site="+demo.Site, "")).Said.Title
		},
	}}
}

// Saves, reloads that change something and such that are refused, and connections to the database that break, at random at two
// instances: what is acknowledged runs at that instance from then on, and soon at the other.
func TestNoAcknowledgedSaveIsMissing(t *testing.T) {
	t.Parallel()
	database := db.New(t)
	one, two := live.Start(t, map[string]any{"database.url": database}), live.Start(t, map[string]any{"database.url": database})
	one.Admin = two.Admin // the second start made it anew
	require.Eventually(t, func() bool {
		return one.Call(t, "127.0.0.1", http.MethodGet, one.AdminURL+"/v1/keys", "").Status == http.StatusOK
	}, 10*time.Minute, 20*time.Millisecond)
	instances := []*live.Service{one, two}
	var saving, beside sync.WaitGroup
	over := make(chan struct{})
	type last struct {
		paper
		may []string // what may run: of a save that was not acknowledged, it or what was before
	}
	var lock sync.Mutex
	var ends []last
	acknowledged, failed := 0, 0
	for n := range 6 {
		at, random := instances[n%2], rand.New(rand.NewPCG(34, uint64(n)))
		saving.Go(func() {
			own := papersOf(t, n)
			may := make([][]string, len(own))
			for i := range may {
				may[i] = []string{""}
			}
			for turn := range 40 {
				i, value := random.IntN(len(own)), fmt.Sprintf("v%d-%d", n, turn)
				a := own[i].save(at, value)
				runs := own[i].runs(at)
				lock.Lock()
				switch {
				case a.Status < 300:
					acknowledged++
					may[i] = []string{value}
					assert.Equal(t, value, runs, "%d of %d: acknowledged with %d, and not what runs", i, n, a.Status)
				case a.Status >= 500 || a.Status == http.StatusConflict:
					failed++
					may[i] = append(may[i], value)
				default:
					assert.Fail(t, a.Body)
				}
				lock.Unlock()
			}
			lock.Lock()
			defer lock.Unlock()
			for i := range own {
				ends = append(ends, last{own[i], may[i]})
			}
		})
	}
	for n, s := range instances {
		beside.Go(func() {
			now := "Heron Lake Regatta"
			for turn := 0; ; turn++ {
				select {
				case <-over:
					return
				default:
				}
				if turn%3 == 2 {
					s.Change(t, "currency: EUR", "currency: EURO")
					assert.Equal(t, http.StatusUnprocessableEntity, s.Reload(t).Status, "a configuration that cannot be used")
					s.Change(t, "currency: EURO", "currency: EUR")
					continue
				}
				next := fmt.Sprintf("Heron Lake Regatta %d of %d", turn, n)
				s.Change(t, "name: "+now, "name: "+next)
				now = next
				s.Reload(t)
			}
		})
	}
	beside.Go(func() { // connections that break
		conn, err := pgx.Connect(t.Context(), database)
		if !assert.NoError(t, err) {
			return
		}
		defer conn.Close(t.Context())
		random := rand.New(rand.NewPCG(34, 99))
		for {
			select {
			case <-over:
				return
			case <-time.After(time.Duration(random.IntN(200)) * time.Millisecond):
			}
			_, err := conn.Exec(t.Context(), `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid() ORDER BY random() LIMIT 1`)
			assert.NoError(t, err)
		}
	})
	saving.Wait()
	close(over)
	beside.Wait()
	assert.Greater(t, acknowledged, 100)
	for _, s := range instances {
		for _, end := range ends {
			require.Eventually(t, func() bool { return slices.Contains(end.may, end.runs(s)) }, 10*time.Minute, 50*time.Millisecond, "%v", end.may)
		}
	}
	for _, end := range ends { // both run the same
		require.Eventually(t, func() bool { return end.runs(one) == end.runs(two) }, 10*time.Minute, 50*time.Millisecond)
	}
	t.Logf("%d saves were acknowledged, %d were not; none is missing", acknowledged, failed)
}
