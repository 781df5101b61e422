package intake

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/visit"
	"eastporch/internal/testkit/synthetic"
)

var start = time.Date(2026, 11, 14, 6, 0, 0, 0, time.UTC)

// table is a sink that keeps what it is given, once, and may be away.
type table struct {
	mu     sync.Mutex
	away   bool
	rows   map[uuid.UUID]visit.Row
	order  []uuid.UUID
	apart  []visit.SetApart
	refuse func(visit.Row) bool
	asked  chan struct{}
}

func newTable() *table { return &table{rows: map[uuid.UUID]visit.Row{}, asked: make(chan struct{}, 1)} }

func (s *table) Insert(_ context.Context, batch []visit.QueuedVisit) (out visit.Outcome, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case s.asked <- struct{}{}:
	default:
	}
	if s.away {
		return out, visit.ErrAway
	}
	for _, a := range batch {
		if s.refuse != nil && s.refuse(a.Row) {
			return visit.Outcome{}, fmt.Errorf("%w: made up", visit.ErrRefused)
		}
	}
	for i, a := range batch {
		if old, ok := s.rows[a.Row.ID]; ok {
			if out.Duplicate++; !old.Same(a.Row) {
				out.Conflicts = append(out.Conflicts, i)
			}
			continue
		}
		s.rows[a.Row.ID] = a.Row
		s.order = append(s.order, a.Row.ID)
		out.Stored++
	}
	return out, nil
}

func (s *table) SetApart(_ context.Context, list []visit.SetApart) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.apart = append(s.apart, list...)
	return nil
}

func (s *table) set(change func(*table)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(s)
}

// running is an intake over a spool, which runs until the test ends or stop is
// called.
func running(t *testing.T, dir string, sink Sink, most int64) (in *Intake, stop func()) {
	t.Helper()
	spool, err := OpenSpool(dir)
	require.NoError(t, err)
	in, err = New(Options{Log: spool, Sink: sink, MaxBytes: most, Logger: slog.New(slog.DiscardHandler), Now: time.Now})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { assert.NoError(t, in.Run(ctx)); close(done) }()
	stop = sync.OnceFunc(func() {
		cancel()
		<-done
		require.NoError(t, in.Close())
	})
	t.Cleanup(stop)
	return in, stop
}

func some(seed uint64, n int) []visit.QueuedVisit {
	source := synthetic.NewVisits(seed, "heronlake.example", 20, start.AddDate(0, 0, -5), start)
	list := make([]visit.QueuedVisit, n)
	for i := range list {
		list[i] = source.Next()
	}
	return list
}

func TestEveryAcceptedVisitIsStoredOnceInItsOrder(t *testing.T) {
	sink := newTable()
	in, _ := running(t, t.TempDir(), sink, 1<<30)
	var group sync.WaitGroup
	const callers, each = 16, 50
	for n := range callers {
		group.Go(func() {
			for _, a := range some(uint64(n), each) {
				_, err := in.Accept(t.Context(), []visit.QueuedVisit{a})
				assert.NoError(t, err)
			}
		})
	}
	group.Wait()
	list := some(99, 300)
	index, err := in.Accept(t.Context(), list)
	require.NoError(t, err)
	require.NoError(t, in.Wait(t.Context(), index))
	sink.mu.Lock()
	defer sink.mu.Unlock()
	require.Len(t, sink.rows, callers*each+300)
	for i, id := range sink.order[len(sink.order)-300:] {
		require.Equal(t, list[i].Row.ID, id)
	}
	assert.Equal(t, list[0].Row, sink.rows[list[0].Row.ID], "as it was sent")
	assert.Zero(t, in.State().Waiting)
}

