package httpapi

import (
	"context"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/link"
	"eastporch/internal/server/access"
	"eastporch/internal/server/heap"
	"eastporch/internal/server/links"
)

// BenchmarkRedirect follows a link over 64 connections, beside a bare handler that redirects, in turns: the
// clicks are made into visits and synced to the disk meanwhile.
func BenchmarkRedirect(b *testing.B) {
	f := withLinks(b)
	h := &handlers{Options: f.opt, listener: PublicListener}
	engine := f.serve(b, PublicListener)
	engine.GET("/bare/:code", h.admit(access.Nobody), func(c *gin.Context) {
		c.Header("Cache-Control", "no-store")
		c.Header("Location", "https://heronlake.example/en/tickets")
		c.Status(http.StatusFound)
	})
	server := httptest.NewServer(engine)
	defer server.Close()
	web := manyConnections(b)
	follow := func(url string, count int) time.Duration {
		var next atomic.Int64
		var group sync.WaitGroup
		begun := time.Now()
		for range connections {
			group.Go(func() {
				for n := next.Add(1); n <= int64(count); n = next.Add(1) {
					req, err := http.NewRequest(http.MethodGet, url, nil)
					if err != nil {
						b.Error(err)
						return
					}
					req.Header.Set("X-Forwarded-For", oneOf(int(n)))
					req.Header.Set("User-Agent", browser)
					req.Header.Set("Accept-Language", "pt-PT,pt;q=0.9,en;q=0.5")
					res, err := web.Transport.RoundTrip(req)
					if err != nil {
						b.Error(err)
						return
					}
					res.Body.Close()
					if res.StatusCode != http.StatusFound {
						b.Errorf("status %d", res.StatusCode)
					}
				}
			})
		}
		group.Wait()
		return time.Since(begun)
	}
	const turn = 10_000 // so long that the clicks of one turn are recorded within it
	var bare, ours time.Duration
	asked := 0
	for b.Loop() {
		bare += follow(server.URL+"/bare/tickets", turn)
		ours += follow(server.URL+"/to/tickets", turn)
		asked += turn
	}
	b.ReportMetric(float64(bare.Nanoseconds())/float64(asked), "bare-ns")
	b.ReportMetric(float64(ours.Nanoseconds())/float64(asked), "link-ns")
	b.ReportMetric(float64(f.opt.Content.Links.NotRecorded()), "lost")
}

// withLinks is a service with a link, whose clicks are recorded.
func withLinks(b *testing.B) *fixture {
	b.Helper()
	heap.KeepRoom(heap.Room) // as the service does
	f := newFixture(b, feedOfTests, nowhere{})
	f.opt.Service.Now = time.Now
	_, err := f.opt.Content.Links.Create(b.Context(), f.opt.Public.Sites.All()[0], "tickets", link.Said{Destination: "/en/tickets"}, "test")
	require.NoError(b, err)
	var book *links.Book
	f.opt.Content.Links = links.New(links.Options{Rows: &f.links, Documents: f.opt.Content.Links.Documents, Running: func() *links.Book { return book }, Queue: f.in, Log: f.opt.Service.Log, Now: time.Now})
	book = f.opt.Content.Links.Book(f.opt.Content.Links.Documents.Set(), f.opt.Public.Sites, nil)
	ctx, cancel := context.WithCancel(b.Context())
	ran := make(chan error, 1)
	go func() { ran <- f.opt.Content.Links.Run(ctx) }()
	b.Cleanup(func() { cancel(); require.NoError(b, <-ran) })
	return f
}

// oneOf gives one of many addresses.
func oneOf(n int) string {
	return "198.18." + []string{"3", "9", "20", "77"}[n%4] + "." + []string{"1", "40", "200", "7", "99"}[n/4%5]
}
