package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var complete = First{
	Site: "heronlake.example", Zone: "Europe/Oslo", Proxies: []string{"127.0.0.1/32", "::1/128"},
	Source: &FirstSource{Name: "ranges.csv", File: "/srv/ranges.csv", Format: "csv", Columns: [][2]string{{"range", "net: work"}, {"country_code", "cc"}}},
}

// loaded is a configuration as the service reads it.
func loaded(t *testing.T, text []byte) *Config {
	t.Helper()
	file := filepath.Join(t.TempDir(), "eastporch.yaml")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	cfg, err := Load(Input{File: file, Getenv: func(string) string { return "" }})
	require.NoError(t, err, string(text))
	return cfg
}

func TestAFirstConfigurationIsUsable(t *testing.T) {
	text, err := Edit(nil, complete)
	require.NoError(t, err)
	cfg := loaded(t, text)
	assert.Equal(t, []any{"heronlake.example", "Europe/Oslo"}, []any{cfg.Sites[0].Host, cfg.Sites[0].TimeZone})
	assert.Equal(t, complete.Proxies, cfg.Proxies.Trusted)
	source := cfg.Atlas.Sources[0]
	assert.Equal(t, []any{"ranges.csv", "/srv/ranges.csv", "csv", 1}, []any{source.Name, source.File, source.Format, source.Rank})
	assert.Equal(t, map[string]string{"range": "net: work", "country_code": "cc"}, source.Columns)
	assert.True(t, strings.HasPrefix(string(text), "# East Porch."))
	assert.NotContains(t, string(text), "No range data yet")
}

func TestWithoutRangeDataItSaysWhatToDo(t *testing.T) {
	text, err := Edit(nil, First{Site: "heronlake.example"})
	require.NoError(t, err)
	loaded(t, text)
	assert.Equal(t, 1, strings.Count(string(text), "eastporch init --ranges FILE"))
	again, err := Edit(text, First{Proxies: []string{"127.0.0.1/32"}})
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(again), "eastporch init --ranges FILE"))
	with, err := Edit(again, First{Source: complete.Source})
	require.NoError(t, err)
	assert.NotContains(t, string(with), "No range data yet")
	loaded(t, with)
}

// Columns that the owner named stay while the file is the same, and go with it.
func TestNamedColumnsStayWithTheirFile(t *testing.T) {
	own := []byte("sites: [{ host: localhost }]\natlas:\n  sources:\n    - { name: ranges.csv, file: /srv/ranges.csv, format: csv, rank: 1, columns: { range: network, country_code: state } }\n")
	again, err := Edit(own, First{Source: complete.Source})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"range": "network", "country_code": "state"}, loaded(t, again).Atlas.Sources[0].Columns)
	other := *complete.Source
	other.File = "/srv/new/ranges.csv"
	moved, err := Edit(own, First{Source: &other})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"range": "net: work", "country_code": "cc"}, loaded(t, moved).Atlas.Sources[0].Columns)
}

// What an owner wrote stays: comments, order, and every key that is not asked for.
func TestAnOwnersConfigurationStays(t *testing.T) {
	own := `# ours, since 2024
log: { level: debug } # while we look
limits:
  # the crew's own app asks a lot
  visitor_per_second: 40
sites:
  - host: harbour.example # the first
    name: Harbour
    privacy: hashed
proxies:
  header: X-Real-IP
  trusted: [10.0.0.0/8] # the balancer
`
	text, err := Edit([]byte(own), complete)
	require.NoError(t, err)
	for _, line := range []string{"# ours, since 2024", "# while we look", "# the crew's own app asks a lot", "# the first", "# the balancer"} {
		assert.Equal(t, 1, strings.Count(string(text), line), line)
	}
	at := -1
	for _, key := range []string{"log:", "limits:", "sites:", "harbour.example", "heronlake.example", "proxies:", "atlas:"} {
		i := strings.Index(string(text), key)
		assert.Greater(t, i, at, key)
		at = i
	}
	cfg := loaded(t, text)
	assert.Equal(t, []any{"debug", 40, "X-Real-IP", "hashed"}, []any{cfg.Log.Level, cfg.Limits.VisitorPerSecond, cfg.Proxies.Header, cfg.Sites[0].Privacy})
	assert.Equal(t, []string{"10.0.0.0/8", "127.0.0.1/32", "::1/128"}, cfg.Proxies.Trusted)

	same, err := Edit(text, complete)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(same), "a second time changes nothing")
	nothing, err := Edit(text, First{})
	require.NoError(t, err)
	assert.Equal(t, string(text), string(nothing))
}

func TestWhatIsNoConfigurationIsRefused(t *testing.T) {
	for _, bad := range []string{"- a\n- b\n", "a: [1\n", "just text"} {
		_, err := Edit([]byte(bad), complete)
		require.Error(t, err, bad)
	}
}
