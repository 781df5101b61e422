package store

import (
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/companion"
)

// A span counts questions of one day or minute after the other.
type span struct{ every, last, asked int64 }

// on gives what was asked in the span of a moment: one that comes before the last is the same to it.
func (s *span) on(now int64) int64 {
	if now/s.every > s.last {
		return 0
	}
	return s.asked
}

func (s *span) count(now int64) {
	s.asked = s.on(now) + 1
	if ahead := s.last - now/s.every; ahead < 0 || ahead > 1 {
		s.last = now / s.every
	}
}

// TestAnAllowanceIsCountedOnce holds the count against a plain one in memory, by a clock that goes on, and
// is put back now and then.
func TestAnAllowanceIsCountedOnce(t *testing.T) {
	rows := open(t).Companions()
	random := rand.New(rand.NewPCG(21, 22))
	now, given := start.Unix(), 0
	day, minute := &span{every: 86_400}, &span{every: 60}
	for n := range 3000 {
		switch random.IntN(30) {
		case 0:
			now -= int64(random.IntN(90)) // a clock that is set right
		case 1:
			now += int64(random.IntN(86_400))
		default:
			now += int64(random.IntN(40))
		}
		c := companion.Claim{Day: time.Unix(now, 0).UTC().Truncate(24 * time.Hour), Minute: now / 60, MostDay: int64(random.IntN(25)), MostMinute: int64(1 + random.IntN(3))}
		want := day.on(now) < c.MostDay && minute.on(now) < c.MostMinute
		spent, ok, err := rows.Claim(t.Context(), site, "weather", c)
		require.NoError(t, err)
		require.Equal(t, want, ok, "%d: %+v", n, c)
		if ok {
			given++
			day.count(now)
			minute.count(now)
		}
		inDay, inMinute := spent.On(c.Day, c.Minute)
		require.Equal(t, [2]int64{day.on(now), minute.on(now)}, [2]int64{inDay, inMinute})
	}
	assert.Greater(t, given, 500)
	all, err := rows.Spent(t.Context())
	require.NoError(t, err)
	assert.Equal(t, day.asked, all[[2]string{site, "weather"}].Asked, "it stands after a restart")
}

func TestAnAllowanceWhenAClockWasFarAhead(t *testing.T) {
	rows := open(t).Companions()
	claim := func(at time.Time) (companion.Spent, bool) {
		s, ok, err := rows.Claim(t.Context(), site, "weather", companion.Claim{Day: at.Truncate(24 * time.Hour), Minute: at.Unix() / 60, MostDay: 3, MostMinute: 100})
		require.NoError(t, err)
		return s, ok
	}
	claim(start)
	_, ok := claim(start.AddDate(1, 0, 0))
	require.True(t, ok)
	s, ok := claim(start)
	require.True(t, ok)
	assert.Equal(t, int64(2), s.Asked, "nothing is given twice")
	_, ok = claim(start)
	require.True(t, ok)
	_, ok = claim(start)
	require.False(t, ok)
	_, ok = claim(start.AddDate(0, 0, 1))
	assert.True(t, ok, "and the next day is one")
}

// TestInstancesShareAnAllowance asks from many at once.
func TestInstancesShareAnAllowance(t *testing.T) {
	s := open(t)
	var given atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		rows := s.Companions()
		all.Go(func() {
			for range 50 {
				_, ok, err := rows.Claim(t.Context(), site, "weather", companion.Claim{Day: start.Truncate(24 * time.Hour), Minute: 7, MostDay: 123, MostMinute: 1000})
				assert.NoError(t, err)
				if ok {
					given.Add(1)
				}
			}
		})
	}
	all.Wait()
	assert.Equal(t, int64(123), given.Load())
}
