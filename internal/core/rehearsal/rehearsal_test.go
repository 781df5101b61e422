package rehearsal

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/locale"
)

func TestPlaces(t *testing.T) {
	for text, want := range map[string]string{
		"PT": "PT", "pt": "PT", "Portugal": "PT", "PRT": "PT", "PT-11": "region PT-11", "pt-11": "region PT-11", "Lisbon": "town Lisbon", "Lisbon, pt": "town Lisbon of PT", "AS64500": "AS64500", "as64500": "AS64500",
		"label:office": "label office", "198.18.3.0/24": "198.18.3.0", "198.18.3.40": "198.18.3.40", "2001:db8::1": "2001:db8::1", "unknown": "unknown", "Not-Found": "not found", "São Tomé & Príncipe": "ST",
	} {
		p, err := ParsePlace(text)
		require.NoError(t, err, text)
		said := ""
		switch {
		case p.NotFound:
			said = "not found"
		case p.Unknown:
			said = "unknown"
		case p.Address.IsValid():
			said = p.Address.String()
		case p.Network > 0:
			said = fmt.Sprintf("AS%d", p.Network)
		case p.Label != "":
			said = "label " + p.Label
		case p.Region != "":
			said = "region " + p.Region
		case p.Town != "" && p.Country != nil:
			said = "town " + p.Town + " of " + p.Country.Code
		case p.Town != "":
			said = "town " + p.Town
		case p.Country != nil:
			said = p.Country.Code
		}
		assert.Equal(t, want, said, text)
	}
	for text, want := range map[string]string{"UK": "did you mean GB?", "": "is no place", "Lisbon, UK": "did you mean GB?", "XX": "is not a country code"} {
		_, err := ParsePlace(text)
		require.ErrorIs(t, err, ErrPlace, text)
		require.ErrorContains(t, err, want)
	}
}

func TestLanguagesOfAPlace(t *testing.T) {
	for code, want := range map[string]string{"PT": "pt-PT,pt;q=0.9,en;q=0.7", "NZ": "en-NZ,en;q=0.8", "JP": "ja-JP,ja;q=0.9,en;q=0.7"} {
		c, _ := almanac.ByCode(code)
		assert.Equal(t, want, Languages(c))
	}
	assert.Equal(t, "en", Languages(nil))
}

func TestExpectations(t *testing.T) {
	e, err := ReadExpectations([]byte("site: heronlake.example\nexpect:\n- from: DE\n  path: /tickets\n  gate: admit\n  currency_code: EUR\n  language: de\n  variants: {offer: early}\n- {from: \"NO\", path: /, gate: refuse, rule: Early entry 2, status: 451}\n"))
	require.NoError(t, err)
	require.Len(t, e.Expect, 2)
	eur, de, name, rule := "EUR", "DE", "Early entry", 2
	c := card.Card{Gate: &gate.Decision{Outcome: gate.Refuse, Gate: &name, Rule: &rule}, Location: atlas.Location{CountryCode: &de}, Money: locale.Money{CurrencyCode: &eur}, Locale: locale.Locale{Language: "de-CH"}, Variants: map[string]string{"offer": "late"}}
	assert.Equal(t, []string{"gate: admit was expected, and it is refuse", "variants.offer: early was expected, and it is late"}, e.Expect[0].Unmet(&c, 0))
	assert.Empty(t, e.Expect[1].Unmet(&c, 451))
	assert.Equal(t, []string{"status: 451 was expected, and it is 200"}, e.Expect[1].Unmet(&c, 200))
	made := e.Expect[0].Expect(&c, 0)
	assert.Empty(t, made.Unmet(&c, 0), "what a card is expected to be it is")
	for text, want := range map[string]string{
		"expect: []": "0 are given", "expect:\n- {from: UK, path: /, gate: admit}": "expect.0: from:", "expect:\n- {from: PT, path: x, gate: admit}": "expect.0: path:",
		"expect:\n- {from: PT, path: /, gate: open}": "expect.0: gate:", "expect:\n- {from: PT, path: /}": "nothing is expected", "expect:\n- {from: PT, path: /, gates: a}": "line 2", "expect:\n- {from: PT, path: /, gate: admit, at: soon}": "expect.0: at:",
	} {
		_, err := ReadExpectations([]byte(text))
		require.ErrorIs(t, err, ErrExpectations, text)
		require.ErrorContains(t, err, want, text)
	}
}

func TestOnce(t *testing.T) {
	o, now := NewOnce(), time.Now()
	assert.True(t, o.Use("a", now.Add(time.Minute), now))
	assert.False(t, o.Use("a", now.Add(time.Minute), now))
	assert.True(t, o.Use("b", now.Add(time.Minute), now.Add(2*time.Minute)), "whose time is over is forgotten")
	assert.Len(t, o.used, 1)
}
