package standin

import (
	"math"
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/locale"
)

// The invented rates of a day are always the same, change from day to day, stay near what
// they always are, and both forms of them can be read.
func TestRates(t *testing.T) {
	day := time.Date(2026, 11, 25, 15, 0, 0, 0, time.UTC)
	assert.Equal(t, RatesOn(day), RatesOn(day.Add(5*time.Hour)))
	assert.NotEqual(t, RatesOn(day), RatesOn(day.AddDate(0, 0, 1)))
	for n := range 400 {
		for code, text := range RatesOn(day.AddDate(0, 0, n)) {
			rate, err := strconv.ParseFloat(text, 64)
			require.NoError(t, err)
			assert.LessOrEqual(t, math.Abs(rate/around[code]-1), 0.031, code)
		}
	}
	handler := Rates(func() time.Time { return day })
	get := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		return w
	}
	fromJSON, err := locale.ReadRates(get("/rates.json").Body, "a test")
	require.NoError(t, err)
	fromCSV, err := locale.ReadRates(get("/rates.csv").Body, "a test")
	require.NoError(t, err)
	assert.Equal(t, fromJSON, fromCSV)
	assert.Len(t, fromCSV.Of, len(around)+1, "none is rejected, and the base is one of them")
	earlier, err := locale.ReadRates(get("/rates.csv?date=2026-11-20").Body, "a test")
	require.NoError(t, err)
	assert.Equal(t, "2026-11-20", earlier.Dated.Format(time.DateOnly))
	assert.Equal(t, http.StatusBadRequest, get("/rates.json?date=today").Code)
	assert.Equal(t, http.StatusNotFound, get("/").Code)
}
