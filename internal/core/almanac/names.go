package almanac

import (
	_ "embed"
	"strings"
	"sync"

	"golang.org/x/text/language"

	"eastporch/internal/core/packed"
)

//go:embed names.gz
var namesFile []byte

// nameTable is what names.gz holds: for every locale its own name and the names of
// countries, continents and the subdivisions that are not only named in English, "" where its parent has the same.
type nameTable struct {
	column  map[string]int // by country or subdivision code, or + and continent code
	locales map[string][]string
	english map[string]string // names of languages
}

var nameTables = sync.OnceValue(func() nameTable {
	t := nameTable{map[string]int{}, map[string][]string{}, map[string]string{}}
	for i, line := range strings.Split(strings.TrimSuffix(packed.Text(namesFile), "\n"), "\n") {
		fields := strings.Split(line, "\t")
		switch {
		case i == 0:
			for n, code := range fields {
				t.column[code] = n
			}
		case fields[0] == "=":
			t.english[fields[1]] = fields[2]
		default:
			t.locales[fields[0]] = fields[1:] // from the parent on
		}
	}
	return t
})

// field finds what a locale or one of its parents has in a column, counted from the
// locale's parent as column 0.
func (t nameTable) field(tag string, column int) string {
	for tag != "" {
		row, known := t.locales[tag]
		if !known {
			tag = ParentLocale(tag)
			continue
		}
		if column < len(row) && row[column] != "" {
			return row[column]
		}
		tag = row[0]
	}
	return ""
}

// ParentLocale gives the locale that a locale is a kind of, zh-Hant of zh-TW; "" at the
// end.
func ParentLocale(tag string) string {
	if tag == "nb" { // CLDR keeps what Norwegians write under no
		return "no"
	}
	t, err := language.Parse(tag)
	if err != nil {
		return ""
	}
	p := t.Parent()
	if p == language.Und {
		return ""
	}
	return p.String()
}

// NameIn gives a country's name in a language, BCP 47; in English where CLDR has none.
// code is the country's in capitals; "" for one that is not of ISO 3166-1.
func NameIn(code, tag string) string {
	c, ok := ByCode(code)
	if !ok {
		return ""
	}
	if name := nameTables().subject(code, tag); name != "" {
		return name
	}
	return c.Name
}

// ContinentIn gives a continent's name in a language, in English where CLDR has none.
func ContinentIn(code, tag string) string {
	if name := nameTables().subject("+"+code, tag); name != "" {
		return name
	}
	return continents[code]
}

// RegionIn gives the name of an ISO 3166-2 subdivision in a language; in English where
// CLDR has none, which is nearly everywhere, and as the standard has it where CLDR has no
// English one. "" for a code that is none.
func RegionIn(code, tag string) string {
	if name := nameTables().subject(code, tag); name != "" {
		return name
	}
	name, _ := Region(code)
	return name
}

func (t nameTable) subject(key, tag string) string {
	n, ok := t.column[key]
	if !ok {
		return ""
	}
	return t.field(tag, n-1)
}

// OwnName gives what a language calls itself, its English name where CLDR does not
// tell, and the tag itself where that is not known either.
func OwnName(tag string) string {
	if name := nameTables().field(tag, 1); name != "" {
		return name
	}
	return LanguageName(tag)
}

// LanguageName gives a language's English name, or the tag where it is not known.
func LanguageName(tag string) string {
	for t := tag; t != ""; t = ParentLocale(t) {
		if name, ok := nameTables().english[t]; ok {
			return name
		}
	}
	return tag
}
