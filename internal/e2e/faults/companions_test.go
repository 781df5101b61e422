package faults

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/client"
	"eastporch/internal/core/companion"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// kill -9 between questions: the allowance of a day goes on where it was, at two instances as at one.
func TestFaultTheAllowanceIsCountedAcrossAKill(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	secret, err := demo.WeatherKey(dir)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	at, weather, err := demo.StartWeather(ctx, "127.0.0.1:0", secret)
	require.NoError(t, err)
	p := live.NewProcess(t, db.New(t))
	p.Args = append(p.Args, "--secrets", filepath.Join(dir, "secrets"), "--companions-fetch-inside", "true")
	p.Start()
	c, err := client.New(p.AdminURL, p.Key, nil)
	require.NoError(t, err)
	require.NoError(t, demo.Companions(t.Context(), c, at))
	const allowed = 9
	live.SaidAnew(t, c, func(s *companion.Said) { s.ADay, s.Reserve = allowed, 0 })
	try := func(lat int) companion.Tried {
		t.Helper()
		c, err := client.New(p.AdminURL, p.Key, nil)
		require.NoError(t, err)
		s, err := c.Companion(t.Context(), demo.Site, "weather")
		require.NoError(t, err)
		towns := []string{"Lisbon, PT", "Oslo, NO", "Mumbai, IN", "Auckland, NZ"}
		tries, err := c.TryCompanion(t.Context(), demo.Site, companion.Try{Name: "weather", Said: s.Said, Visitors: towns[lat%4 : lat%4+1], Ask: true})
		require.NoError(t, err)
		return tries.Results[0]
	}
	for n := range allowed {
		got := try(n)
		assert.NotNil(t, got.Answer.Category, "question %d: %v", n, got.Answer.Missing)
		if n%3 == 2 {
			p.Kill()
			p.Start()
		}
	}
	assert.Contains(t, try(0).Answer.Missing["wind"], "the 9 questions of today are used up")
	assert.Len(t, weather.Asked(), allowed)
	c, err = client.New(p.AdminURL, p.Key, nil)
	require.NoError(t, err)
	s, err := c.Companion(t.Context(), demo.Site, "weather")
	require.NoError(t, err)
	assert.Equal(t, companion.UsedUp, s.Standing)
	assert.Equal(t, int64(allowed), s.UsedToday)
	require.NoError(t, p.Stop())
	assert.NotContains(t, p.Output.String(), secret)
}
