package httpapi

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/gate"
	"eastporch/internal/server/access"
)

// BenchmarkTails is how long the middle, the slowest hundredth and the slowest thousandth wait, at a tenth, a
// half and nine tenths of what can be borne of each: cards, visits, links followed and questions to the gate,
// beside a bare handler behind the same middleware. All take turns, in each of which it is measured anew how
// much can be borne, and the middle one of all turns is given. tools/tails draws it.
func BenchmarkTails(b *testing.B) {
	f := withLinks(b)
	f.opt.Public.Sites.All()[0].Local.Gates = gate.New(gate.Rules{Gates: []gate.Gate{{
		Name: "a", Path: "/members/**", Mode: gate.On, List: gate.Deny, Rules: []gate.Rule{{Countries: []string{"NO"}}},
	}}}, gate.Known{})
	page, own := f.key(b, access.Page), f.key(b, access.Server)
	h := &handlers{Options: f.opt, listener: PublicListener}
	engine := f.serve(b, PublicListener)
	engine.GET("/bare", h.admit(access.Page), func(c *gin.Context) { c.Data(http.StatusOK, "application/json; charset=utf-8", make([]byte, 2048)) })
	service := httptest.NewServer(engine)
	b.Cleanup(service.Close)

	kinds := []kind{
		{"bare", "/bare", page, nil},
		{"cards", "/v1/visitor", page, nil},
		{"visits", "/v1/visits", page, oneVisit},
		{"links", "/to/tickets", "", nil},
		{"gate", "/v1/gate/decide?site=" + testSite, own, nil},
	}
	const turns, times = 9, 1000
	loads := map[string]float64{"tenth": 0.1, "half": 0.5, "nine-tenths": 0.9}
	took := map[string][]float64{} // microseconds, by the name of the metric
	for b.Loop() {
		for range turns {
			for i := range kinds {
				ask := kinds[i].asker(b, service.URL)
				least := bears(ask)
				for name, part := range loads {
					list := paced(time.Duration(float64(least)/part), times, ask)
					for of, at := range map[string]int{"p50": times / 2, "p99": times * 99 / 100, "p99.9": times * 999 / 1000} {
						metric := kinds[i].name + "/" + name + "/" + of
						took[metric] = append(took[metric], float64(list[at].Nanoseconds())/1e3)
					}
				}
			}
		}
	}
	for metric, list := range took {
		slices.Sort(list)
		b.ReportMetric(list[len(list)/2], metric+"-us")
	}
}

// A kind of request.
type kind struct {
	name, path, key string
	body            func(n int) []byte
}

// asker gives what asks once, over connections that are kept.
func (k *kind) asker(b *testing.B, url string) func(n int) {
	b.Helper()
	web := &http.Transport{MaxIdleConnsPerHost: 256, MaxConnsPerHost: 256}
	b.Cleanup(web.CloseIdleConnections)
	return func(n int) {
		method, body := http.MethodGet, []byte{}
		if k.body != nil {
			method, body = http.MethodPost, k.body(n)
		}
		req, err := http.NewRequest(method, url+k.path, bytes.NewReader(body))
		if err != nil {
			b.Error(err)
			return
		}
		req.Header.Set("X-Forwarded-For", oneOf(n))
		req.Header.Set("User-Agent", browser)
		req.Header.Set("Accept-Language", "pt-PT,pt;q=0.9,en;q=0.5")
		req.Header.Set("Porch-Original-Target", "/members/area")
		if k.key != "" {
			req.Header.Set("Authorization", "Bearer "+k.key)
		}
		res, err := web.RoundTrip(req)
		if err != nil {
			b.Error(err)
			return
		}
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if res.StatusCode >= http.StatusBadRequest {
			b.Errorf("%s: status %d", k.path, res.StatusCode)
		}
	}
}

// bears gives the time between two requests at the most that can be borne, over 64 connections.
func bears(ask func(n int)) time.Duration {
	const times = 3000
	var next atomic.Int64
	var group sync.WaitGroup
	begun := time.Now()
	for range connections {
		group.Go(func() {
			for n := next.Add(1); n <= times; n = next.Add(1) {
				ask(int(n))
			}
		})
	}
	group.Wait()
	return time.Since(begun) / times
}
