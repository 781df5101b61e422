package almanac

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/collate"
	"golang.org/x/text/language"
)

// Facts is everything that the almanac says of a country, with names in one
// language. Lists are empty where there is nothing; a field is null where the country
// has no such thing.
type Facts struct {
	CountryCode   string            `json:"country_code"`
	Alpha3        string            `json:"alpha3"`
	Numeric       string            `json:"numeric"`
	Name          string            `json:"name"`      // in the language that was asked for
	OwnNames      map[string]string `json:"own_names"` // by official language, where CLDR has them
	ContinentCode string            `json:"continent_code"`
	Continent     string            `json:"continent"`
	Capital       *Capital          `json:"capital"`
	Languages     []LanguageFacts   `json:"languages"`
	Currencies    []CurrencyFacts   `json:"currencies"`
	DiallingCodes []string          `json:"dialling_codes"`
	TimeZones     []string          `json:"time_zones"`
	Week          Week              `json:"week"`
	Measurement   string            `json:"measurement"` // "metric", "us" or "uk"
	HourCycle     string            `json:"hour_cycle"`  // BCP 47 key hc
	Neighbours    []string          `json:"neighbours"`
	Groups        []string          `json:"groups"`
	Flag          Flag              `json:"flag"`
}

// Capital is a country's capital and where it is.
type Capital struct {
	Name      string  `json:"name"` // English
	Latitude  float64 `json:"latitude"`
	Longitude float64 `json:"longitude"`
}

// LanguageFacts is one language of a country.
type LanguageFacts struct {
	Language string  `json:"language"` // BCP 47
	Name     string  `json:"name"`     // English
	OwnName  string  `json:"own_name"`
	Status   *string `json:"status"` // official, regional, minority; null for none
	Share    float64 `json:"share"`  // per cent of the people
}

// CurrencyFacts is one currency of a country.
type CurrencyFacts struct {
	CurrencyCode string `json:"currency_code"`
	MinorUnits   *int   `json:"minor_units"` // ISO 4217; null where it has none
	Digits       int    `json:"display_digits"`
	Usual        bool   `json:"usual"`
}

// Week says when weeks begin and end, in English names of days in small letters.
type Week struct {
	FirstDay string   `json:"first_day"`
	Weekend  []string `json:"weekend"`
}

// Flag says how to show a country's flag. Flags stand for countries, never for
// languages.
type Flag struct {
	Emoji string `json:"emoji"`
	Alt   string `json:"alt"` // text in its place, in the language that was asked for
	URL   string `json:"url"` // of the service; ?shape=wide, square or round
}

// FactsOf says what the almanac knows of c, with names in the language tag (BCP 47),
// and the groups of the owner beside the common ones.
func FactsOf(c *Country, tag string, groups Groups) Facts {
	f := Facts{
		CountryCode: c.Code, Alpha3: c.Alpha3, Numeric: c.Numeric, Name: NameIn(c.Code, tag), OwnNames: map[string]string{},
		ContinentCode: c.Continent, Continent: ContinentIn(c.Continent, tag), Languages: []LanguageFacts{}, Currencies: []CurrencyFacts{},
		DiallingCodes: list(c.Dialling), TimeZones: list(c.Zones), Measurement: c.Measurement, HourCycle: c.HourCycle, Neighbours: list(c.Neighbours),
		Groups: groups.Of(c), Week: Week{FirstDay: strings.ToLower(c.FirstDay.String()), Weekend: []string{}},
	}
	f.Flag = Flag{Emoji: Emoji(c.Code), Alt: FlagAlt(c.Code, tag), URL: "/v1/countries/" + c.Code + "/flag.svg"}
	if c.Capital != "" {
		f.Capital = &Capital{c.Capital, c.Latitude, c.Longitude}
	}
	for _, l := range c.Languages {
		if name := nameTables().subject(c.Code, l+"-"+c.Code); name != "" {
			f.OwnNames[l] = name
		}
	}
	for _, s := range c.Spoken {
		one := LanguageFacts{Language: s.Language, Name: LanguageName(s.Language), OwnName: OwnName(s.Language), Share: s.Share}
		if s.Status != "" {
			one.Status = &s.Status
		}
		f.Languages = append(f.Languages, one)
	}
	for i, code := range c.Currencies {
		one := CurrencyFacts{CurrencyCode: code, Digits: DisplayDigitsOf(code), Usual: i == 0}
		if units, ok := MinorUnitsOf(code); ok {
			one.MinorUnits = &units
		}
		f.Currencies = append(f.Currencies, one)
	}
	for day := c.WeekendStart; ; day = (day + 1) % 7 {
		f.Week.Weekend = append(f.Week.Weekend, strings.ToLower(day.String()))
		if day == c.WeekendEnd {
			break
		}
	}
	return f
}

