package lifecycle

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Random stages whose parts take random times to stop, some of them for ever, told to stop at
// random moments: Run returns within the grace; nothing is closed before every part of its stage
// and of later ones has returned; what was not closed is named.
func TestWhatIsUsedIsClosedLast(t *testing.T) {
	for seed := range uint64(500) {
		synctest.Test(t, func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 1))
			const grace = 10 * time.Second
			var mu sync.Mutex
			running := map[int]int{} // parts by stage
			closed := map[int]bool{}
			stages, stuck := New(), -1
			release := make(chan struct{})
			count := 2 + r.IntN(5)
			for i := range count {
				shut := func(context.Context) error {
					mu.Lock()
					defer mu.Unlock()
					for j := i; j < count; j++ {
						assert.Zero(t, running[j], "stage %d is closed, and a part of stage %d runs", i, j)
						assert.True(t, j == i || closed[j], "stage %d is closed before stage %d", i, j)
					}
					closed[i] = true
					return nil
				}
				st := stages.Add(fmt.Sprintf("stage %d", i), shut)
				for n := range r.IntN(4) {
					takes := time.Duration(r.IntN(400)) * time.Millisecond
					hangs := r.IntN(40) == 0
					if hangs {
						stuck = max(stuck, i)
					}
					early := r.IntN(5) == 0
					require.NoError(t, st.Go(fmt.Sprintf("part %d of stage %d", n, i), func(ctx context.Context) error {
						mu.Lock()
						running[i]++
						mu.Unlock()
						if hangs {
							<-release
						} else if !early {
							<-ctx.Done()
							<-time.After(takes)
						}
						mu.Lock()
						running[i]--
						mu.Unlock()
						return nil
					}))
				}
			}
			ctx, cancel := context.WithTimeout(t.Context(), time.Duration(r.IntN(2000))*time.Millisecond)
			defer cancel()
			done := make(chan error, 1)
			go func() { done <- stages.Run(ctx, grace) }()
			<-ctx.Done()
			told := time.Now()
			err := <-done
			assert.LessOrEqual(t, time.Since(told), grace)
			for i := range count {
				assert.Equal(t, i > stuck, closed[i], "stage %d, stuck is %d", i, stuck)
			}
			if stuck < 0 {
				assert.NoError(t, err)
			} else {
				assert.ErrorContains(t, err, fmt.Sprintf("of stage %d", stuck))
			}
			close(release)
			<-time.After(time.Minute) // of the bubble: all parts return
		})
	}
}

func TestAPartThatFailsEndsTheService(t *testing.T) {
	t.Parallel()
	stages := New()
	closed := false
	st := stages.Add("it", func(context.Context) error { closed = true; return nil })
	require.NoError(t, st.Go("waits", func(ctx context.Context) error { <-ctx.Done(); return ctx.Err() }))
	broken := errors.New("broken")
	require.NoError(t, st.Go("fails", func(context.Context) error { return broken }))
	err := stages.Run(t.Context(), time.Minute)
	require.ErrorIs(t, err, broken)
	assert.True(t, closed)
	assert.ErrorIs(t, st.Go("late", nil), ErrStopped)
}

// A process of ours is stopped although something hangs; the rest is left alone.
func TestAProcessIsStoppedInAnyCase(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		stages := New()
		var closed []string
		note := func(name string) func(context.Context) error {
			return func(context.Context) error { closed = append(closed, name); return nil }
		}
		stages.AddProcess("database", note("database"))
		stages.Add("store", note("store"))
		release := make(chan struct{})
		require.NoError(t, stages.Add("jobs", note("jobs")).Go("a job", func(context.Context) error { <-release; return nil }))
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		require.ErrorContains(t, stages.Run(ctx, time.Second), "did not stop in time: a job")
		assert.Equal(t, []string{"database"}, closed)
		close(release)
	})
}

// Parts that begin while a service runs are waited for like all others.
func TestPartsMayBeginLater(t *testing.T) {
	t.Parallel()
	stages := New()
	closed := make(chan struct{})
	st := stages.Add("it", func(context.Context) error { close(closed); return nil })
	ctx, cancel := context.WithCancel(t.Context())
	began, ended := make(chan struct{}), make(chan struct{})
	require.NoError(t, st.Go("first", func(context.Context) error {
		return st.Go("second", func(ctx context.Context) error {
			close(began)
			<-ctx.Done()
			close(ended)
			return nil
		})
	}))
	done := make(chan error, 1)
	go func() { done <- stages.Run(ctx, time.Minute) }()
	<-began
	cancel()
	require.NoError(t, <-done)
	<-ended
	<-closed
}
