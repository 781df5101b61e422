package opendata

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryKnownFileStandsInTheStarter(t *testing.T) {
	files := Known()
	require.NotEmpty(t, files)
	text, err := Starter(files, "")
	require.NoError(t, err)
	carried, err := Starter(files, "/srv/data")
	require.NoError(t, err)
	names := map[string]bool{}
	for _, f := range files {
		assert.Contains(t, text, f.URL)
		at := Carried(files, f, "/srv/data")
		assert.Contains(t, carried, at)
		assert.False(t, names[at], "%s twice", at)
		names[at] = true
	}
	assert.NotContains(t, carried, "https://ftp", "nothing is fetched")
	assert.NotContains(t, carried, "format: gather")
	assert.Contains(t, text, "ARIN (North America): no public file of its networks")
	assert.NotContains(t, text, "RIPE NCC (Europe, Middle East, Central Asia): no")
}

func TestRegions(t *testing.T) {
	picked, err := Regions(Known(), []string{"africa", "apnic"})
	require.NoError(t, err)
	for _, f := range picked {
		assert.Contains(t, []string{"AFRINIC", "APNIC"}, f.Registry)
	}
	_, err = Regions(Known(), []string{"atlantis"})
	assert.ErrorContains(t, err, "atlantis")
}

func TestCatalogsThatAreNone(t *testing.T) {
	head := "what,registry,region,url,compressed,about_megabytes,note\n"
	for text, why := range map[string]string{
		"":      "begins with",
		"a,b\n": "wrong number of fields",
		head:    "files below",
		head + "whois,R,Lake,https://a.example/x,,1,\n":            "none of",
		head + "rpsl,R,Lake,ftp://a.example/x,,1,\n":               "no address",
		head + "rpsl,,Lake,https://a.example/x,,1,\n":              "no registry",
		head + "rpsl,\"R\n- evil\",Lake,https://a.example/x,,1,\n": "line break",
		head + "rpsl,R,Lake,https://a.example/{x},,1,\n":           "bracket",
	} {
		_, err := Read(strings.NewReader(text))
		assert.ErrorContains(t, err, why, text)
	}
}

func TestTheLetterNamesTheNetwork(t *testing.T) {
	assert.Contains(t, Letter(64500, "Harbour Net (invented)", 30, 120, 80), "of Harbour Net (invented) (AS64500)")
	assert.Contains(t, Letter(64500, "", 30, 120, 80), "of AS64500 (AS64500)")
	assert.Contains(t, Letter(64500, "", 30, 120, 80), "120 of its visits")
}
