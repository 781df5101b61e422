package variant

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/geo"
)

func TestChoose(t *testing.T) {
	groups, err := almanac.NewGroups(map[string][]string{"nordic": {"NO", "SE", "FI", "DK", "IS"}})
	require.NoError(t, err)
	areas, err := geo.ReadAreas([]byte(`{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"name":"coast"},
		"geometry":{"type":"Polygon","coordinates":[[[-10,37],[-8,37],[-8,42],[-10,42],[-10,37]]]}}]}`))
	require.NoError(t, err)
	c := New([]Set{{Name: "offer", Default: "open", Rules: []Rule{
		{"staff", When{Labels: []string{"office"}}},
		{"coast", When{Areas: []string{"coast"}}},
		{"ferry", When{Groups: []string{"nordic"}, Languages: []string{"sv", "nb"}}},
		{"rail", When{Groups: []string{"nordic"}}},
		{"air", When{Countries: []string{"JP", "BR"}}},
		{"samba", When{Languages: []string{"pt-BR"}}},
	}}, {Name: "pictures", Default: "lake"}}, groups, areas)
	country := func(code string) *almanac.Country {
		found, _ := almanac.ByCode(code)
		return found
	}
	tests := []struct {
		name string
		s    Subject
		want string
	}{
		{"nothing is known: the default", Subject{}, "open"},
		{"the first rule that is met decides", Subject{Country: country("SE"), Language: "sv-SE", Labels: []string{"office"}}, "staff"},
		{"every kind must be met", Subject{Country: country("SE"), Language: "en"}, "rail"},
		{"a language holds its kinds", Subject{Country: country("SE"), Language: "sv-FI"}, "ferry"},
		{"and not those that merely begin so", Subject{Country: country("SE"), Language: "svx"}, "rail"},
		{"a country", Subject{Country: country("JP")}, "air"},
		{"an area", Subject{Country: country("PT"), Point: &geo.Point{Latitude: 38.7, Longitude: -9.1}}, "coast"},
		{"outside the area", Subject{Country: country("PT"), Point: &geo.Point{Latitude: 38.7, Longitude: -7}}, "open"},
		{"a narrower language does not hold a wider", Subject{Language: "pt"}, "open"},
		{"a language alone", Subject{Language: "pt-BR"}, "samba"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			assert.Equal(t, Choices{"offer": tt.want, "pictures": "lake"}, c.Choose(tt.s))
		})
	}
	sure := New([]Set{{Name: "tax", Default: "ask", Rules: []Rule{{"vat", When{Countries: []string{"PT"}, Basis: "table's claim"}}}}}, groups, nil)
	for basis, want := range map[atlas.Basis]string{
		atlas.Corrects: "vat", atlas.SelfPublished: "vat", atlas.TableClaim: "vat", atlas.Derived: "ask", atlas.Registration: "ask", atlas.Routed: "ask", "": "ask",
	} {
		assert.Equal(t, want, sure.Choose(Subject{Country: country("PT"), Basis: basis})["tax"], basis)
	}
	assert.Empty(t, (*Chooser)(nil).Choose(Subject{}))
	assert.False(t, c.Asks() || (*Chooser)(nil).Asks())
	reacts := New([]Set{{Name: "mood", Default: "usual", Rules: []Rule{{"wet", When{Categories: []string{"weather.rain", "weather.storm"}, Countries: []string{"PT"}}}}}}, groups, nil)
	assert.True(t, reacts.Asks())
	storm := "storm"
	for want, s := range map[string]Subject{
		"wet":   {Country: country("PT"), Companions: companion.Answers{{Name: "weather", Answer: companion.Answer{Category: &storm}}}},
		"usual": {Country: country("PT"), Companions: companion.Answers{{Name: "water", Answer: companion.Answer{Category: &storm}}, {Name: "weather"}}},
	} {
		assert.Equal(t, want, reacts.Choose(s)["mood"])
	}
}

// Languages of rules are matched as everywhere: by what their readers read, and by a region where one is named.
func TestLanguagesOfRules(t *testing.T) {
	for _, c := range []struct {
		rule string
		met  []string
		not  []string
	}{
		{"pt", []string{"pt", "pt-PT", "pt-BR"}, []string{"", "es", "en-PT"}},
		{"pt-PT", []string{"pt-PT"}, []string{"pt", "pt-BR"}},
		{"zh-Hant", []string{"zh-Hant", "zh-TW", "zh-HK", "zh-Hant-HK"}, []string{"zh", "zh-CN", "zh-Hans", "zh-SG", "ja"}},
		{"zh", []string{"zh", "zh-CN", "zh-Hans", "zh-Hans-SG", "cmn"}, []string{"zh-TW", "zh-Hant", "zh-Hant-HK"}},
		{"nb", []string{"nb", "no", "nn", "nb-NO"}, []string{"da", "sv"}},
		{"sr-Latn", []string{"sr-Latn", "sr-Latn-RS", "sr-ME"}, []string{"sr", "sr-Cyrl", "hr"}},
	} {
		chooser := New([]Set{{Name: "a", Default: "no", Rules: []Rule{{Variant: "yes", When: When{Languages: []string{c.rule}}}}}}, almanac.Groups{}, nil)
		for want, tags := range map[string][]string{"yes": c.met, "no": c.not} {
			for _, tag := range tags {
				assert.Equal(t, want, chooser.Choose(Subject{Language: tag})["a"], "%s for %q", c.rule, tag)
			}
		}
	}
}

func TestCheck(t *testing.T) {
	known := Known{Categories: []string{"weather.storm"}, Areas: func(a string) bool { return a == "lake" }, Labels: func(l string) bool { return l == "office" }}
	rule := func(w When) Set { return Set{"offer", "open", []Rule{{"early", w}}} }
	for _, tt := range []struct {
		set         Set
		field, want string
	}{
		{Set{"Offer", "open", nil}, "name", "small letters"},
		{Set{"offer", "", nil}, "default", "not a variant"},
		{Set{"offer", "open", []Rule{{"a b", When{}}}}, "rules.0.variant", "not a variant"},
		{rule(When{Countries: []string{"PT", "UK"}}), "rules.0.when.countries", "did you mean GB?"},
		{rule(When{Groups: []string{"nordic"}}), "rules.0.when.groups", "known are [eea eu euro-area schengen]"},
		{rule(When{Languages: []string{"!"}}), "rules.0.when.languages", "not a language tag"},
		{rule(When{Areas: []string{"sea"}}), "rules.0.when.areas", "not an area"},
		{rule(When{Labels: []string{"home"}}), "rules.0.when.labels", "not a label"},
		{rule(When{Basis: "routing table"}), "rules.0.when.basis", "is not a basis"},
		{rule(When{Categories: []string{"storm"}}), "rules.0.when.categories", "such as weather.storm"},
		{rule(When{Categories: []string{"weather.stormy"}}), "rules.0.when.categories", "there are [weather.storm]"},
		{Set{"offer", "open", make([]Rule, MaxRules+1)}, "rules", "101 rules"},
	} {
		field, err := tt.set.Check(known)
		assert.Equal(t, tt.field, field)
		assert.ErrorIs(t, err, ErrSet)
		assert.ErrorContains(t, err, tt.want)
	}
	_, err := rule(When{Countries: []string{"PT"}, Groups: []string{"eu"}, Languages: []string{"pt"}, Areas: []string{"lake"}, Labels: []string{"office"}, Categories: []string{"weather.storm"}}).Check(known)
	assert.NoError(t, err)
}
