package atlas

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"eastporch/internal/demo"
	"eastporch/internal/testkit/live"
)

// The atlas on files, without a service.
func TestAtlasCommandsOffline(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	config, err := demo.Write(dir)
	require.NoError(t, err)
	in := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(in("good.csv"), []byte("198.18.3.40,PT\n198.18.200.1,NONE\n"), 0o600))
	require.NoError(t, os.WriteFile(in("wrong.csv"), []byte("198.18.3.40,ES\n"), 0o600))
	require.NoError(t, os.WriteFile(in("nonsense"), []byte("hello\nworld\n"), 0o600))

	// The sources of a configuration, and then one of them as it is two weeks later.
	now, then := in("now.edition"), in("then.edition")
	code, out, notes := live.Run(t, "", "atlas", "build", "--config", config, "--out", now, "--rejects", in("rejects.jsonl"))
	require.Zero(t, code, notes)
	assert.Contains(t, out, "Registry statistics")
	assert.Contains(t, out, "Both say something of")
	require.NoError(t, demo.WriteNext(dir))
	code, out, notes = live.Run(t, "", "atlas", "build", "--config", config, "--out", then)
	require.Zero(t, code, notes)
	assert.Contains(t, out, "did you mean GB?")
	rejects, err := os.ReadFile(in("rejects.jsonl"))
	require.NoError(t, err)
	assert.Contains(t, string(rejects), `"source":"Registry statistics"`)

	for _, tt := range []struct {
		name       string
		args       []string
		code       int
		out, notes string
	}{
		{"describe a table", []string{"atlas", "describe", in("alder-networks.csv")}, 0, "columns: { range: net, country_code: cc, city: town", ""},
		{"describe nonsense", []string{"atlas", "describe", in("nonsense")}, 1, "", "neither a range nor the head"},
		{"build of files", []string{"atlas", "build", in("harbour-net.csv"), in("registry-statistics.txt"), "--out", in("files.edition")}, 0, "self-published claim", ""},
		{"build of nothing", []string{"atlas", "build"}, 2, "", "give files, or --config"},
		{"build of nonsense", []string{"atlas", "build", in("nonsense"), "--out", now}, 1, "", "neither a range nor the head"},
		{"show", []string{"atlas", "show", now}, 0, "checksums hold", ""},
		{"diff", []string{"atlas", "diff", now, then}, 0, "11 ranges would read differently", ""},
		{"diff with itself", []string{"atlas", "diff", now, now}, 0, "say the same everywhere", ""},
		{"accuracy", []string{"atlas", "accuracy", in("test-points.csv"), "--atlas", then, "--plot", in("accuracy.png")}, 0, "test points", "The plot is in"},
		{"expectations that are met", []string{"atlas", "accuracy", in("good.csv"), "--expect", "--atlas", now}, 0, "All 2 expectations are met.", ""},
		{"an expectation that is not", []string{"atlas", "accuracy", in("wrong.csv"), "--expect", "--atlas", now}, 1, "Harbour Net geofeed", "1 of 1 expectations failed"},
		{"sample", []string{"atlas", "sample", "pt", "--city", "Lisbon", "--atlas", now}, 0, "198.18.3.", ""},
		{"sample of no country", []string{"atlas", "sample", "UK", "--atlas", now}, 2, "", "did you mean GB?"},
		{"sample of where nothing is", []string{"atlas", "sample", "MC", "--atlas", now}, 1, "", "puts no address into MC"},
		{"export", []string{"atlas", "export", "--atlas", now, "--format", "geofeed"}, 0, "198.18.3.0/26,PT,PT-11,Lisbon,", ""},
		{"export as what is none", []string{"atlas", "export", "--atlas", now, "--format", "xml"}, 2, "", "csv or geofeed"},
		{"why", []string{"resolve", "--why", "--atlas", now, "--open", "198.18.0.0/15", "198.18.3.40"}, 0, "198.18.0.0/19", "corrections are not in an edition file"},
		{"ranges", []string{"ranges", "198.18.0.0/17", "--atlas", now}, 0, "Spain ES", ""},
		{"a range that is none", []string{"ranges", "198.18.0.9-198.18.0.1", "--atlas", now}, 1, "", "did you mean"},
		{"near, with numbers below zero", []string{"near", "-33.9", "18.4", "--count", "1"}, 0, "Cape Town", ""},
		{"near a geo URI", []string{"near", "geo:38.72,-9.14", "-o", "csv"}, 0, "Lisbon,PT,", ""},
		{"near nowhere", []string{"near", "139", "35"}, 2, "", "swapped?"},
		{"areas", []string{"areas", "38.72", "-9.14", "--file", in("areas.geojson")}, 0, "Iberia", ""},
		{"areas that are none", []string{"areas", "--file", in("good.csv")}, 1, "", "no GeoJSON"},
		{"check of a feed", []string{"corrections", "check", in("harbour-net.csv")}, 1, "host bits", "would be rejected: 2 lines"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			code, out, notes := live.Run(t, "", tt.args...)
			assert.Equal(t, tt.code, code, notes)
			assert.Contains(t, out, tt.out)
			assert.Contains(t, notes, tt.notes)
		})
	}

	png, err := os.ReadFile(in("accuracy.png"))
	require.NoError(t, err)
	assert.Equal(t, "\x89PNG", string(png[:4]))

	// A file that was cut is refused, with the remedy, and the others stay.
	text, err := os.ReadFile(now)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(in("cut.edition"), text[:len(text)/2], 0o600))
	code, _, notes = live.Run(t, "", "atlas", "show", in("cut.edition"))
	assert.Equal(t, 1, code)
	assert.Contains(t, notes, "copy or build it again")

	// The same in every format.
	_, out, _ = live.Run(t, "", "atlas", "diff", now, then, "-o", "json")
	var changes struct{ Ranges int }
	require.NoError(t, json.Unmarshal([]byte(out), &changes))
	assert.Equal(t, 11, changes.Ranges)
	_, out, _ = live.Run(t, "", "ranges", "198.18.0.0/17", "--atlas", now, "-o", "yaml")
	var answer struct{ Shares []any }
	require.NoError(t, yaml.Unmarshal([]byte(out), &answer))
	assert.NotEmpty(t, answer.Shares)
	_, out, _ = live.Run(t, "", "atlas", "export", "--atlas", now)
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "range", rows[0][0])
}