func TestVisitsWaitForTheDatabaseUntilThereIsNoRoom(t *testing.T) {
	sink := newTable()
	sink.away = true
	dir := t.TempDir()
	in, stop := running(t, dir, sink, 40_000)
	accepted := map[uuid.UUID]bool{}
	source := some(1, 5000)
	for _, a := range source {
		_, err := in.Accept(t.Context(), []visit.QueuedVisit{a})
		if err != nil {
			require.ErrorIs(t, err, ErrFull)
			break
		}
		accepted[a.Row.ID] = true
	}
	require.Less(t, len(accepted), len(source), "there is an end to it")
	assert.False(t, in.Room())
	<-sink.asked
	state := in.State()
	assert.Equal(t, int64(len(accepted)), state.Waiting)
	assert.Equal(t, int64(1), state.Since.Full)

	stop() // a restart while the database is away
	in, _ = running(t, dir, sink, 40_000)
	assert.Equal(t, int64(len(accepted)), in.State().Waiting)
	sink.set(func(s *table) { s.away = false })
	_, last := in.Log.Bounds()
	require.NoError(t, in.Wait(t.Context(), last))
	assert.Len(t, sink.rows, len(accepted))
	for id := range accepted {
		assert.Contains(t, sink.rows, id)
	}
}

// full is a spool whose disk takes nothing while it is full.
type full struct {
	*Spool
	is atomic.Bool
}

func (f *full) Append(entry []byte, weight int) (uint64, error) {
	if f.is.Load() {
		return 0, syscall.ENOSPC
	}
	return f.Spool.Append(entry, weight)
}

func (f *full) Writable() error {
	if f.is.Load() {
		return syscall.ENOSPC
	}
	return f.Spool.Writable()
}

func TestAFullDiskIsSaidUntilThereIsRoom(t *testing.T) {
	dir := t.TempDir()
	spool, err := OpenSpool(dir)
	require.NoError(t, err)
	log, sink := &full{Spool: spool}, newTable()
	in, err := New(Options{Log: log, Sink: sink, MaxBytes: 1 << 30, Logger: slog.New(slog.DiscardHandler), Now: time.Now})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { assert.NoError(t, in.Run(ctx)); close(done) }()
	list := some(1, 40)
	accepted := 0
	for i, a := range list {
		log.is.Store(i%8 >= 4)
		_, err := in.Accept(t.Context(), []visit.QueuedVisit{a})
		if i%8 >= 4 {
			require.ErrorIs(t, err, ErrDisk)
			require.ErrorIs(t, err, syscall.ENOSPC)
			assert.False(t, in.Room())
			continue
		}
		require.NoError(t, err)
		accepted++
		assert.True(t, in.Room())
	}
	assert.False(t, in.Room())
	log.is.Store(false)
	assert.True(t, in.Room(), "without a visit that would have to be lost for it")
	_, last := in.Log.Bounds()
	require.NoError(t, in.Wait(t.Context(), last))
	assert.Len(t, sink.rows, accepted)
	assert.NoFileExists(t, filepath.Join(dir, "probe"))
	require.NoError(t, os.Rename(filepath.Join(dir, "log"), filepath.Join(dir, "away")))
	_, err = in.Accept(t.Context(), list[:1])
	if err == nil { // the file was open
		_, err = in.Accept(t.Context(), list[:1])
	}
	require.ErrorIs(t, err, ErrDisk)
	assert.False(t, in.Room(), "a spool that is gone takes nothing either")
	cancel()
	<-done
	_ = in.Close()
}

func TestWhatTheDatabaseRefusesIsSetApartAlone(t *testing.T) {
	sink := newTable()
	list := some(2, 500)
	bad := []uuid.UUID{list[0].Row.ID, list[133].Row.ID, list[499].Row.ID}
	sink.refuse = func(r visit.Row) bool { return slices.Contains(bad, r.ID) }
	in, _ := running(t, t.TempDir(), sink, 1<<30)
	index, err := in.Accept(t.Context(), list)
	require.NoError(t, err)
	require.NoError(t, in.Wait(t.Context(), index))
	assert.Len(t, sink.rows, 497)
	var apart []uuid.UUID
	for _, q := range sink.apart {
		a, err := q.Queued()
		require.NoError(t, err)
		apart = append(apart, a.Row.ID) // whole, so that it can be mended
		assert.NotEmpty(t, a.Facts)
		assert.Contains(t, q.Reason, "made up")
	}
	assert.Equal(t, bad, apart)
}

