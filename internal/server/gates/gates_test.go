package gates

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/gate"
)

var now = time.Date(2026, 11, 28, 12, 7, 0, 0, time.UTC)

// rows keep counts in memory, by slot; away is what every call fails with.
type rows struct {
	decided
	counts   map[gate.CountKey]int64
	refusals int
	ended    bool
	used     map[string]bool
	away     error
}

func (r *rows) AddCounts(_ context.Context, counts map[gate.CountKey]int64, refusals []gate.Refused) error {
	if r.away != nil {
		return r.away
	}
	for k, n := range counts {
		r.counts[k] += n
	}
	r.refusals += len(refusals)
	return nil
}

func (r *rows) UseOnce(_ context.Context, number string, _ time.Time) (bool, error) {
	before := r.used[number]
	r.used[number] = true
	return !before, r.away
}

func (r *rows) InForce(context.Context, uuid.UUID) (bool, error) { return !r.ended, r.away }

func (r *rows) Counts(_ context.Context, site string, from, to time.Time) (map[gate.CountKey]int64, error) {
	found := map[gate.CountKey]int64{}
	for k, n := range r.counts {
		if k.Site == site && !k.Slot.Before(from) && k.Slot.Before(to) {
			found[k] += n
		}
	}
	return found, nil
}

func made() (*rows, *Counter, *time.Time) {
	r, at := &rows{counts: map[gate.CountKey]int64{}, used: map[string]bool{}}, now
	return r, NewCounter(r, r, []byte("secret"), slog.New(slog.DiscardHandler), func() time.Time { return at }), &at
}

func decision(outcome gate.Outcome) *gate.Decision {
	name := "Early entry"
	return &gate.Decision{Outcome: outcome, Would: outcome, Mode: gate.On, Gate: &name, By: gate.ByList, Reason: "why"}
}

func TestCountsWaitForTheDatabase(t *testing.T) {
	r, c, _ := made()
	observed := int64(0)
	c.Observe = func(_ *gate.CountKey, n int64) { observed += n }
	assert.Empty(t, c.Count("a", gate.AskedRequest, &gate.Decision{By: gate.ByNothing}, 403, "PT", "/"), "where no gate stands nothing is counted")
	r.away = errors.New("away")
	for range 3 {
		assert.NotEmpty(t, c.Count("a", gate.AskedRequest, decision(gate.Refuse), 451, "PT", "/early"))
		require.Error(t, c.Flush(t.Context()))
	}
	assert.Empty(t, c.Count("a", gate.AskedRequest, decision(gate.Admit), 0, "PT", "/early"))
	r.away = nil
	require.NoError(t, c.Flush(t.Context()))
	require.NoError(t, c.Flush(t.Context()))
	assert.Equal(t, 3, r.refusals)
	assert.EqualValues(t, 4, observed, "each is told of once")
	slot := now.Truncate(15 * time.Minute)
	assert.Equal(t, map[gate.CountKey]int64{
		{Site: "a", Slot: slot, Asked: "request", Gate: "Early entry", By: "list", Outcome: "refuse", CountryCode: "PT", Path: "/early"}: 3,
		{Site: "a", Slot: slot, Asked: "request", Gate: "Early entry", By: "list", Outcome: "admit", CountryCode: "PT"}:                  1,
	}, r.counts)
}

func TestWhatIsCountedLastIsWrittenWhenItStops(t *testing.T) {
	r, c, _ := made()
	ctx, stop := context.WithCancel(t.Context())
	c.Count("a", gate.AskedRequest, decision(gate.Refuse), 451, "PT", "/early")
	stop()
	require.NoError(t, c.Run(ctx))
	assert.Len(t, r.counts, 1)
}

func TestReferencesLastTenMinutes(t *testing.T) {
	_, c, at := made()
	text := c.Count("a", gate.AskedRequest, decision(gate.Refuse), 451, "PT", "/early")
	got, err := c.Reference(text)
	require.NoError(t, err)
	assert.Equal(t, []any{"a", "Early entry", "PT", 451}, []any{got.Site, got.Gate, got.CountryCode, got.Status})
	assert.Regexp(t, `^[0-9A-HJKMNP-TV-Z]{4}-[0-9A-HJKMNP-TV-Z]{4}$`, got.Code)
	_, err = c.Reference(c.PassLink("a", uuid.New()))
	require.ErrorIs(t, err, ErrReference, "what was signed for something else is none")
	*at = at.Add(referenceFor + time.Second)
	_, err = c.Reference(text)
	require.ErrorIs(t, err, ErrReference)
}

