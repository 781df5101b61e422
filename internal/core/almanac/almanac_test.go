package almanac

import (
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCountries(t *testing.T) {
	assert.Len(t, All(), 249, "ISO 3166-1 has 249 countries")
	assert.True(t, slices.IsSortedFunc(All(), func(a, b Country) int { return strings.Compare(a.Code, b.Code) }))
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
			minor, _ := MinorUnitsOf(c.Currency)
			assert.Equal(t, tt.minor, minor, tt.code)
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
	assert.ErrorContains(t, CheckCode("EL"), "did you mean GR?")
	assert.ErrorContains(t, CheckCode("AN"), "did you mean BQ, CW or SX?")
	assert.ErrorContains(t, CheckCode("PRT"), "did you mean PT?")
	assert.ErrorContains(t, CheckCode("portugal"), "did you mean PT?")
	assert.ErrorContains(t, CheckCode("XX"), "ISO 3166-1")
	assert.Error(t, CheckCode(""))
}

// Regions in ten languages: CLDR names nearly all of them in English alone.
func TestRegionsInTheReadersLanguage(t *testing.T) {
	languages := []string{"en", "pt", "de", "fr", "es", "it", "ru", "ja", "zh", "ar"}
	for _, row := range [][]string{
		{"GB-SCT", "Scotland", "Escócia", "Schottland", "Écosse", "Escocia", "Scozia", "Шотландия", "スコットランド", "苏格兰", "اسكتلندا"},
		{"GB-ENG", "England", "Inglaterra", "England", "Angleterre", "Inglaterra", "Inghilterra", "Англия", "イングランド", "英格兰", "إنجلترا"},
		{"JP-13", "Tokyo", "Tokyo", "Tokyo", "Tokyo", "Tokyo", "Tokyo", "Tokyo", "Tokyo", "Tokyo", "Tokyo"},
		{"DE-BY", "Bavaria", "Bavaria", "Bavaria", "Bavaria", "Bavaria", "Bavaria", "Bavaria", "Bavaria", "Bavaria", "Bavaria"},
		{"XX-1", "", "", "", "", "", "", "", "", "", ""},
	} {
		for i, tag := range languages {
			assert.Equal(t, row[1+i], RegionIn(row[0], tag), "%s in %s", row[0], tag)
		}
	}
	english := 0
	for code, name := range regions() {
		assert.NotEmpty(t, name, code)
		if RegionIn(code, "ja") != name.name {
			english++
		}
	}
	t.Logf("%d regions, %d of them with a name in Japanese", len(regions()), english)
}

func TestTheVaticanIsCalledThroughItaly(t *testing.T) {
	vatican, _ := ByCode("VA")
	assert.Equal(t, []string{"+39"}, vatican.Dialling, "+379 is reserved and not in use")
}

func TestRegion(t *testing.T) {
	name, ok := Region("PT-11")
	assert.True(t, ok)
	assert.Equal(t, "Lisbon", name)
	_, ok = Region("PT-99")
	assert.False(t, ok)
}

func TestReplacedRegions(t *testing.T) {
	for old, want := range map[string]string{
		"FR-75": "FR-75C", "IN-OR": "IN-OD", "IN-UT": "IN-UK", "LV-031": "LV-080", "NP-BA": "NP-P3", "NP-5": "NP-P7", "ZA-GT": "ZA-GP",
		"MX-DIF": "MX-CMX", "PL-MZ": "PL-14", "CN-11": "CN-BJ", "NO-12": "NO-46", "KZ-AST": "KZ-71", "GR-A1": "GR-I", "EE-78": "EE-79",
		"AL-TR": "AL-11", "CZ-PR": "CZ-10", "PT-11": "PT-11", "IT-VS": "IT-SU", "GB-ANT": "GB-ANN", "FR-R": "FR-PDL",
	} {
		got, err := CurrentRegion(old)
		assert.NoError(t, err)
		assert.Equal(t, want, got, old)
	}
	for old, says := range map[string]string{
		"NP-1": "parted among NP-P2, NP-P3", "NO-30": "parted among NO-31, NO-32, NO-33", "XX-1": "not a region code", "": "not a region code",
	} {
		_, err := CurrentRegion(old)
		assert.ErrorContains(t, err, says)
	}
	for old, successors := range replaced() {
		_, inUse := Region(old)
		assert.False(t, inUse, old)
		require.NotEmpty(t, successors, old)
		for _, s := range successors {
			_, ok := Region(s)
			assert.True(t, ok && s[:2] == old[:2], "%s is replaced by %s", old, s)
		}
	}
	assert.Greater(t, len(replaced()), 350)
}

func TestNames(t *testing.T) {
	tests := []struct{ code, tag, want string }{
		{"PT", "en", "Portugal"},
		{"JP", "ja", "日本"},
		{"DE", "ja-JP", "ドイツ"},
		{"CZ", "pt-PT", "Chéquia"},
		{"CZ", "pt-BR", "Tchéquia"},
		{"CI", "fr-CA", "Côte d’Ivoire"},
		{"DE", "zh-TW", "德國"}, // by way of zh-Hant
		{"DE", "zh", "德国"},
		{"NO", "nb", "Norge"},
		{"NO", "xx-unknown", "Norway"},
		{"NO", "", "Norway"},
		{"NO", "🙂", "Norway"},
		{"XX", "en", ""},
	}
	for _, tt := range tests {
		assert.Equal(t, tt.want, NameIn(tt.code, tt.tag), "%s in %s", tt.code, tt.tag)
	}
	assert.Equal(t, "Põhja-Ameerika", ContinentIn("NA", "et"))
	assert.Equal(t, "português", OwnName("pt"))
	assert.Equal(t, "português europeu", OwnName("pt-PT"))
	assert.Equal(t, "日本語", OwnName("ja-JP"))
	assert.Equal(t, "Swiss German", LanguageName("gsw"))
}

func TestFactsOf(t *testing.T) {
	swiss, _ := ByCode("CH")
	groups, err := NewGroups(map[string][]string{"alpine": {"AT", "CH", "SI"}})
	require.NoError(t, err)
	f := FactsOf(swiss, "pt", groups)
	assert.Equal(t, "Suíça", f.Name)
	assert.Equal(t, map[string]string{"de": "Schweiz", "fr": "Suisse", "it": "Svizzera"}, f.OwnNames)
	assert.Equal(t, []string{"AT", "DE", "FR", "IT", "LI"}, f.Neighbours)
	assert.Equal(t, []string{"alpine", "schengen"}, f.Groups)
	two := 2
	assert.Equal(t, []CurrencyFacts{{"CHF", &two, 2, true}}, f.Currencies)
	assert.Equal(t, Week{"monday", []string{"saturday", "sunday"}}, f.Week)
	assert.Equal(t, "🇨🇭", f.Flag.Emoji)
	zimbabwe, _ := ByCode("ZW")
	assert.Equal(t, []CurrencyFacts{{"ZWG", &two, 2, true}, {"USD", &two, 2, false}}, FactsOf(zimbabwe, "en", groups).Currencies, "all are listed, one is usual")
	antarctica, _ := ByCode("AQ")
	assert.Empty(t, FactsOf(antarctica, "en", groups).Currencies)
	assert.Nil(t, FactsOf(antarctica, "en", groups).Capital)
	egypt, _ := ByCode("EG")
	assert.Equal(t, []string{"friday", "saturday"}, FactsOf(egypt, "en", groups).Week.Weekend)
}

func TestGroups(t *testing.T) {
	var g Groups
	portugal, _ := ByCode("PT")
	ireland, _ := ByCode("IE")
	assert.True(t, g.Has("eu", ireland))
	assert.False(t, g.Has("schengen", ireland))
	assert.Equal(t, []string{"eea", "eu", "euro-area", "schengen"}, g.Of(portugal))
	assert.False(t, g.Has("eu", nil))
	counts := map[string]int{}
	for _, c := range All() {
		for _, name := range c.Groups {
			counts[name]++
		}
	}
	assert.Equal(t, map[string]int{"eu": 27, "eea": 30, "schengen": 29, "euro-area": 21}, counts)
	_, err := NewGroups(map[string][]string{"isles": {"UK"}})
	assert.ErrorContains(t, err, "did you mean GB?")
	_, err = NewGroups(map[string][]string{"eu": {"PT"}})
	assert.ErrorContains(t, err, "give yours another name")
}

func TestChoices(t *testing.T) {
	choices := Choices("sv", All())
	require.Len(t, choices, 249)
	names := make([]string, len(choices))
	for i, c := range choices {
		names[i] = c.Name
	}
	assert.Greater(t, slices.Index(names, "Åland"), slices.Index(names, "Zimbabwe"), "in Swedish Å comes after Z")
	in := Choices("en", All())
	assert.Equal(t, "Åland Islands", in[1].Name, "in English it is an A")
}

// Minor units are held against a second list, which the tables were not made from.
func TestDecimalsOfEveryCurrency(t *testing.T) {
	lines, err := os.ReadFile("testdata/exponents.tsv")
	require.NoError(t, err)
	tried, differed := 0, 0
	for line := range strings.Lines(string(lines)) {
		code, exponent, _ := strings.Cut(strings.TrimSpace(line), "\t")
		units, ok := MinorUnitsOf(code)
		if !ok {
			continue // a currency of before
		}
		tried++
		// A fifth is not a decimal: ISO 4217 gives the ariary and the ouguiya two.
		if want := strconv.Itoa(units); want != exponent && code != "MGA" && code != "MRU" {
			differed++
			t.Errorf("%s has %s decimals, not %s", code, exponent, want)
		}
	}
	t.Logf("%d currencies: %d differed", tried, differed)
	assert.Greater(t, tried, 150)
	for code, want := range map[string]int{"AFN": 2, "COP": 2, "HUF": 2, "IDR": 2, "IQD": 3, "JPY": 0, "KWD": 3, "CLF": 4, "UYW": 4, "XCG": 2} {
		units, ok := MinorUnitsOf(code)
		assert.True(t, ok, code)
		assert.Equal(t, want, units, code)
	}
	for _, code := range []string{"XAU", "XDR", "XXX", "DEM"} {
		_, ok := MinorUnitsOf(code)
		assert.False(t, ok, code)
	}
}
