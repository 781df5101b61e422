package locale

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
)

func country(t *testing.T, code string) *almanac.Country {
	t.Helper()
	if code == "" {
		return nil
	}
	c, ok := almanac.ByCode(code)
	require.True(t, ok)
	return c
}

func languages(t *testing.T, fallback string, offered ...string) *Languages {
	t.Helper()
	l, err := NewLanguages(offered, fallback)
	require.NoError(t, err)
	return l
}

func TestNegotiate(t *testing.T) {
	every := languages(t, "")
	site := languages(t, "en", "en", "pt-PT", "ja", "fr", "ar")
	tests := []struct {
		name                    string
		site                    *Languages
		choice, header, country string
		want, reason, direction string
		formatting              string
	}{
		{"the header wins over the country", every, "", "fi-FI,en;q=0.5", "CH", "fi-FI", ByHeader, "ltr", "fi-FI"},
		{"the stored choice wins over the header", every, "it", "fi-FI,en;q=0.5", "CH", "it", ByChoice, "ltr", "it-CH"},
		{"q decides, not the order", every, "", "en;q=0.2, fr-CH", "CH", "fr-CH", ByHeader, "ltr", "fr-CH"},
		{"q=0 is refused", every, "", "en;q=0", "EG", "ar-EG", ByCountry, "rtl", "ar-EG"},
		{"else the country", every, "", "", "EG", "ar-EG", ByCountry, "rtl", "ar-EG"},
		{"a wildcard says nothing", every, "", "*", "EG", "ar-EG", ByCountry, "rtl", "ar-EG"},
		{"else the default", every, "", "", "", "en", ByDefault, "ltr", "en"},
		{"an overlong header counts as absent", every, "", strings.Repeat("fi,", 5000), "", "en", ByDefault, "ltr", "en"},
		{"an unreadable header counts as absent", every, "", "\x00;;q=x", "", "en", ByDefault, "ltr", "en"},
		{"unknown tags are passed over", every, "", "zz-unknowable,, xq-!!, de", "", "de", ByHeader, "ltr", "de"},
		{"a weight that is none is passed over", every, "", "de;q=2, nl;q=NaN, sv;q=0.1", "", "sv", ByHeader, "ltr", "sv"},
		{"nobody lives there", every, "", "", "AQ", "en", ByDefault, "ltr", "en"},

		{"a choice that is not offered is not a choice", site, "eo", "ja", "JP", "ja", ByHeader, "ltr", "ja-JP"},
		{"Brazil's Portuguese is served by Portugal's, with its own habits", site, "", "pt-BR,pt;q=0.9", "BR", "pt-PT", ByHeader, "ltr", "pt-BR"},
		{"the second wish, where the first is not offered", site, "", "fi, fr;q=0.4", "FI", "fr", ByHeader, "ltr", "fr"},
		{"a neighbour's language is not one's own", languages(t, "en", "en", "ru"), "", "uk", "PL", "en", ByDefault, "ltr", "en"},
		{"the country's language, where it is offered", site, "", "fi", "EG", "ar", ByCountry, "rtl", "ar-EG"},
		{"the default, where nothing fits", site, "", "fi", "FI", "en", ByDefault, "ltr", "en"},
		{"Nynorsk is served by Bokmål", languages(t, "en", "en", "nb"), "", "nn", "SE", "nb", ByHeader, "ltr", "nn"},
		{"another script is another language", languages(t, "en", "en", "zh-Hans"), "", "zh-TW", "TW", "en", ByDefault, "ltr", "en"},
		{"a bare language is written as where the visitor is", site, "", "fr", "CA", "fr", ByHeader, "ltr", "fr-CA"},
		{"but not where nobody speaks it officially", site, "", "fr", "JP", "fr", ByHeader, "ltr", "fr"},
		{"the first offered is the default of a site that does not say", languages(t, "", "nb", "en"), "", "", "", "nb", ByDefault, "ltr", "nb"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			l := tt.site.Negotiate(tt.choice, tt.header, country(t, tt.country))
			assert.Equal(t, tt.want, l.Language)
			assert.Equal(t, tt.reason, l.Reason)
			assert.Equal(t, tt.direction, l.Direction)
			assert.Equal(t, tt.formatting, l.Formatting)
			assert.Equal(t, tt.want, l.Offered[0])
			assert.NotEmpty(t, l.Names.Language)
			for _, tag := range l.Offered {
				if offered := tt.site.Offered(); len(offered) > 0 {
					assert.Contains(t, offered, tag)
				}
			}
			assert.Equal(t, l, tt.site.Negotiate(tt.choice, tt.header, country(t, tt.country)), "the same again")
		})
	}
	assert.Subset(t, every.Negotiate("", "", country(t, "CH")).Offered, []string{"de-CH", "fr-CH", "it-CH"}, "a country offers all its languages")
	assert.ElementsMatch(t, site.Offered(), site.Negotiate("", "", nil).Offered, "a site offers all of its own")
	assert.Equal(t, "Suíça", *site.Negotiate("", "pt", country(t, "CH")).Names.Country, "in the visitor's language")
}

