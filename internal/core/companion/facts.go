// Package companion is what an owner says of a service outside that is asked with coarse facts of a visitor:
// what may be asked, what is picked of the answer, and which category that is. It asks nobody itself.
//
// No fact here is the visitor's address, nor anything of the request beside the language: what leaves the
// machine is made of [Facts] alone.
package companion

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/geo"
)

// The facts that a question may have. There is no other.
const (
	latitude     = "latitude"
	longitude    = "longitude"
	countryCode  = "country_code"
	timeZone     = "time_zone"
	language     = "language"
	currencyCode = "currency_code"
)

// FactNames are the facts that a question may have.
var FactNames = []string{latitude, longitude, countryCode, timeZone, language, currencyCode}

// Grids are what coordinates may be rounded to, in degrees. Each has a number of decimals that writes every
// multiple of it.
var Grids = []float64{0.05, 0.1, 0.25, 0.5, 1, 2, 5}

// Levels are how well a place may have to be known, the best first.
var Levels = []string{"city", "region", "country"}

// A Subject is what is known of the visitor that a companion is asked for.
type Subject struct {
	Level    string // of the location: city, region, country, continent or none
	Point    *geo.Point
	Country  *almanac.Country
	TimeZone string
	Language string // BCP 47
	Written  string // the language with the habits that values are written by, BCP 47
}

// Facts are those of a question, coarse as they leave the machine; of those that the question does not have
// the zero value. Equal Facts are one question.
type Facts struct {
	lat, lon                      int32 // multiples of the grid
	country, zone, lang, currency string
}

// Facts gives what a question about a visitor is made of. The error is worded to say why there is none.
func (c *Compiled) Facts(s *Subject) (f Facts, reason string) {
	if c.uses.has(latitude) || c.uses.has(longitude) {
		switch {
		case s.Point == nil || !slices.Contains(Levels, s.Level):
			return f, "it is not known where the visitor is"
		case slices.Index(Levels, s.Level) > slices.Index(Levels, c.Level):
			return f, fmt.Sprintf("the place is known to the %s only, and the companion wants the %s", s.Level, c.Level)
		}
		if c.uses.has(latitude) {
			f.lat = gridLine(s.Point.Latitude, c.Grid)
		}
		if c.uses.has(longitude) {
			f.lon = gridLine(s.Point.Longitude, c.Grid)
			if whole := int32(math.Round(360 / c.Grid)); 2*f.lon == whole { // 180 degrees east are 180 west
				f.lon -= whole
			}
		}
	}
	if c.uses.has(countryCode) || c.uses.has(currencyCode) {
		if s.Country == nil {
			return f, "the visitor's country is not known"
		}
		if c.uses.has(countryCode) {
			f.country = s.Country.Code
		}
		if f.currency = s.Country.Currency; !c.uses.has(currencyCode) {
			f.currency = ""
		} else if f.currency == "" {
			return f, "the visitor's country has no currency of its own"
		}
	}
	if c.uses.has(timeZone) {
		if f.zone = s.TimeZone; f.zone == "" {
			return f, "the visitor's time zone is not known"
		}
	}
	if c.uses.has(language) {
		f.lang = coarse(s.Language)
	}
	return f, ""
}

// coarse gives the language alone of a tag (BCP 47), without what may tell more of a visitor: two or three
// letters, else en.
func coarse(tag string) string {
	base, _, _ := strings.Cut(tag, "-")
	if len(base) < 2 || len(base) > 3 || strings.Trim(base, "abcdefghijklmnopqrstuvwxyz") != "" {
		return "en"
	}
	return base
}

// text writes a fact as it is sent.
func (f *Facts) text(name string, grid float64) string {
	switch name {
	case latitude:
		return onGrid(f.lat, grid)
	case longitude:
		return onGrid(f.lon, grid)
	case countryCode:
		return f.country
	case timeZone:
		return f.zone
	case language:
		return f.lang
	case currencyCode:
		return f.currency
	}
	return ""
}

// onGrid writes a multiple of a grid with as many decimals as the grid has.
func onGrid(n int32, grid float64) string {
	_, part, _ := strings.Cut(strconv.FormatFloat(grid, 'f', -1, 64), ".")
	return strconv.FormatFloat(float64(n)*grid, 'f', len(part), 64)
}

// Sends says in words what leaves the machine.
func (s *Said) Sends() []string {
	uses := s.uses()
	var list []string
	if uses.has(latitude) || uses.has(longitude) {
		list = append(list, fmt.Sprintf("place, rounded to %s° (%.0f km)", strconv.FormatFloat(s.Grid, 'f', -1, 64), s.Grid*kmPerDegree))
	}
	for _, one := range [][2]string{{countryCode, "country"}, {timeZone, "time zone"}, {language, "language"}, {currencyCode, "currency"}} {
		if uses.has(one[0]) {
			list = append(list, one[1])
		}
	}
	if len(list) == 0 {
		list = append(list, "nothing of the visitor: it is the same question for everybody")
	}
	return list
}

// kmPerDegree is the length of a degree of latitude.
const kmPerDegree = 111.2

// used are the facts that a question has, each a bit.
type used uint8

func bit(fact string) used {
	switch fact {
	case latitude:
		return 1
	case longitude:
		return 2
	case countryCode:
		return 4
	case timeZone:
		return 8
	case language:
		return 16
	case currencyCode:
		return 32
	}
	return 0
}

func (u used) has(fact string) bool { return u&bit(fact) != 0 }

// uses says which facts a question has.
func (s *Said) uses() (u used) {
	for _, p := range s.Parameters {
		u |= bit(p.Fact)
	}
	for _, name := range placeholders(s.URL) {
		u |= bit(name)
	}
	return u
}

// placeholders gives the names in braces of a text, in order.
func placeholders(text string) (names []string) {
	for {
		_, rest, ok := strings.Cut(text, "{")
		if !ok {
			return names
		}
		name, after, ok := strings.Cut(rest, "}")
		if !ok {
			return append(names, rest)
		}
		names, text = append(names, name), after
	}
}

// gridLine is the number of the grid line that a coordinate is nearest to; what lies in the middle goes up on both
// sides of zero, so that every line has places in it for the same width.
func gridLine(degrees, grid float64) int32 {
	const micro = 1_000_000
	at, wide := int64(math.Round(degrees*micro)), int64(math.Round(grid*micro))
	line := (2*at + wide) / (2 * wide)
	if (2*at+wide)%(2*wide) < 0 { // which Go divides towards zero
		line--
	}
	return int32(line)
}
