package server

import (
	"context"
	"log/slog"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"eastporch/internal/core/visit"
	"eastporch/internal/server/intake"
	"eastporch/internal/server/store"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/synthetic"
)

func TestMain(m *testing.M) { os.Exit(db.Run(m, db.Model{})) }

// Draining a queue against storing the same visits from memory, in turns: each round queues
// 40,000 visits and drains them, and stores 40,000 others in batches of the same size. Then as many are drained
// while somebody asks for one report after the other.
func BenchmarkDrain(b *testing.B) {
	const most, batch = 40_000, 10_000
	s, err := store.Open(b.Context(), db.New(b), 0)
	require.NoError(b, err)
	defer s.Close()
	now := time.Now()
	source := synthetic.NewVisits(9, "heronlake.example", 5000, now.Add(-time.Hour), now)
	some := func(n int) []visit.QueuedVisit {
		list := make([]visit.QueuedVisit, n)
		for i := range list {
			list[i] = source.Next()
		}
		return list
	}
	dir := b.TempDir()
	open := func(sink intake.Sink) (*intake.Intake, func()) {
		spool, err := intake.OpenSpool(dir)
		require.NoError(b, err)
		in, err := intake.New(intake.Options{Log: spool, Sink: sink, MaxBytes: 1 << 40, Logger: slog.New(slog.DiscardHandler), Now: time.Now})
		require.NoError(b, err)
		ctx, cancel := context.WithCancel(b.Context())
		ran := make(chan error, 1)
		go func() { ran <- in.Run(ctx) }()
		return in, func() {
			cancel()
			require.NoError(b, <-ran)
			require.NoError(b, in.Close())
		}
	}
	drain := func() time.Duration {
		in, stop := open(away{})
		for range most / 1000 {
			_, err := in.Accept(b.Context(), some(1000))
			require.NoError(b, err)
		}
		stop()
		begin := time.Now()
		in, stop = open(s)
		defer stop()
		_, last := in.Log.Bounds()
		require.NoError(b, in.Wait(b.Context(), last))
		return time.Since(begin)
	}
	var drained, stored, asked time.Duration
	reports := 0
	for b.Loop() {
		drained += drain()
		list := some(most)
		begin := time.Now()
		for i := 0; i < most; i += batch {
			_, err := s.Insert(b.Context(), list[i:i+batch])
			require.NoError(b, err)
		}
		stored += time.Since(begin)

		asking, end := context.WithCancel(b.Context())
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			for asking.Err() == nil {
				f := visit.Filter{Site: "heronlake.example", From: now.Add(-time.Hour), To: now}
				if _, err := s.Tally(asking, f, visit.ByCountry, now); err == nil {
					reports++
				}
			}
		}()
		asked += drain()
		end()
		<-ended
	}
	n := float64(b.N * most)
	b.ReportMetric(float64(drained)/n, "drain-ns")
	b.ReportMetric(float64(stored)/n, "store-ns")
	b.ReportMetric(n/drained.Seconds(), "drained/s")
	b.ReportMetric(n/asked.Seconds(), "drained-while-asked/s")
	b.ReportMetric(float64(reports)/asked.Seconds(), "reports/s")
}

// away stores nothing, so that visits wait.
type away struct{}

func (away) Insert(ctx context.Context, _ []visit.QueuedVisit) (visit.Outcome, error) {
	<-ctx.Done()
	return visit.Outcome{}, ctx.Err()
}
func (away) SetApart(context.Context, []visit.SetApart) error { return nil }