// Mandarin is what is written as Chinese.
func TestMandarinIsChinese(t *testing.T) {
	l, err := NewLanguages([]string{"en", "zh", "zh-Hant"}, "en")
	require.NoError(t, err)
	for asked, want := range map[string]string{"cmn": "zh", "cmn-Hans-CN": "zh", "cmn-Hant": "zh-Hant", "CMN-TW": "zh-Hant", "cmn_CN,en": "zh", "cmnx": "en"} {
		assert.Equal(t, want, l.Negotiate("", asked, nil).Language, asked)
		if asked != "cmn_CN,en" {
			assert.Equal(t, want, l.Negotiate(asked, "", nil).Language, asked)
		}
	}
}

func TestHintsAreNoVerdicts(t *testing.T) {
	every := languages(t, "")
	l := every.Negotiate("", "fi-FI", country(t, "CL"))
	assert.Equal(t, "fi-FI", l.Language)
	require.Len(t, l.Hints, 1)
	assert.Contains(t, l.Hints[0], "asks for Finnish, which few people speak in Chile: a traveller")
	assert.Empty(t, every.Negotiate("", "es-AR", country(t, "CL")).Hints)
	assert.Empty(t, every.Negotiate("", "", country(t, "CL")).Hints)
	assert.Contains(t, every.Negotiate("", strings.Repeat("x", 10_000), nil).Hints[0], "10000 bytes")
	assert.Contains(t, every.Negotiate("not a tag", "", nil).Hints[0], "not a language tag")
	assert.Contains(t, languages(t, "", "en").Negotiate("eo", "", nil).Hints[0], "not offered")
}

func TestNewLanguagesNamesWhatIsWrong(t *testing.T) {
	for offered, fallback := range map[string]string{"!": "", "pt": "en", "en": "!"} {
		_, err := NewLanguages([]string{offered}, fallback)
		assert.Error(t, err, "%s, %s", offered, fallback)
	}
}

// Whatever a header holds, there is an answer, and it is one that is offered.
func FuzzNegotiate(f *testing.F) {
	for _, seed := range []string{"pt-BR,pt;q=0.9", "*", "en;q=0", "zh-Hant-TW-x-a;q=1.000", "\x00", "i-klingon,art-lojban", "sgn-BE-FR", strings.Repeat("a-", 300)} {
		f.Add(seed, seed, "PT")
	}
	site, err := NewLanguages([]string{"en", "pt-PT", "zh-Hant"}, "pt-PT")
	require.NoError(f, err)
	every, err := NewLanguages(nil, "")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, choice, header, code string) {
		c, _ := almanac.ByCode(code)
		assert.Contains(t, site.Offered(), site.Negotiate(choice, header, c).Language)
		assert.NotEmpty(t, every.Negotiate(choice, header, c).Language)
	})
}

func TestNegotiateRemembersWithinBounds(t *testing.T) {
	l := languages(t, "")
	for i := range 3 * maxKnown {
		l.Negotiate("", "en;q=0."+strings.Repeat("1", i%900)+strings.Repeat("0", i/900), nil)
	}
	assert.LessOrEqual(t, l.known.Len(), maxKnown)
	portugal := country(t, "PT")
	l.Negotiate("", "pt-PT,pt;q=0.9,en;q=0.8", portugal)
	assert.Zero(t, testing.AllocsPerRun(100, func() { l.Negotiate("", "pt-PT,pt;q=0.9,en;q=0.8", portugal) }))
}
