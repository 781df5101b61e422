package almanac

import (
	"encoding/json"
	"math"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/language"
)

// isoCode is a row of Debian's iso-codes, which the tables were not made from.
type isoCode struct {
	Alpha2  string `json:"alpha_2"`
	Alpha3  string `json:"alpha_3"`
	Numeric string `json:"numeric"`
	Code    string `json:"code"`
	Name    string `json:"name"`
}

func isoCodes(t *testing.T, standard string) []isoCode {
	t.Helper()
	text, err := os.ReadFile("/usr/share/iso-codes/json/iso_" + standard + ".json")
	require.NoError(t, err, "make test installs the package iso-codes")
	var lists map[string][]isoCode
	require.NoError(t, json.Unmarshal(text, &lists))
	return lists[standard]
}

// Every country, every fact, against ISO 3166-1, 3166-2, 4217 and Go's time zones.
func TestEveryCountryAgainstISO(t *testing.T) {
	iso := isoCodes(t, "3166-1")
	require.Len(t, iso, 249)
	currencies := map[string]bool{}
	for _, c := range isoCodes(t, "4217") {
		currencies[c.Alpha3] = true
	}
	noTender := []string{"AQ"}                                 // it has no money of its own
	noOne := []string{"AQ", "BV", "HM", "TF"}                  // nobody lives there
	noZone := []string{"BV", "HM"}                             // the zones of the world leave them out
	newer := []string{"XCG", "ZWG"}                            // currencies younger than the packaged list
	noCapital := []string{"AQ", "BV", "HM", "UM"}              // nor the United States' outlying islands
	noDialling := []string{"AQ", "BV", "HM", "GS", "TF", "UM"} // nobody to call, or the code of another
	for _, want := range iso {
		t.Run(want.Alpha2, func(t *testing.T) {
			c, ok := ByCode(want.Alpha2)
			require.True(t, ok)
			assert.Equal(t, want.Alpha3, c.Alpha3)
			assert.Equal(t, want.Numeric, c.Numeric)
			assert.NotEmpty(t, c.Name)
			assert.NotEmpty(t, Continent(c.Continent))

			assert.Equal(t, slices.Contains(noCapital, c.Code), c.Capital == "")
			assert.LessOrEqual(t, math.Abs(c.Latitude), 90.0)
			assert.LessOrEqual(t, math.Abs(c.Longitude), 180.0)
			assert.Equal(t, c.Capital != "", c.Latitude != 0 || c.Longitude != 0, "a capital is somewhere")

			if !slices.Contains(noTender, c.Code) {
				require.NotEmpty(t, c.Currencies)
				assert.Equal(t, c.Currencies[0], c.Currency)
				_, ok := MinorUnitsOf(c.Currency)
				assert.True(t, ok, "%s has no minor units", c.Currency)
				assert.NotEmpty(t, c.Symbol)
			}
			for _, code := range c.Currencies {
				assert.True(t, currencies[code] || slices.Contains(newer, code), "%s is not a currency of ISO 4217", code)
				assert.True(t, IsCurrency(code))
			}

			if !slices.Contains(noOne, c.Code) {
				assert.NotEmpty(t, c.Languages, "somebody speaks there")
			}
			for _, s := range c.Spoken {
				_, err := language.Parse(s.Language)
				assert.NoError(t, err, s.Language)
				assert.True(t, s.Share >= 0 && s.Share <= 100, "%s: %g %%", s.Language, s.Share)
				assert.NotEqual(t, s.Language, LanguageName(s.Language), "it has a name")
			}
			if !slices.Contains(noDialling, c.Code) {
				assert.NotEmpty(t, c.Dialling)
			}
			for _, d := range c.Dialling {
				assert.Regexp(t, `^\+[1-9][0-9]{0,6}$`, d)
			}

			if !slices.Contains(noZone, c.Code) {
				assert.NotEmpty(t, c.Zones)
			}
			for _, zone := range c.Zones {
				_, err := time.LoadLocation(zone)
				assert.NoError(t, err)
			}
			assert.Contains(t, []string{"metric", "us", "uk"}, c.Measurement)
			assert.Contains(t, []string{"h11", "h12", "h23", "h24"}, c.HourCycle)
			for _, n := range c.Neighbours {
				other, ok := ByCode(n)
				require.True(t, ok, n)
				assert.Contains(t, other.Neighbours, c.Code, "a border has two sides")
			}
			for _, g := range c.Groups {
				assert.Contains(t, CommonGroups, g)
			}

			for _, tag := range []string{"ar", "de", "es", "fr", "hi", "ja", "pt", "ru", "sw", "zh"} {
				assert.NotEmpty(t, nameTables().subject(c.Code, tag), "it has a name in %s", tag)
			}
			f := FactsOf(c, "en", Groups{})
			assert.NotEmpty(t, f.Name)
			for tag, name := range f.OwnNames {
				assert.NotEmpty(t, name, tag)
			}
		})
	}
	assert.Len(t, All(), len(iso))
}

// ISO 3166-2 has codes of both editions of the list in common but for a few that came
// and went between them.
func TestRegionsAgainstISO(t *testing.T) {
	unknown := 0
	list := isoCodes(t, "3166-2")
	for _, r := range list {
		if _, ok := Region(r.Code); !ok {
			unknown++
		}
	}
	assert.Less(t, unknown, len(list)/25, "of %d codes", len(list))
	assert.Contains(t, RegionsOf("PT"), "PT-11")
	assert.NotContains(t, RegionsOf("PT"), "PL-02")
	assert.Empty(t, RegionsOf("XX"))
}

// The zones of every country are those of the tz database's own list.
func TestZonesOfEveryCountry(t *testing.T) {
	text, err := os.ReadFile("/usr/share/zoneinfo/zone.tab")
	require.NoError(t, err, "make test installs the package tzdata")
	zones := map[string][]string{}
	for line := range strings.Lines(string(text)) {
		if cells := strings.Fields(line); !strings.HasPrefix(line, "#") && len(cells) >= 3 {
			zones[cells[0]] = append(zones[cells[0]], cells[2])
		}
	}
	for _, c := range All() {
		assert.ElementsMatch(t, zones[c.Code], c.Zones, c.Code)
	}
}
