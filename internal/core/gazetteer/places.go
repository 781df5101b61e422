package gazetteer

import (
	"cmp"
	"embed"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/text/unicode/norm"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/packed"
)

// Of each country its populated places of 500 people and more, and the names of its towns
// in many languages; tools/gendata/places.mjs describes the form.
//
//go:embed places/*.gz
var placesFiles embed.FS

// A country is what is known of one country's places.
type country struct {
	code           string
	names, numbers column // folded names in order, and which places bear them
	places         func() *details
}

// details are of a country's places, the most populous first.
type details struct {
	name, latitude, longitude, population, region, zone column
	regions, zones                                      column
}

// A column is text of many lines of which each is found at once.
type column struct {
	text   string
	starts []int32 // of each line, and of one after the last
}

func newColumn(text string) column {
	c := column{text, make([]int32, 1, strings.Count(text, "\n")+2)}
	for at := 0; ; {
		n := strings.IndexByte(text[at:], '\n')
		if n < 0 {
			c.starts = append(c.starts, int32(len(text)+1))
			return c
		}
		at += n + 1
		c.starts = append(c.starts, int32(at))
	}
}

func (c column) len() int         { return len(c.starts) - 1 }
func (c column) at(i int) string  { return c.text[c.starts[i] : c.starts[i+1]-1] }
func (c column) number(i int) int { n, _ := strconv.Atoi(c.at(i)); return n }

func (c column) decimal(i int) float64 { x, _ := strconv.ParseFloat(c.at(i), 64); return x }

// place makes a town of the place with a number.
func (c *country) place(i int) *Town {
	d := c.places()
	return &Town{
		Country: c.code, Region: d.regionOf(i), Name: d.name.at(i),
		Point:      geo.Point{Latitude: d.latitude.decimal(i), Longitude: d.longitude.decimal(i)},
		Population: d.population.number(i), Zone: d.zones.at(d.zone.number(i)),
	}
}

func (d *details) regionOf(i int) string { return d.regions.at(d.region.number(i)) }

// called are the places of a folded name, the most populous first: those whose own it is,
// and those that are called so beside.
func (c *country) called(name string) [2][]int {
	i := sort.Search(c.names.len(), func(i int) bool { return c.names.at(i) >= name })
	var found [2][]int
	if i == c.names.len() || c.names.at(i) != name {
		return found
	}
	own, further, _ := strings.Cut(c.numbers.at(i), ";")
	for n, list := range []string{own, further} {
		for text := range strings.SplitSeq(list, ",") {
			if number, err := strconv.Atoi(text); err == nil {
				found[n] = append(found[n], number)
			}
		}
	}
	return found
}

var (
	countriesMu sync.RWMutex
	countries   = map[string]*country{} // by ISO 3166-1 code, nil where none is known
)

// of unpacks a country's places when they are first asked for, which takes up to 40 ms.
func of(code string) *country {
	countriesMu.RLock()
	c, known := countries[code]
	countriesMu.RUnlock()
	if known {
		return c
	}
	if zipped, err := placesFiles.ReadFile("places/" + code + ".gz"); err == nil {
		c = unpack(code, zipped)
	} else if _, ok := almanac.ByCode(code); !ok {
		return nil // codes that are none are not kept
	}
	countriesMu.Lock()
	defer countriesMu.Unlock()
	if first, known := countries[code]; known {
		return first
	}
	countries[code] = c
	return c
}

func unpack(code string, zipped []byte) *country {
	text, others := packed.Part(zipped)
	c := &country{code: code}
	columns(text, &c.names, &c.numbers)
	c.places = sync.OnceValue(func() *details {
		var d details
		columns(packed.Text(others), &d.name, &d.latitude, &d.longitude, &d.population, &d.region, &d.zone, &d.regions, &d.zones)
		return &d
	})
	return c
}

func columns(text string, into ...*column) {
	for i, c := range strings.Split(text, "\f") {
		*into[i] = newColumn(c)
	}
}

// A Found is a place of a name, and how many of that name there are.
type Found struct {
	*Town
	Alike int // places of the name in the country and region, with this one
}

// count takes one more place of the name, which has no more people than the first.
func (f *Found) count(c *country, i int) {
	if f.Alike++; f.Alike == 1 {
		f.Town = c.place(i)
	}
}

