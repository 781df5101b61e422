package store

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/server/refused"
	"eastporch/internal/testkit/db"
)

// Whatever is counted when: sums by hour stay while slots grow old, and what is older than seven days is gone.
func TestRefusedRequestsAreAddedUpByHours(t *testing.T) {
	t.Parallel()
	s, err := Open(t.Context(), db.New(t), 0)
	require.NoError(t, err)
	defer s.Close()
	r := rand.New(rand.NewPCG(32, 10))
	now := time.Date(2026, 12, 1, 17, 42, 0, 0, time.UTC)
	keys := []refused.Key{{Kind: refused.Origin, Site: "a.example", Detail: "https://b.example"}, {Kind: refused.BadKey}, {Kind: refused.Host, Detail: "www.a.example"}}
	want := map[refused.Slot]int64{} // by hours
	for range 40 {
		counts, examples := map[refused.Slot]int64{}, map[refused.Key]refused.Example{}
		for range 20 {
			of, at := keys[r.IntN(3)], now.Add(-time.Duration(r.Int64N(int64(8*24*time.Hour)))).Truncate(5*time.Minute)
			n := r.Int64N(9) + 1
			counts[refused.Slot{Key: of, Time: at}] += n
			examples[of] = refused.Example{Time: at, Route: "/v1/visits", Status: 403}
			if !at.Before(now.Add(-refusedFor)) {
				want[refused.Slot{Key: of, Time: at.Truncate(time.Hour)}] += n
			}
		}
		require.NoError(t, s.AddRefused(t.Context(), counts, examples))
		_, err := s.Maintain(t.Context(), now)
		require.NoError(t, err)
	}
	got, examples, err := s.Refused(t.Context(), now.Add(-refusedFor))
	require.NoError(t, err)
	sums, old := map[refused.Slot]int64{}, 0
	for at, n := range got {
		sums[refused.Slot{Key: at.Key, Time: at.Time.Truncate(time.Hour)}] += n
		if at.Time.Before(now.Add(-refusedFine - time.Hour)) {
			old++
			assert.Equal(t, at.Time.Truncate(time.Hour), at.Time)
		}
	}
	for at := range want { // the hour in which the week begins is cut
		if at.Time.Before(now.Add(-refusedFor)) {
			delete(want, at)
			delete(sums, at)
		}
	}
	assert.Equal(t, want, sums)
	assert.LessOrEqual(t, old, 3*24*7)
	assert.Len(t, examples, 3)
	assert.Equal(t, 403, examples[keys[0]].Status)
}
