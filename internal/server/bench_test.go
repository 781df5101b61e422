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
// 40,000 visits and drains them, and stores 40,000 others in batches of the same size.
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
	var drained, stored time.Duration
	for b.Loop() {
		in, stop := open(away{})
		for range most / 1000 {
			_, err := in.Accept(b.Context(), some(1000))
			require.NoError(b, err)
		}
		stop()
		list := some(most)

		begin := time.Now()
		in, stop = open(s)
		_, last := in.Log.Bounds()
		require.NoError(b, in.Wait(b.Context(), last))
		drained += time.Since(begin)
		stop()

		begin = time.Now()
		for i := 0; i < most; i += batch {
			_, err := s.Insert(b.Context(), list[i:i+batch])
			require.NoError(b, err)
		}
		stored += time.Since(begin)
	}
	n := float64(b.N * most)
	b.ReportMetric(float64(drained)/n, "drain-ns")
	b.ReportMetric(float64(stored)/n, "store-ns")
	b.ReportMetric(n/drained.Seconds(), "drained/s")
}

// away stores nothing, so that visits wait.
type away struct{}

func (away) Insert(ctx context.Context, _ []visit.QueuedVisit) (visit.Outcome, error) {
	<-ctx.Done()
	return visit.Outcome{}, ctx.Err()
}
func (away) SetApart(context.Context, []visit.SetApart) error { return nil }
