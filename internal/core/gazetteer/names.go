package gazetteer

import (
	_ "embed"
	"strconv"
	"strings"
	"sync"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/packed"
)

//go:embed names.gz
var namesFile []byte

// townNames is what names.gz holds, which tools/gendata/townnames.mjs describes.
type townNames struct {
	english []string
	number  map[string]int // by country and folded spelling
	locales map[string]localeNames
}

// localeNames are what a locale calls towns otherwise than its parent.
type localeNames struct {
	parent string
	names  map[int]string
}

var namesOfTowns = sync.OnceValue(func() townNames {
	t := townNames{number: map[string]int{}, locales: map[string]localeNames{}}
	for i, line := range strings.Split(strings.TrimSuffix(packed.Text(namesFile), "\n"), "\n") {
		fields := strings.Split(line, "\t")
		if i > 0 {
			l := localeNames{parent: fields[1], names: make(map[int]string, len(fields)-2)}
			for _, field := range fields[2:] {
				number, name, _ := strings.Cut(field, "=")
				n, _ := strconv.Atoi(number)
				l.names[n] = name
			}
			t.locales[fields[0]] = l
			continue
		}
		for n, field := range fields {
			spellings := strings.Split(field, "|")
			t.english = append(t.english, spellings[1])
			for _, spelling := range spellings[1:] {
				t.number[spellings[0]+"/"+fold(spelling)] = n
			}
		}
	}
	return t
})

// NameIn gives what a town of a country is called in a language (BCP 47): CLDR knows the
// towns that time zones are named after, and some capitals are known beside. Every other
// town is called as it was given. The town may be given in English, or in an official
// language of its country; case and accents do not matter.
func NameIn(country, town, tag string) string {
	t := namesOfTowns()
	n, ok := t.number[country+"/"+fold(town)]
	if !ok {
		return town
	}
	for tag != "" {
		l, known := t.locales[tag]
		if !known {
			tag = almanac.ParentLocale(tag)
			continue
		}
		if name, ok := l.names[n]; ok {
			return name
		}
		tag = l.parent
	}
	return t.english[n]
}
