package httpapi

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/server/heap"
	"eastporch/internal/server/lookup"
	"eastporch/internal/server/respond"
)

// nowhere stores nothing: what is measured is accepting.
type nowhere struct{}

func (nowhere) Insert(ctx context.Context, _ []visit.QueuedVisit) (visit.Outcome, error) {
	<-ctx.Done()
	return visit.Outcome{}, ctx.Err()
}
func (nowhere) SetApart(context.Context, []visit.SetApart) error { return nil }

// served is a service on the public listener with a durable intake, and a bare
// handler with the same middleware, which returns as many bytes.
func served(b *testing.B) (url, key string) {
	b.Helper()
	url, _, key, _ = listeners(b)
	return url, key
}

// listeners is the same with the admin, which gives cards of addresses.
func listeners(b *testing.B) (url, admin, key, serverKey string) {
	b.Helper()
	heap.KeepRoom(heap.Room) // as the service does
	var feed strings.Builder
	for i := range 200 {
		fmt.Fprintf(&feed, "198.18.%d.0/24,PT,PT-11,Lisbon,\n", i)
	}
	f := newFixture(b, feed.String(), nowhere{})
	f.opt.Service.Now = time.Now
	key, serverKey = f.key(b, access.Page), f.key(b, access.Server)
	engine := f.serve(b, PublicListener)
	h := &handlers{Options: f.opt, listener: PublicListener}
	answer := fmt.Appendf(nil, `{"id":"01a1d8a4-2b00-7146-b68e-405649734a51","time":"2026-11-14T06:00:00.000Z","state":"accepted","marks":[]}`)
	engine.POST("/bare", h.admit(access.Page), func(c *gin.Context) {
		_, _ = io.Copy(io.Discard, c.Request.Body)
		respond.Private(c)
		c.Data(http.StatusAccepted, "application/json; charset=utf-8", answer)
	})
	server := httptest.NewServer(engine)
	b.Cleanup(server.Close)
	inside := f.serve(b, AdminListener)
	d := &handlers{Options: f.opt, listener: AdminListener}
	made, err := f.opt.Atlas.Lookup.Card(b.Context(), "198.18.3.40", lookup.Question{Language: "en"})
	require.NoError(b, err)
	bytes := made.AppendJSON(nil)
	inside.GET("/bare", d.admit(access.Server), func(c *gin.Context) {
		c.Header("Cache-Control", "private, no-store")
		c.Data(http.StatusOK, "application/json; charset=utf-8", bytes)
	})
	atAdmin := httptest.NewServer(inside)
	b.Cleanup(atAdmin.Close)
	return server.URL, atAdmin.URL, key, serverKey
}

// BenchmarkAddress asks for cards of addresses over 64 connections, beside a bare handler
// that returns as many bytes.
func BenchmarkAddress(b *testing.B) {
	_, admin, _, key := listeners(b)
	web := manyConnections(b)
	var bare, cards []string
	for n := range 10_000 {
		bare = append(bare, admin+"/bare")
		cards = append(cards, fmt.Sprintf("%s/v1/addresses/198.18.%d.%d", admin, n/7%200, n%250))
	}
	ask := func(urls []string, count int) time.Duration {
		var next atomic.Int64
		var group sync.WaitGroup
		begun := time.Now()
		for range connections {
			group.Go(func() {
				for n := next.Add(1); n <= int64(count); n = next.Add(1) {
					req, err := http.NewRequest(http.MethodGet, urls[n%int64(len(urls))], nil)
					if err != nil {
						b.Error(err)
						return
					}
					req.Header.Set("Authorization", "Bearer "+key)
					res, err := web.Do(req)
					if err != nil {
						b.Error(err)
						return
					}
					_, _ = io.Copy(io.Discard, res.Body)
					res.Body.Close()
					if res.StatusCode != http.StatusOK {
						b.Errorf("status %d", res.StatusCode)
					}
				}
			})
		}
		group.Wait()
		return time.Since(begun)
	}
	// In turns, so that what else the machine does bears on both alike.
	const turn = 500
	var tookBare, tookCard time.Duration
	asked := 0
	for b.Loop() {
		tookBare += ask(bare, turn)
		tookCard += ask(cards, turn)
		asked += turn
	}
	b.ReportMetric(float64(tookBare.Nanoseconds())/float64(asked), "bare-ns")
	b.ReportMetric(float64(tookCard.Nanoseconds())/float64(asked), "card-ns")
}

// sender sends one body after the other from a connection of its own.
type sender struct {
	web  *http.Client
	url  string
	key  string
	body func(n int) []byte
}