// list makes JSON of an empty list [], and keeps the tables from being changed.
func list(of []string) []string { return append([]string{}, of...) }

// Emoji gives a country's flag as two regional indicator symbols (Unicode, section
// 22.10).
func Emoji(code string) string {
	if len(code) != 2 {
		return ""
	}
	return string([]rune{rune(code[0]) - 'A' + 0x1F1E6, rune(code[1]) - 'A' + 0x1F1E6})
}

// FlagAlt is the text in place of a flag: the country's name in a language, since a
// flag says no more.
func FlagAlt(code, tag string) string { return NameIn(code, tag) }

// A Choice is one line of a list to pick a country from.
type Choice struct {
	CountryCode string `json:"country_code"`
	Name        string `json:"name"`
	OwnName     string `json:"own_name"` // in the first official language
	Flag        string `json:"flag"`     // emoji
}

// Choices lists countries by their names in a language, in that language's order.
func Choices(tag string, of []Country) []Choice {
	choices := make([]Choice, len(of))
	for i, c := range of {
		own := c.Name
		if len(c.Languages) > 0 {
			own = NameIn(c.Code, c.Languages[0]+"-"+c.Code)
		}
		choices[i] = Choice{c.Code, NameIn(c.Code, tag), own, Emoji(c.Code)}
	}
	order := collate.New(language.Make(tag))
	slices.SortStableFunc(choices, func(a, b Choice) int { return order.CompareString(a.Name, b.Name) })
	return choices
}

// Groups are named groups of countries: the common ones and the owner's own. The zero
// Groups are the common ones. They are immutable and safe for concurrent use.
type Groups struct {
	own map[string][]string // codes by name
}

// NewGroups adds the owner's groups of country codes to the common ones. The error
// names the group and the code that is not one.
func NewGroups(own map[string][]string) (Groups, error) {
	for name, codes := range own {
		if slices.Contains(CommonGroups, name) {
			return Groups{}, fmt.Errorf("%s is a group already: give yours another name", name)
		}
		for _, code := range codes {
			if err := CheckCode(code); err != nil {
				return Groups{}, fmt.Errorf("%s: %w", name, err)
			}
		}
	}
	return Groups{own}, nil
}

// Known says whether a group has this name.
func (g Groups) Known(name string) bool {
	_, own := g.own[name]
	return own || slices.Contains(CommonGroups, name)
}

// Names lists the names of all groups, ascending.
func (g Groups) Names() []string {
	names := list(CommonGroups)
	for name := range g.own {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Has says whether a country is of a group; a group that is not known has none.
func (g Groups) Has(name string, c *Country) bool {
	if c == nil {
		return false
	}
	return slices.Contains(c.Groups, name) || slices.Contains(g.own[name], c.Code)
}

// Of lists the groups that a country is of, ascending.
func (g Groups) Of(c *Country) []string {
	of := []string{}
	for _, name := range g.Names() {
		if g.Has(name, c) {
			of = append(of, name)
		}
	}
	return of
}
