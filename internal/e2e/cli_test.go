package e2e

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/cli"
	"eastporch/internal/cli/terminal"
)

// run runs a command in-process and gives what it wrote.
func run(t *testing.T, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	return runIn(t, t.TempDir(), in, args...)
}

// runIn runs a command of a user with a home directory.
func runIn(t *testing.T, home, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = cli.Run(t.Context(), terminal.System{
		Args: args, Getenv: func(k string) string { return map[string]string{"HOME": home}[k] }, In: strings.NewReader(in), Out: &stdout, Err: &stderr,
	})
	return code, stdout.String(), stderr.String()
}

// Where there is nothing to show but an error, no head of an empty table stands before it.
func TestErrorsHaveNoEmptyTable(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
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
		got := runCLI(t, s, args...)
		assert.NotZero(t, got.code, args)
		assert.Empty(t, got.out, args)
		assert.NotEmpty(t, got.err, args)
	}
}

func TestCommandsAskTheService(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	code, out, _ := run(t, "", "--server", s.adminURL, "--key", s.admin, "visits", "list")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "No visits yet.")
	s.fill(t, 700)

	code, out, errs := run(t, "", "--server", s.adminURL, "--key", s.admin, "visits", "list", "--limit", "700", "-o", "ndjson")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, 700, strings.Count(out, "\n"), "pages are followed")
	_, out, _ = run(t, "", "--server", s.adminURL, "--key", s.admin, "visits", "list", "--country-code", "PT", "--limit", "2")
	assert.Contains(t, out, "matching visits; the site has 700.")
	s.post(t, `{"site":"heronlake.example","path":"/","peer":"127.0.0.1"}`)
	s.post(t, `{"site":"heronlake.example","path":"/","peer":"10.0.3.8"}`)
	_, out, _ = run(t, "", "--server", s.adminURL, "--key", s.admin, "visits", "list", "--skipped")
	assert.Contains(t, out, "this machine")
	assert.Contains(t, out, "private, skipped")
	code, _, errs = run(t, "", "--server", s.adminURL, "--key", s.admin, "visits", "list", "--country-code", "UK")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "did you mean GB?", "the same text as over HTTP")

	_, out, _ = run(t, "", "--server", s.adminURL, "--key", s.admin, "resolve", "198.18.3.40")
	assert.Contains(t, out, "disagrees on the country")
	code, _, errs = run(t, "", "--server", s.adminURL, "--key", s.admin, "resolve", "abc")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "Not a valid IP address")
	_, out, _ = run(t, "", "--server", s.adminURL, "--key", s.admin, "trail", "--peer", "203.0.113.4", "-H", "X-Forwarded-For: 198.18.3.40")
	assert.Contains(t, out, "The visitor is 198.18.3.40.")
}
