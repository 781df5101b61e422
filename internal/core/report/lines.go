package report

import (
	"strings"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// A kind says how a report by something is made: of which counts, and what the row of a
// key is. false leaves the key out.
type kind struct {
	by   visit.By
	line func(visit.KeyCount) (Row, bool)
}

var kinds = map[string]kind{
	"countries": {visit.ByCountry, countryLine},
	"regions":   {visit.ByPlace, regionLine},
	"towns":     {visit.ByPlace, townLine},
	"zones":     {visit.ByPlace, zoneLine},
	"places":    {visit.ByPlace, placeLine},
	"networks":  {visit.ByNetwork, networkLine},
	"paths":     {visit.ByPath, plainLine("path")},
	"referrers": {visit.ByReferrer, plainLine("referrer")},
	"languages": {visit.ByLanguage, plainLine("language")},
	"bases":     {visit.ByBasis, basisLine},
	"labels":    {visit.ByLabel, plainLine("label")},
	"links":     {visit.ByLink, plainLine("link")},
	"agents":    {visit.ByAgent, agentLine},
}

// rows gives a row for each key, in the order of the tally, and how many visits have no key.
func (how kind) rows(t visit.Tally) (rows []*Row, without int64) {
	by := map[string]*Row{}
	for _, k := range t.Keys {
		line, ok := how.line(k)
		if !ok {
			without += k.Visits
			continue
		}
		if by[line.Key] == nil {
			by[line.Key] = &line
			rows = append(rows, &line)
		}
		by[line.Key].Visits += k.Visits
	}
	return rows, without
}

func countryLine(k visit.KeyCount) (Row, bool) {
	key := k.Key
	if key == "" {
		return Row{Filter: map[string]string{"level": string(atlas.None)}}, true
	}
	r := Row{Key: key, Filter: map[string]string{"country_code": key}}
	r.CountryCode = &key
	r.nameCountry()
	r.Name = r.Names.Country
	return r, true
}

func basisLine(k visit.KeyCount) (Row, bool) {
	if k.Key == "" { // there is no country
		return Row{Filter: map[string]string{"level": string(atlas.None)}}, true
	}
	return plainLine("basis")(k)
}

func (r *Row) nameCountry() {
	if r.CountryCode == nil {
		return
	}
	if country, ok := almanac.ByCode(*r.CountryCode); ok {
		r.Names.Country = &country.Name
	}
	if r.RegionCode != nil {
		if name, ok := almanac.Region(*r.RegionCode); ok {
			r.Names.Region = &name
		}
	}
	if r.City != nil {
		name := gazetteer.NameIn(*r.CountryCode, *r.City, "en")
		r.Names.City = &name
	}
}

func regionLine(k visit.KeyCount) (Row, bool) {
	p := k.Place
	if p.RegionCode == nil {
		return Row{}, false
	}
	r := Row{Key: *p.RegionCode, Place: visit.Place{Level: string(atlas.Region), CountryCode: p.CountryCode, RegionCode: p.RegionCode}}
	r.nameCountry()
	r.Name, r.Filter = r.Names.Region, map[string]string{"region_code": *p.RegionCode}
	return r, true
}

func townLine(k visit.KeyCount) (Row, bool) {
	p := k.Place
	if p.City == nil {
		return Row{}, false
	}
	r := Row{Key: strings.Join([]string{plain.Value(p.CountryCode), plain.Value(p.RegionCode), *p.City}, "/"), Name: p.City, Place: p}
	r.nameCountry()
	r.Filter = map[string]string{"city": *p.City}
	if r.Names.City != nil {
		r.Name = r.Names.City
	}
	r.addCodes()
	return r, true
}

func (r *Row) addCodes() {
	if r.CountryCode != nil {
		r.Filter["country_code"] = *r.CountryCode
	}
	if r.RegionCode != nil {
		r.Filter["region_code"] = *r.RegionCode
	}
}

func zoneLine(k visit.KeyCount) (Row, bool) {
	p := k.Place
	if p.TimeZone == nil {
		return Row{}, false
	}
	return Row{Key: *p.TimeZone, Name: p.TimeZone, Place: visit.Place{TimeZone: p.TimeZone}, Filter: map[string]string{"time_zone": *p.TimeZone}}, true
}

// placeLine is a place with a point, of any level.
func placeLine(k visit.KeyCount) (Row, bool) {
	p := k.Place
	if p.Latitude == nil || p.Longitude == nil || p.CountryCode == nil {
		return Row{}, false
	}
	r := Row{Key: strings.Join([]string{p.Level, plain.Value(p.CountryCode), plain.Value(p.RegionCode), plain.Value(p.City), plain.Decimal(*p.Latitude), plain.Decimal(*p.Longitude)}, "/"), Place: p}
	r.nameCountry()
	r.Filter = map[string]string{"level": p.Level}
	r.addCodes()
	for _, name := range []*string{r.Names.City, r.Names.Region, r.Names.Country} {
		if r.Name == nil {
			r.Name = name
		}
	}
	if p.City != nil {
		r.Filter = map[string]string{"city": *p.City}
		r.addCodes()
	}
	return r, true
}

func networkLine(k visit.KeyCount) (Row, bool) {
	key := k.Key
	if key == "" {
		return Row{Filter: map[string]string{}}, true
	}
	asNumber, operator, _ := strings.Cut(key, " ")
	name := operator
	if asNumber != "" {
		name = strings.TrimSpace(operator + " (AS" + asNumber + ")")
	}
	return Row{Key: key, Name: &name, Filter: map[string]string{"network": key}}, true
}

func plainLine(filter string) func(visit.KeyCount) (Row, bool) {
	return func(k visit.KeyCount) (Row, bool) {
		key := k.Key
		if key == "" {
			return Row{Filter: map[string]string{}}, true
		}
		return Row{Key: key, Name: &key, Filter: map[string]string{filter: key}}, true
	}
}

// agentLine is a row that no filter picks the visits of.
func agentLine(k visit.KeyCount) (Row, bool) {
	if k.Key == "" {
		return Row{Filter: map[string]string{}}, true
	}
	return Row{Key: k.Key, Name: &k.Key, Filter: map[string]string{}}, true
}

// PlaceName gives the name of a town, region or country, in English; nil where there is none.
func PlaceName(p visit.Place) *string {
	r := Row{Place: p}
	r.nameCountry()
	for _, name := range []*string{r.Names.City, r.Names.Region, r.Names.Country} {
		if name != nil {
			return name
		}
	}
	return nil
}
