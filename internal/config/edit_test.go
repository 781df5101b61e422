package config

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
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

// Whatever a configuration looks like, what its owner wrote stays to the letter: nothing but
// what is new differs, and the service reads both alike.
func TestTheOwnersSpellingStays(t *testing.T) {
	r := rand.New(rand.NewPCG(33, 7))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	const tried = 400
	twice := 0
	for range tried {
		parts := []string{
			pick("", "# my own\n", "\n\n# two lines\n# of it\n"),
			pick("", "\"data_dir\":   './data'   # here\n", "data_dir: ./data\n", "data_dir: \"./da ta\"#no comment\n"),
			pick("", "sites:\n    -   host:  'harbour.example'   # quoted\n        name: \"Heron  Lake\"\n        languages: [ \"en\" , pt  ]\n",
				"sites:\n- host: harbour.example\n  name: >-\n    folded\n    name\n\n", "sites: [ {host: harbour.example, name: 'It''s, here]'} ,\n  {host: second.example} ]\n",
				"sites:\n  - {host: heronlake.example}  # the same\n  # - host: old.example\n", "sites: [\n  {host: harbour.example},\n]\n"),
			pick("", "proxies: { trusted: [ 127.0.0.1 ] }\n", "proxies:\n  trusted:\n  - 203.0.113.0/28 # ours\n  header: X-Real-IP\n", "proxies:\n    header:   X-Forwarded-For # it is\n"),
			pick("", "atlas:\n   sources:\n   -  name: own.csv\n      file: /srv/own.csv\n      format: geofeed\n      rank: 7\n",
				"atlas:\n  activate: manual\n", "atlas: {sources: [{name: ranges.csv, file: /srv/old.csv, format: csv, rank: 1, columns: {range: net}}]}\n",
				"atlas:\n  sources:\n    - name: ranges.csv\n      file: '/srv/old.csv'   # before\n      format: csv\n      rank: 1\n"),
			pick("", "log:\n  level:   info\n", "log: {level: 'debug' }\n\n# the end"),
		}
		r.Shuffle(5, func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		text := strings.Join(parts, "")
		var before map[string]any
		require.NoError(t, yaml.Unmarshal([]byte(text), &before), text)
		first := complete
		if r.IntN(3) == 0 {
			first.Source = nil
		}
		if r.IntN(3) == 0 {
			first.DataDir = "/var/lib/east porch"
		}
		edited, err := Edit([]byte(text), first)
		require.NoError(t, err, text)
		after := loaded(t, edited) // which also says that nothing is there twice
		assert.True(t, slices.ContainsFunc(after.Sites, func(s Site) bool { return s.Host == "heronlake.example" }), text)

		// Each of the owner's lines stands there, in order: whole, or with something put in.
		rest, whole := strings.Split(string(edited), "\n"), true
		for line := range strings.Lines(text) {
			line = strings.TrimSuffix(line, "\n")
			at := slices.IndexFunc(rest, func(l string) bool { return l == line || holds(l, line) })
			if at < 0 {
				whole = false
				break
			}
			rest = rest[at+1:]
		}
		if !whole {
			twice++
		}
		again, err := Edit(edited, first)
		require.NoError(t, err)
		assert.Equal(t, string(edited), string(again), "twice is once, of\n%s", text)
	}
	t.Logf("%d configurations, %d of them with more than one thing put into a line", tried, twice)
	assert.Less(t, twice, tried/10)
}

// holds says whether a line has all of another in order, but for the values that were replaced.
func holds(line, other string) bool {
	if start, _, ok := strings.Cut(other, "file: /srv/old.csv, format: csv, rank: 1, columns: {range: net}"); ok {
		return strings.HasPrefix(line, start) && strings.HasSuffix(line, "}]}")
	}
	for _, old := range []string{"'/srv/old.csv'", "/srv/old.csv", "'./data'", "./data", `"./da ta"`} {
		if key, comment, ok := strings.Cut(other, old); ok && strings.HasPrefix(line, key) && strings.HasSuffix(line, comment) {
			return true
		}
	}
	for i := range len(other) {
		if strings.HasPrefix(line, other[:i]) && strings.HasSuffix(line, other[i:]) && strings.TrimSpace(other) != "" && i > 0 {
			return true
		}
	}
	return false
}
