package rates

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/locale"
	"eastporch/internal/demo/standin"
)

func feed(t *testing.T, opt Options, now func() time.Time) (*Feed, *int) {
	t.Helper()
	times := 0
	return New(opt, now, func(locale.Rates) { times++ }), &times
}

func TestOldRatesStandWhereNewOnesFail(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	away := false
	source := standin.Rates(func() time.Time { return now })
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away {
			http.Error(w, "away", http.StatusBadGateway)
			return
		}
		source.ServeHTTP(w, r)
	}))
	defer server.Close()
	opt := Options{URL: server.URL + "/rates.json", Source: "Regatta bank", Dir: t.TempDir(), Inside: true, StaleDays: 4}
	k, times := feed(t, opt, func() time.Time { return now })
	require.NoError(t, k.Read(t.Context()))
	assert.Equal(t, "EUR", k.State().Rates.Base)
	assert.Equal(t, "2026-11-25", k.State().Rates.Dated.Format(time.DateOnly))
	assert.Contains(t, k.State().Rates.Of, "JPY")

	away = true
	assert.ErrorContains(t, k.Read(t.Context()), "502")
	assert.Contains(t, k.State().Problem, "502")
	assert.Equal(t, "EUR", k.State().Rates.Base, "the old ones stand")
	assert.False(t, k.Stale(now.AddDate(0, 0, 4)))
	assert.True(t, k.Stale(now.AddDate(0, 0, 5)))
	assert.Equal(t, 1, *times)

	again, _ := feed(t, opt, func() time.Time { return now }) // after a restart
	assert.ErrorContains(t, again.Read(t.Context()), "502")
	assert.Equal(t, "EUR", again.State().Rates.Base, "those that were fetched last")

	away, now = false, now.AddDate(0, 0, 1)
	require.NoError(t, again.Read(t.Context()))
	assert.Equal(t, "2026-11-26", again.State().Rates.Dated.Format(time.DateOnly))
	assert.Empty(t, again.State().Problem)
}

func TestRatesFromAFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "rates.csv")
	k, _ := feed(t, Options{File: file, Source: "by hand"}, time.Now)
	assert.ErrorContains(t, k.Read(t.Context()), "no such file")
	out, err := os.Create(file)
	require.NoError(t, err)
	standin.WriteRates(out, time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC))
	require.NoError(t, out.Close())
	require.NoError(t, k.Read(t.Context()))
	require.NoError(t, os.WriteFile(file, []byte("date,base,currency,rate\n2026-11-21,EUR,JPY,0\n"), 0o600))
	assert.ErrorContains(t, k.Read(t.Context()), "line 2")
	assert.Equal(t, "2026-11-20", k.State().Rates.Dated.Format(time.DateOnly), "the old ones stand")
	none, _ := feed(t, Options{}, time.Now)
	assert.ErrorIs(t, none.Read(t.Context()), ErrNone)
}

func TestOnlyPublicAddressesAreFetchedFrom(t *testing.T) {
	server := httptest.NewServer(standin.Rates(time.Now))
	defer server.Close()
	k, _ := feed(t, Options{URL: server.URL + "/rates.csv", Dir: t.TempDir()}, time.Now)
	assert.ErrorContains(t, k.Read(t.Context()), "rates.fetch_inside allows it")
}