func (s *sender) send(b *testing.B, n int) {
	req, err := http.NewRequest(http.MethodPost, s.url, bytes.NewReader(s.body(n)))
	if err != nil {
		b.Error(err)
		return
	}
	req.Header.Set("Authorization", "Bearer "+s.key)
	req.Header.Set("X-Forwarded-For", fmt.Sprintf("198.18.%d.%d", n/7%200, n%250))
	req.Header.Set("User-Agent", "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0")
	req.Header.Set("Accept-Language", "pt-PT,pt;q=0.9,en;q=0.5")
	res, err := s.web.Do(req)
	if err != nil {
		b.Error(err)
		return
	}
	_, _ = io.Copy(io.Discard, res.Body)
	res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		b.Errorf("status %d", res.StatusCode)
	}
}

func oneVisit(n int) []byte {
	return fmt.Appendf(nil, `{"site":%q,"path":"/page/%d","referrer":"https://rowing-news.example/heron-lake"}`, testSite, n%500)
}

func hundredVisits(n int) []byte {
	list := []byte("[")
	for i := range 100 {
		if i > 0 {
			list = append(list, ',')
		}
		list = append(list, oneVisit(n+i)...)
	}
	return append(list, ']')
}

const connections = 64

// flood sends requests over 64 connections as fast as they go, and gives the time that
// they took.
func flood(b *testing.B, web *http.Client, most int, url, key string, body func(int) []byte) time.Duration {
	var next atomic.Int64
	var group sync.WaitGroup
	begun := time.Now()
	for range connections {
		group.Go(func() {
			s := &sender{web, url, key, body}
			for n := next.Add(1); n <= int64(most); n = next.Add(1) {
				s.send(b, int(n))
			}
		})
	}
	group.Wait()
	return time.Since(begun)
}

// BenchmarkAccept takes turns, so that what else the machine does bears on both alike.
func BenchmarkAccept(b *testing.B) {
	url, key := served(b)
	web := manyConnections(b)
	const turn = 400 // requests
	var bare, one time.Duration
	turns := 0
	for b.Loop() {
		bare += flood(b, web, turn, url+"/bare", key, oneVisit)
		one += flood(b, web, turn, url+"/v1/visits", key, oneVisit)
		turns++
	}
	b.ReportMetric(float64(bare.Nanoseconds())/float64(turns*turn), "bare-ns")
	b.ReportMetric(float64(one.Nanoseconds())/float64(turns*turn), "one-ns")
}

func BenchmarkAcceptLists(b *testing.B) {
	url, key := served(b)
	took := flood(b, manyConnections(b), b.N, url+"/v1/visits", key, hundredVisits)
	b.ReportMetric(float64(took.Nanoseconds())/float64(100*b.N), "visit-ns")
}

// manyConnections is a client that keeps its connections open.
func manyConnections(b *testing.B) *http.Client {
	b.Helper()
	web := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: connections}}
	b.Cleanup(web.CloseIdleConnections)
	return web
}

// BenchmarkHalf is how long the slowest hundredth waits at half of what accepting can bear, beside the bare
// handler at the same pace. They take turns, and the middle one of many turns is given, so that what else
// the machine does bears on neither.
func BenchmarkHalf(b *testing.B) {
	url, key := served(b)
	const probes, turn, turns = 4000, 500, 21
	begun := time.Now()
	flood(b, manyConnections(b), probes, url+"/v1/visits", key, oneVisit)
	gap := 2 * time.Since(begun) / probes
	pace := func(path string) func() time.Duration {
		web := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 256}}
		b.Cleanup(web.CloseIdleConnections)
		s := &sender{web, url + path, key, oneVisit}
		return func() time.Duration {
			took := paced(gap, turn, func(n int) { s.send(b, n) })
			return took[len(took)*99/100]
		}
	}
	bare, ours := pace("/bare"), pace("/v1/visits")
	for b.Loop() {
		var ofBare, ofOurs []time.Duration
		for range turns {
			ofBare, ofOurs = append(ofBare, bare()), append(ofOurs, ours())
		}
		slices.Sort(ofBare)
		slices.Sort(ofOurs)
		b.ReportMetric(float64(ofBare[turns/2].Microseconds()), "bare-p99-us")
		b.ReportMetric(float64(ofOurs[turns/2].Microseconds()), "ours-p99-us")
	}
}

// paced does something many times, each a while after the one before, whether that has ended or not, and
// gives how long each took from when it was due, the shortest first.
func paced(gap time.Duration, times int, do func(n int)) []time.Duration {
	took := make([]time.Duration, times)
	var group sync.WaitGroup
	first := time.Now()
	for n := range times {
		due := first.Add(time.Duration(n) * gap)
		<-time.After(time.Until(due))
		group.Go(func() {
			do(n)
			took[n] = time.Since(due)
		})
	}
	group.Wait()
	slices.Sort(took)
	return took
}
