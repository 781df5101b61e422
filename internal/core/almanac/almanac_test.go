package almanac

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"golang.org/x/text/language"
)

func TestCountries(t *testing.T) {
	assert.Len(t, All(), 249, "ISO 3166-1 has 249 countries")
	assert.True(t, slices.IsSortedFunc(All(), func(a, b Country) int { return strings.Compare(a.Code, b.Code) }))
	for _, c := range All() {
		assert.Len(t, c.Code, 2)
		assert.NotEmpty(t, c.Name, c.Code)
		assert.NotEmpty(t, Continent(c.Continent), c.Code)
		if c.Currency != "" {
			assert.Len(t, c.Currency, 3, c.Code)
			assert.NotEmpty(t, c.Symbol, c.Code)
			assert.LessOrEqual(t, c.MinorUnits, 4, c.Code)
		}
		for _, tag := range c.Languages {
			_, err := language.Parse(tag)
			assert.NoError(t, err, "%s of %s", tag, c.Code)
		}
	}
}

// Facts that older releases of CLDR have wrong, and a few of each kind.
func TestFactsAreCurrent(t *testing.T) {
	tests := []struct {
		code, name, continent, currency string
		minor                           int
		language                        string
	}{
		{"PT", "Portugal", "EU", "EUR", 2, "pt"},
		{"HR", "Croatia", "EU", "EUR", 2, "hr"},
		{"BG", "Bulgaria", "EU", "EUR", 2, "bg"},
		{"SZ", "Eswatini", "AF", "SZL", 2, "en"},
		{"JP", "Japan", "AS", "JPY", 0, "ja"},
		{"KW", "Kuwait", "AS", "KWD", 3, "ar"},
		{"BR", "Brazil", "SA", "BRL", 2, "pt"},
		{"MX", "Mexico", "NA", "MXN", 2, "es"},
		{"NZ", "New Zealand", "OC", "NZD", 2, "en"},
		{"AQ", "Antarctica", "AN", "", 0, ""},
	}
	for _, tt := range tests {
		c, ok := ByCode(tt.code)
		if assert.True(t, ok, tt.code) {
			assert.Equal(t, tt.name, c.Name)
			assert.Equal(t, tt.continent, c.Continent, tt.code)
			assert.Equal(t, tt.currency, c.Currency, tt.code)
			assert.Equal(t, tt.minor, c.MinorUnits, tt.code)
			if tt.language != "" {
				assert.Contains(t, c.Languages, tt.language)
			}
		}
	}
}

func TestCheckCode(t *testing.T) {
	assert.NoError(t, CheckCode("GB"))
	assert.ErrorContains(t, CheckCode("UK"), "did you mean GB?")
	assert.ErrorContains(t, CheckCode("pt"), "did you mean PT?")
	assert.ErrorContains(t, CheckCode("XX"), "ISO 3166-1")
	assert.Error(t, CheckCode(""))
}

func TestRegion(t *testing.T) {
	name, ok := Region("PT-11")
	assert.True(t, ok)
	assert.Equal(t, "Lisboa", name)
	_, ok = Region("PT-99")
	assert.False(t, ok)
}
