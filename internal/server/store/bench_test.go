package store

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/visit"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/synthetic"
)

// benchBatch is as many visits as the intake stores at once.
const benchBatch = 10_000

// Storing visits, with all that counts them, against a raw COPY of the same rows
// into the same table, whose indexes and partitions both fill; batch by batch in turns.
func BenchmarkStore(b *testing.B) {
	open := func() *Store {
		s, err := Open(b.Context(), db.New(b), 0)
		require.NoError(b, err)
		b.Cleanup(s.Close)
		return s
	}
	end := start.Add(12 * time.Hour)
	batches := func(n int) (list [][]visit.QueuedVisit) {
		// What is stored in a while is of that while.
		source := synthetic.NewVisits(5, site, 5000, end.Add(-time.Hour), end)
		for range n {
			batch := make([]visit.QueuedVisit, benchBatch)
			for i := range batch {
				batch[i] = source.Next()
			}
			list = append(list, batch)
		}
		return list
	}
	copied, inserted := open(), open()
	require.NoError(b, copied.ensureWeek(b.Context(), weekOf(end)))
	var copying, inserting time.Duration
	for i, batch := range batches(b.N) {
		known := map[uuid.UUID]*sharedFacts{}
		rows := make([][]any, benchBatch)
		for j := range batch {
			q := &batch[j]
			at, _ := visit.TimeOf(q.Row.ID)
			facts, _ := copied.factsOf(known, q)
			rows[j] = append([]any{int64(i*benchBatch + j)}, (&insertRow{Row: &q.Row, at: at, facts: facts}).values()...)
		}
		begin := time.Now()
		_, err := copied.pool.CopyFrom(b.Context(), pgx.Identifier{"visit"}, append([]string{"sequence"}, columnNames()...), pgx.CopyFromRows(rows))
		require.NoError(b, err)
		copying += time.Since(begin)
		begin = time.Now()
		out, err := inserted.Insert(b.Context(), batch)
		require.NoError(b, err)
		require.Equal(b, benchBatch, out.Stored)
		inserting += time.Since(begin)
	}
	n := float64(b.N * benchBatch)
	b.ReportMetric(float64(copying)/n, "copy-ns")
	b.ReportMetric(float64(inserting)/n, "insert-ns")
}

// Storing over two connections against one, in turns, in batches of a busy queue: visits a second of each.
func BenchmarkConnections(b *testing.B) {
	const batch, batches = 2000, 16
	s, err := Open(b.Context(), db.New(b), 0)
	require.NoError(b, err)
	defer s.Close()
	now := time.Now()
	source := synthetic.NewVisits(34, site, 5000, now.Add(-time.Hour), now)
	some := func(n int) []visit.QueuedVisit {
		list := make([]visit.QueuedVisit, n)
		for i := range list {
			list[i] = source.Next()
		}
		return list
	}
	var took [3]time.Duration
	for b.Loop() {
		for _, connections := range []int{1, 2} {
			list := some(batch * batches)
			begun := time.Now()
			var all sync.WaitGroup
			var next atomic.Int64
			for range connections {
				all.Go(func() {
					for n := next.Add(1); n <= batches; n = next.Add(1) {
						_, err := s.Insert(b.Context(), list[(n-1)*batch:n*batch])
						assert.NoError(b, err)
					}
				})
			}
			all.Wait()
			took[connections] += time.Since(begun)
		}
	}
	n := float64(b.N * batch * batches)
	b.ReportMetric(n/took[1].Seconds(), "one/s")
	b.ReportMetric(n/took[2].Seconds(), "two/s")
}