func TestPassesEndWithTheirSession(t *testing.T) {
	r, c, at := made()
	link := c.PassLink("a", uuid.New())
	pass, site, _, err := c.SpendLink(t.Context(), link)
	require.NoError(t, err)
	assert.Equal(t, "a", site)
	_, _, _, err = c.SpendLink(t.Context(), link)
	require.ErrorIs(t, err, ErrPass, "a link is good once")
	assert.True(t, c.Passes(t.Context(), pass, "a"))
	assert.False(t, c.Passes(t.Context(), pass, "b"), "of another site")
	assert.False(t, c.Passes(t.Context(), link, "a"))
	assert.False(t, c.Passes(t.Context(), "", "a"))
	r.ended = true
	*at = at.Add(2 * aliveFor)
	assert.False(t, c.Passes(t.Context(), pass, "a"), "its session was ended")
	r.ended = false
	*at = at.Add(2 * aliveFor)
	assert.True(t, c.Passes(t.Context(), pass, "a"))
	r.away = errors.New("away")
	*at = at.Add(2 * aliveFor)
	assert.False(t, c.Passes(t.Context(), pass, "a"), "what cannot be looked at is none")
	r.away = nil
	*at = at.Add(passFor)
	assert.False(t, c.Passes(t.Context(), pass, "a"), "it is over")
	_, _, _, err = c.SpendLink(t.Context(), c.PassLink("a", uuid.New()))
	require.NoError(t, err)
	late := c.PassLink("a", uuid.New())
	*at = at.Add(linkFor)
	_, _, _, err = c.SpendLink(t.Context(), late)
	require.ErrorIs(t, err, ErrPass)
}

func TestAlarms(t *testing.T) {
	key := func(back time.Duration, outcome, missing string) gate.CountKey {
		return gate.CountKey{Site: "a", Slot: now.Add(-back).Truncate(15 * time.Minute), Asked: gate.AskedRequest, Gate: "g", Outcome: outcome, Missing: missing}
	}
	for name, c := range map[string]struct {
		counts map[gate.CountKey]int64
		want   []string
	}{
		"nothing":            {nil, []string{}},
		"few refusals":       {map[gate.CountKey]int64{key(0, "refuse", ""): 19}, []string{}},
		"a jump":             {map[gate.CountKey]int64{key(0, "refuse", ""): 40, key(30*time.Hour, "refuse", ""): 167 * 10}, []string{"refusals"}},
		"as many as ever":    {map[gate.CountKey]int64{key(0, "refuse", ""): 40, key(30*time.Hour, "refuse", ""): 167 * 20}, []string{}},
		"the first refusals": {map[gate.CountKey]int64{key(0, "refuse", ""): 40}, []string{"refusals"}},
		"locations missing":  {map[gate.CountKey]int64{key(0, "admit", "no_data"): 30, key(0, "admit", ""): 70, key(30*time.Hour, "admit", ""): 500}, []string{"missing"}},
		"missing as usual":   {map[gate.CountKey]int64{key(0, "admit", "unknown"): 30, key(0, "admit", ""): 70, key(30*time.Hour, "admit", "unknown"): 150, key(30*time.Hour, "admit", ""): 350}, []string{}},
	} {
		r, counter, _ := made()
		r.counts = c.counts
		alarms, err := NewRulebook(Options{Store: r, Counter: counter, Now: func() time.Time { return now }}).Alarms(t.Context(), "a")
		require.NoError(t, err)
		kinds := []string{}
		for _, a := range alarms {
			kinds = append(kinds, a.Kind)
			assert.NotEmpty(t, a.Text)
		}
		assert.Equal(t, c.want, kinds, name)
	}
}

// The rows of a simulation add up to its sum, however many countries and paths there are.
func TestASimulationNamesTheRest(t *testing.T) {
	random := rand.New(rand.NewPCG(33, 5))
	for _, paths := range []int{3, 50, 51, 52, 400} {
		draft := gate.New(gate.Rules{Gates: []gate.Gate{{Name: "all", Path: "/**", Mode: gate.On, List: gate.Allow, Missing: gate.Missing{Unknown: gate.Refuse}}}}, gate.Known{})
		s := newSimulation(draft, nil, time.UTC)
		all, codes := almanac.All(), map[string]bool{}
		for range 3000 {
			p := gate.Past{Time: now, Path: fmt.Sprintf("/%d", random.IntN(paths)), Counted: true, Edition: "an edition"}
			if random.IntN(10) > 0 {
				code := all[random.IntN(len(all))].Code
				p.CountryCode, codes[code] = &code, true
			}
			s.add(&p)
		}
		var a api.GateSimulation
		s.into(&a)
		require.Equal(t, 3000, a.Draft)
		sum := func(rows []api.GateSimulated) (n int) {
			for _, row := range rows {
				n += row.Draft
			}
			return n
		}
		assert.Equal(t, a.Draft, sum(a.Countries)+a.Missing.Draft)
		assert.Len(t, a.Countries, len(codes), "each of them by name")
		assert.Equal(t, a.Draft, sum(a.Paths))
		assert.LessOrEqual(t, len(a.Paths), listed+1)
	}
}
