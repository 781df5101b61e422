package heap

import (
	"runtime"
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheRoomIsInAddToWhatIsInUse(t *testing.T) {
	for _, tt := range []struct{ live, room, want uint64 }{
		{16 << 20, 64 << 20, 400}, {64 << 20, 64 << 20, 100}, {1 << 30, 64 << 20, 100}, {1, 64 << 20, 10_000}, {0, 64 << 20, 100},
	} {
		assert.Equal(t, tt.want, percentFor(tt.live, tt.room), "%d in use", tt.live)
	}
}

var held [][]byte

// As much is allocated as the room holds, and nothing of it is collected; where much is in use, Go's own
// percentage holds again.
func TestGarbageIsLeftStandingUpToTheRoom(t *testing.T) {
	before := debug.SetGCPercent(usual)
	t.Cleanup(func() { debug.SetGCPercent(before) })
	tuned := &tuner{room: 256 << 20, percent: usual}
	now := func() int {
		runtime.GC()
		tuned.tune()
		percent := debug.SetGCPercent(usual)
		debug.SetGCPercent(percent)
		return percent
	}
	little := now()
	require.Greater(t, little, 10*usual)
	for range 300 {
		held = append(held, make([]byte, 1<<20))
	}
	assert.Equal(t, usual, now())
	held = nil
	runtime.GC()
	assert.Greater(t, now(), 10*usual)
}
