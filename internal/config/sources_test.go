package config

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/opendata"
)

// What the starter writes is a configuration, alone and put into another.
func TestTheStarterIsAConfiguration(t *testing.T) {
	for _, words := range [][]string{nil, {"africa"}, {"north america"}, {"europe", "latin"}} {
		files, err := opendata.Regions(opendata.Known(), words)
		require.NoError(t, err)
		for _, dir := range []string{"", "/srv/range data"} {
			text, err := opendata.Starter(files, dir)
			require.NoError(t, err)
			alone := loaded(t, append([]byte("sites: [{ host: localhost }]\n"), text...))
			own := "# mine\nsites: [{ host: localhost }]\natlas:\n  activate: manual # by me\n  sources:\n    - {name: Registry statistics, format: csv, file: /x.csv, rank: 1}\n"
			edited, added, err := AddSources([]byte(own), []byte(text))
			require.NoError(t, err)
			both := loaded(t, edited)
			assert.Len(t, both.Atlas.Sources, len(alone.Atlas.Sources))
			assert.Equal(t, "csv", both.Atlas.Sources[0].Format, "mine stays")
			assert.NotContains(t, added, "Registry statistics")
			assert.Contains(t, string(edited), "# by me")
			again, added, err := AddSources(edited, []byte(text))
			require.NoError(t, err)
			assert.Empty(t, added)
			assert.Equal(t, string(edited), string(again))
			fresh, added, err := AddSources(nil, []byte(text))
			require.NoError(t, err)
			assert.Len(t, added, len(alone.Atlas.Sources))
			assert.True(t, strings.HasSuffix(string(fresh), text))
			assert.Len(t, loaded(t, fresh).Sites, 1)
		}
	}
}

func TestSourcesThatAreNone(t *testing.T) {
	for text, why := range map[string]string{
		"{name: a, format: rpsl, rank: 1}":                                                               "a file or an url",
		"{name: a, format: rpsl, rank: 1, file: x, urls: [https://a.example/x]}":                         "a file or an url",
		"{name: a, format: csv, rank: 1, files: [x, y]}":                                                 "no one source",
		"{name: a, format: rpsl, rank: 1, urls: [ftp://a.example/x]}":                                    "no address",
		"{name: a, format: rpsl, rank: 1, file: x, names: [y]}":                                          "routing table",
		"{name: a, format: rpsl, rank: 1, file: x, from: [b]}":                                           "gathered geofeeds",
		"{name: a, format: gather, rank: 1}":                                                             "nothing names geofeeds",
		"{name: a, format: gather, rank: 1, file: x}":                                                    "no file and no url",
		"{name: a, format: gather, rank: 1, from: [b]}":                                                  "is called \"b\"",
		"{name: a, format: gather, rank: 1, geofeeds: [{url: http://a.example/x, ranges: [1.0.0.0/8]}]}": "HTTPS",
		"{name: a, format: gather, rank: 1, geofeeds: [{url: https://a.example/x}]}":                     "speaks for ranges",
		"{name: a, format: gather, rank: 1, geofeeds: [{url: https://a.example/x, ranges: [x]}]}":        "ranges.0",
	} {
		_, err := load(t, "atlas:\n  sources:\n    - "+text+"\n", nil, nil)
		assert.ErrorContains(t, err, why, text)
	}
}
