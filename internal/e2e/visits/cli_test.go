package visits

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

// Where there is nothing to show but an error, no head of an empty table stands before it.
func TestErrorsHaveNoEmptyTable(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	for _, args := range [][]string{
		{"resolve", "nonsense"},
		{"resolve", "x", "y"},
		{"kind", "nonsense"},
		{"find", "nothing-there"},
		{"trail", "--peer", "x"},
		{"locale", "--country-code", "UK"},
		{"convert", "x", "--to", "JPY"},
		{"countries", "XX"},
		{"atlas", "diff", "nothere"},
		{"visits", "list", "--country-code", "UK"},
		{"report", "countries", "--country-code", "UK"},
		{"report", "timeline", "--unit", "x"},
		{"keys", "revoke", "x"},
	} {
		got := live.RunCLI(t, s, args...)
		assert.NotZero(t, got.Code, args)
		assert.Empty(t, got.Out, args)
		assert.NotEmpty(t, got.Err, args)
	}
}

func TestCommandsAskTheService(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	code, out, _ := live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "visits", "list")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "No visits yet.")
	s.Fill(t, 700)

	code, out, errs := live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "visits", "list", "--limit", "700", "-o", "ndjson")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, 700, strings.Count(out, "\n"), "pages are followed")
	_, out, _ = live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "visits", "list", "--country-code", "PT", "--limit", "2")
	assert.Contains(t, out, "matching visits; the site has 700.")
	s.Post(t, `{"site":"heronlake.example","path":"/","peer":"127.0.0.1"}`)
	s.Post(t, `{"site":"heronlake.example","path":"/","peer":"10.0.3.8"}`)
	_, out, _ = live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "visits", "list", "--skipped")
	assert.Contains(t, out, "this machine")
	assert.Contains(t, out, "private, skipped")
	code, _, errs = live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "visits", "list", "--country-code", "UK")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "did you mean GB?", "the same text as over HTTP")

	_, out, _ = live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "resolve", "198.18.3.40")
	assert.Contains(t, out, "disagrees on the country")
	code, _, errs = live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "resolve", "abc")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "Not a valid IP address")
	_, out, _ = live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "trail", "--peer", "203.0.113.4", "-H", "X-Forwarded-For: 198.18.3.40")
	assert.Contains(t, out, "The visitor is 198.18.3.40.")
}
