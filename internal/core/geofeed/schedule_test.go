package geofeed

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhenFeedsAreAskedForAgain(t *testing.T) {
	r := rand.New(rand.NewPCG(9632, 2))
	hours := map[int]int{}
	for range 5000 {
		now := time.Unix(1_795_000_000+r.Int64N(1e8), 0)
		fresh := time.Duration(r.Int64N(int64(60*day))) - 2*time.Second
		failures := max(0, r.IntN(12)-6)
		host := fmt.Sprintf("%d.example", r.IntN(500))
		at := Next(now, fresh, failures, host, "here")
		least := map[bool]time.Duration{true: unsaid, false: min(max(fresh, day), longest)}[fresh < 0]
		if failures > 0 {
			least = []time.Duration{1: day, 2: 2 * day, 3: 4 * day, 4: 8 * day, 5: 8 * day}[failures]
		}
		assert.False(t, at.Before(now.Add(least)), "%s %s %d", now, fresh, failures)
		assert.True(t, at.Before(now.Add(least+day)), "%s %s %d", now, fresh, failures)
		again := Next(now.Add(time.Hour), fresh, failures, host, "here")
		assert.Equal(t, at.Unix()%86400, again.Unix()%86400, "a host has its own time of day")
		hours[at.Hour()]++
	}
	assert.Len(t, hours, 24, "they are spread")
	assert.NotEqual(t, Next(time.Unix(0, 0), -1, 0, "a.example", "here").Unix()%86400, Next(time.Unix(0, 0), -1, 0, "a.example", "there").Unix()%86400)
}