// Find gives the place of a name in a country: of those whose own name it is the most
// populous, failing that of those that are called so beside, in any language and script.
// region (ISO 3166-2), unless "", must be the place's or lie within it; where no place of
// the name is known to be there, one whose region is not known is taken.
//
// Case, accents, punctuation and short forms (St.) do not matter; what follows a comma or
// stands in parentheses is left away where the whole is no name, as are words that say
// what a place is (city, town, ville de).
func Find(country, region, name string) (Found, bool) {
	c := of(country)
	if c == nil {
		return Found{}, false
	}
	for _, spelling := range spellings(name) {
		for _, numbers := range c.called(spelling) {
			var there, perhaps Found
			for _, i := range numbers {
				switch of := c.places().regionOf(i); {
				case region == "" || of != "" && almanac.Within(region, of):
					there.count(c, i)
				case of == "":
					perhaps.count(c, i)
				}
			}
			if there.Town == nil {
				there = perhaps
			}
			if there.Town != nil {
				return there, true
			}
		}
	}
	return Found{}, false
}

// SamePlace says whether two names are one place's in a country and region, as Milano and
// Mailand are in IT.
func SamePlace(country, region, a, b string) bool {
	if a == b {
		return true
	}
	key := [4]string{country, region, a, b}
	if same, known := compared.Get(key); known {
		return same
	}
	one, known := Find(country, region, a)
	other, also := Find(country, region, b)
	same := known && also && *one.Town == *other.Town || SameName(a, b)
	compared.Add(key, same)
	return same
}

// compared has what was said of two names: sources that differ do so of many addresses.
var compared, _ = lru.New[[4]string, bool](4096) // which fails for no size above 0

var (
	endings    = []string{" city", " town", " village", " municipality", " shi", " si", "市", "시"}
	beginnings = []string{
		"the ", "city of ", "town of ", "village of ", "municipality of ", "greater ", "ville de ", "commune de ", "ciudad de ",
		"municipio de ", "cidade de ", "citta di ", "comune di ", "stadt ", "gemeinde ", "kota ", "thanh pho ", "gorod ", "город ", "г ", "м ",
	}
	digraphs = strings.NewReplacer("ae", "a", "oe", "o", "ue", "u")
)

// spellings are the folded names by which a place may be known that is called name, the
// likeliest first.
func spellings(name string) []string {
	var list []string
	add := func(name string) {
		if name != "" && !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	whole := fold(name)
	add(whole)
	if at := strings.IndexAny(name, ",(（"); at > 0 {
		add(fold(name[:at]))
	}
	for _, s := range list {
		for _, e := range endings {
			if rest, ok := strings.CutSuffix(s, norm.NFKD.String(e)); ok && len(rest) > 1 {
				add(rest)
			}
		}
		for _, b := range beginnings {
			if rest, ok := strings.CutPrefix(s, norm.NFKD.String(b)); ok {
				add(rest)
			}
		}
	}
	for _, s := range list {
		add(digraphs.Replace(s)) // Nuernberg
	}
	return list
}

// Named gives the places of a name in all countries, the most populous first: of each
// country those that [Find] chooses among. The names of all countries are unpacked for it,
// which takes some 80 ms on two processors the first time.
func Named(name string) []*Town {
	var list []*Town
	for _, c := range everywhere() {
		for _, spelling := range spellings(name) {
			found := c.called(spelling)
			for _, i := range append(found[0], found[1]...) {
				list = append(list, c.place(i))
			}
			if len(list) > 0 && list[len(list)-1].Country == c.code {
				break
			}
		}
	}
	slices.SortStableFunc(list, func(a, b *Town) int {
		return cmp.Or(cmp.Compare(b.Population, a.Population), cmp.Compare(a.Country, b.Country))
	})
	return list
}

// everywhere unpacks all countries, on as many processors as there are.
func everywhere() []*country {
	files, _ := placesFiles.ReadDir("places")
	list := make([]*country, len(files))
	var wait sync.WaitGroup
	for i, file := range files {
		wait.Go(func() { list[i] = of(strings.TrimSuffix(file.Name(), ".gz")) })
	}
	wait.Wait()
	return list
}
