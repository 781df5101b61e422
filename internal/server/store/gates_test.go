package store

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/gate"
	"eastporch/internal/server/store/gaterows"
	"eastporch/internal/testkit/db"
)

func TestNumbersAndTheSecret(t *testing.T) {
	t.Parallel()
	s, err := Open(t.Context(), db.New(t), 0)
	require.NoError(t, err)
	defer s.Close()
	rows, at := s.Gates(), time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)
	number := uuid.NewString()
	for _, want := range []bool{true, false} {
		fresh, err := rows.UseOnce(t.Context(), number, at)
		require.NoError(t, err)
		assert.Equal(t, want, fresh)
	}
	first, err := rows.Secret(t.Context(), []byte("one"))
	require.NoError(t, err)
	again, err := rows.Secret(t.Context(), []byte("another"))
	require.NoError(t, err)
	assert.Equal(t, first, again, "all instances sign alike")
}

func TestGateCounts(t *testing.T) {
	t.Parallel()
	s, err := Open(t.Context(), db.New(t), 0)
	require.NoError(t, err)
	defer s.Close()
	rows, at := s.Gates(), time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)
	key := gate.CountKey{Site: "a", Slot: at, Asked: gate.AskedRequest, Gate: "Früh", Rule: 1, By: gate.ByRule, Outcome: "refuse", CountryCode: "PT", Path: "/early"}
	require.NoError(t, rows.AddCounts(t.Context(), map[gate.CountKey]int64{key: 2}, []gate.Refused{{Reference: "5F2K-81QD", Time: at, Site: "a", Gate: "Früh", Rule: 1, Reason: "why", CountryCode: "PT", Path: "/early"}}))
	many := map[gate.CountKey]int64{key: 3}
	for n := range 1500 { // whoever makes up paths does not make the table grow
		k := key
		k.Path, k.Slot = fmt.Sprintf("/early/%d", n), at.Add(15*time.Minute)
		many[k] = 1
	}
	require.NoError(t, rows.AddCounts(t.Context(), many, nil))
	counts, err := rows.Counts(t.Context(), "a", at, at.Add(time.Hour))
	require.NoError(t, err)
	sum, others := int64(0), int64(0)
	for k, n := range counts {
		sum += n
		if k.Path == "\x02" {
			others = n
		}
	}
	assert.EqualValues(t, 1505, sum)
	assert.EqualValues(t, 501, others)
	assert.Len(t, counts, 1001)
	early, err := rows.Counts(t.Context(), "a", at, at.Add(15*time.Minute))
	require.NoError(t, err)
	key.Slot = time.Time{}
	assert.Equal(t, map[gate.CountKey]int64{key: 5}, early)
	found, err := rows.Refused(t.Context(), "a", "5F2K-81QD")
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "why", found[0].Reason)
	require.NoError(t, pgx.BeginFunc(t.Context(), s.pool, func(tx pgx.Tx) error {
		return gaterows.Maintain(t.Context(), tx, at.AddDate(0, 2, 0), at.AddDate(0, 1, 0))
	}))
	counts, err = rows.Counts(t.Context(), "a", at, at.Add(time.Hour))
	require.NoError(t, err)
	assert.Empty(t, counts)
}