func TestTheSameIDWithOtherContentIsReported(t *testing.T) {
	sink := newTable()
	in, _ := running(t, t.TempDir(), sink, 1<<30)
	list := some(3, 1)
	other := list[0]
	other.Row.Path = "/other"
	third := list[0]
	third.Row.Path = "/third"
	for _, batch := range [][]visit.QueuedVisit{{list[0], other}, {list[0]}, {third}} {
		index, err := in.Accept(t.Context(), batch)
		require.NoError(t, err)
		require.NoError(t, in.Wait(t.Context(), index))
	}
	require.Len(t, sink.apart, 2)
	assert.NotEqual(t, sink.apart[0].ID, sink.apart[1].ID, "each is set apart for itself")
	for i, path := range []string{"/other", "/third"} {
		assert.Contains(t, sink.apart[i].Reason, "other content")
		a, err := sink.apart[i].Queued()
		require.NoError(t, err)
		assert.Equal(t, path, a.Row.Path, "and not the first, which won")
	}
	tally := in.State().Since
	assert.Equal(t, visit.QueueTally{Accepted: 4, Stored: 1, Duplicate: 3, Conflict: 2, Quarantine: 2}, tally)
}

// An entry of the spool that is damaged goes into quarantine as it is; the rest
// is stored.
func TestADamagedEntryIsSetApart(t *testing.T) {
	dir := t.TempDir()
	spool, err := OpenSpool(dir)
	require.NoError(t, err)
	_, err = spool.Append([]byte("this was never compressed"), 1)
	require.NoError(t, err)
	require.NoError(t, spool.Close())
	sink := newTable()
	in, _ := running(t, dir, sink, 1<<30)
	index, err := in.Accept(t.Context(), some(4, 2))
	require.NoError(t, err)
	require.NoError(t, in.Wait(t.Context(), index))
	assert.Len(t, sink.rows, 2)
	require.Len(t, sink.apart, 1)
	assert.Contains(t, string(sink.apart[0].Record), "never compressed")
}

func TestAStoppedIntakeTakesNothing(t *testing.T) {
	in, stop := running(t, t.TempDir(), newTable(), 1<<30)
	var group sync.WaitGroup
	for n := range 8 {
		group.Go(func() {
			for _, a := range some(uint64(n), 200) {
				if _, err := in.Accept(t.Context(), []visit.QueuedVisit{a}); err != nil {
					assert.ErrorIs(t, err, ErrStopped)
					return
				}
			}
		})
	}
	stop()
	group.Wait() // nobody waits for ever
	_, err := in.Accept(t.Context(), some(9, 1))
	require.True(t, errors.Is(err, ErrStopped))
}

// slow is a sink that takes its time, and says when it is asked.
type slow struct {
	*table
	release chan struct{}
}

func (s *slow) Insert(ctx context.Context, batch []visit.QueuedVisit) (visit.Outcome, error) {
	select {
	case s.asked <- struct{}{}:
	default:
	}
	select {
	case <-s.release:
	case <-ctx.Done():
		return visit.Outcome{}, ctx.Err()
	}
	return s.table.Insert(ctx, batch)
}

// Stopping while the queue drains ends at whatever moment, and nothing of what waits is lost
// or taken for damaged.
func TestStoppingWhileTheQueueDrains(t *testing.T) {
	dir := t.TempDir()
	fill, stop := running(t, dir, &slow{newTable(), make(chan struct{})}, 1<<30)
	accepted := map[uuid.UUID]bool{}
	for n := range 60 {
		list := some(uint64(n), 200)
		_, err := fill.Accept(t.Context(), list)
		require.NoError(t, err)
		for _, a := range list {
			accepted[a.Row.ID] = true
		}
	}
	stop()
	_, err := fill.Accept(t.Context(), some(99, 1))
	require.ErrorIs(t, err, ErrStopped)
	sink := &slow{newTable(), make(chan struct{})}
	for round := range 40 {
		in, stop := running(t, dir, sink, 1<<30)
		assert.GreaterOrEqual(t, in.State().Waiting, int64(len(accepted)-len(sink.rows)), "what is stored may be there still")
		for range round % 5 { // so many batches are stored before
			if in.State().Waiting > 0 {
				<-sink.asked
				sink.release <- struct{}{}
			}
		}
		stop() // a hang ends the whole test
	}
	close(sink.release)
	in, _ := running(t, dir, sink, 1<<30)
	_, last := in.Log.Bounds()
	require.NoError(t, in.Wait(t.Context(), last))
	assert.Empty(t, sink.apart)
	assert.Len(t, sink.rows, len(accepted))
}
