package locale

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/packed"
)

// Times and prices in every locale, as ICU of the same release of CLDR writes them, and so
// the page script in a browser.
func TestWrittenAsICUWrites(t *testing.T) {
	zipped, err := os.ReadFile("testdata/written.tsv.gz")
	require.NoError(t, err)
	// What that release had otherwise than its newest patch, from which the habits come.
	patched := map[string]bool{
		"en-PH time": true, "en-PH price": true, "ko time": true, "ko-KP time": true, "ku-Latn-IQ time": true, "ps-PK time": true,
		"uz-Arab price": true, "za price": true,
	}
	// ICU writes all currencies with the marks of a country's own; CLDR has them for that one.
	own := map[string]string{"pt-CV": "CVE"}
	for _, tag := range strings.Fields("en-BE en-DE en-EE en-ES en-FI en-FR en-IT en-LT en-LV en-NL en-PT en-SI en-SK") {
		own[tag] = "EUR"
	}
	spaces := strings.NewReplacer("\u202f", " ", "\u00a0", " ") // which browsers change
	tried, differed := 0, 0
	locales := []string{}
	for line := range strings.Lines(packed.Text(zipped)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		require.Len(t, f, 4)
		tag, value, currency, want := f[0], f[1], f[2], f[3]
		kind, got := "time", ""
		if currency == "" {
			at, err := time.Parse("2006-01-02T15:04Z07:00", value)
			require.NoError(t, err)
			got = FormatTime(at, tag)
		} else {
			kind, got = "price", FormatAmount(decimal.RequireFromString(value), currency, tag, Ending{})
		}
		if patched[tag+" "+kind] || own[tag] != "" && currency != "" && currency != own[tag] {
			continue
		}
		if !slices.Contains(locales, tag) {
			locales = append(locales, tag)
		}
		tried++
		if !assert.Equal(t, spaces.Replace(want), spaces.Replace(got), "%s %s in %s", value, currency, tag) {
			differed++
		}
	}
	t.Logf("%d times and prices in %d locales: %d differed", tried, len(locales), differed)
	assert.Greater(t, tried, 8000)
}
