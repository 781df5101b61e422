package atlas

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// The levels, from the finest.
const (
	City      Level = "city"
	Region    Level = "region"
	Country   Level = "country"
	Continent Level = "continent"
	None      Level = "none"
)

// Point gives the coordinates, nil where there are none.
func (w *Location) Point() *geo.Point {
	if w.Latitude == nil || w.Longitude == nil {
		return nil
	}
	return &geo.Point{Latitude: *w.Latitude, Longitude: *w.Longitude}
}

// NamesIn gives the names in a language (BCP 47), in English what it has no name for; a
// town that has no name in it is called as the source calls it.
func (w *Location) NamesIn(tag string) (n Names) {
	if w.ContinentCode != nil {
		n.Continent = plain.Optional(almanac.ContinentIn(*w.ContinentCode, tag))
	}
	if w.CountryCode != nil {
		n.Country = plain.Optional(almanac.NameIn(*w.CountryCode, tag))
	}
	if w.RegionCode != nil {
		n.Region = plain.Optional(almanac.RegionIn(*w.RegionCode, tag))
	}
	if w.City != nil && w.CountryCode != nil {
		n.City = plain.Optional(gazetteer.NameIn(*w.CountryCode, *w.City, tag))
	}
	return n
}

// TownNotFound is why a location is coarser than the town that it names, in missing under
// level: its point is not the town's.
const TownNotFound = "town_not_found"

// Nowhere is a location of level none; the reason stands for every fact.
func Nowhere(reason string) Location {
	return Location{Level: None, Missing: missing(false, reason)}
}

// claim is what a record says, as evidence.
func claim(s *Source, rec Record, used bool, reason string) Evidence {
	rank := s.Rank
	e := Evidence{
		Facts: []string{}, Values: map[string]string{}, Basis: s.Basis, Source: s.Name,
		Rank: &rank, Range: addr.OptionalRange{Range: rec.Span}, Dated: plain.Optional(s.Dated), Used: used, Reason: plain.Optional(reason),
	}
	e.claims(&rec.Place, false)
	return e
}

// networkClaim is what a record says of a network, as evidence.
func networkClaim(s *Source, rec Record) Evidence {
	e := claim(s, Record{Span: rec.Span}, true, "")
	e.claims(&rec.Place, true)
	if len(rec.Origins) > 0 {
		others := make([]string, len(rec.Origins))
		for i, as := range rec.Origins {
			others[i] = fmt.Sprint("AS", as)
		}
		e.Reason = plain.Optional("some peers see it come from " + strings.Join(others, ", "))
	}
	return e
}

// claims adds what a place says of a location, or of a network.
func (e *Evidence) claims(p *Place, network bool) {
	for i := range Facts {
		if f := &Facts[i]; f.Network == network {
			e.add(f.Name, f.Claim(p))
		}
	}
}

func (e *Evidence) add(fact, value string) {
	if value != "" {
		e.Facts = append(e.Facts, fact)
		e.Values[fact] = value
	}
}

// locate turns codes and a town's name into a location, deriving the rest.
func locate(rec Record) (Location, []Evidence) {
	w := Location{Level: Country, CountryCode: &rec.Country, Missing: map[string]string{}}
	country, _ := almanac.ByCode(rec.Country)
	continent := almanac.Continent(country.Continent)
	w.ContinentCode, w.Names.Continent, w.Names.Country = &country.Continent, &continent, &country.Name
	if rec.Region != "" {
		name, _ := almanac.Region(rec.Region)
		w.Level, w.RegionCode, w.Names.Region = Region, &rec.Region, &name
	} else {
		w.Missing["region_code"] = "the source names no region here"
	}
	if rec.City != "" {
		name := gazetteer.NameIn(rec.Country, rec.City, "en")
		w.Level, w.City, w.Names.City = City, &rec.City, &name
	} else {
		w.Missing["city"] = "the source stops at the " + string(w.Level)
	}
	w.given(&rec.Place)
	e := derive(&w, rec)
	w.own(&e, rec)
	var derived []Evidence
	if rec.ByPoint {
		by := Evidence{Values: map[string]string{}, Basis: Derived, Source: "Gazetteer, nearest town", Used: true, Reason: plain.Optional("the source gives a point and no country")}
		by.add("country_code", rec.Country)
		derived = append(derived, by)
	}
	if len(e.Facts) > 0 || !e.Used { // the source did not say all of it
		derived = append(derived, e)
	}
	return w, derived
}

// given has what is said by sources alone.
func (w *Location) given(p *Place) {
	for i := range Facts {
		if f := &Facts[i]; !f.Given || f.Network {
			continue
		} else if text := f.place(p); *text != "" {
			*f.field(w, nil).(**string) = text
		} else {
			w.Missing[f.Name] = "the source gives none here"
		}
	}
}

// own puts the source's own coordinates, radius and zone over what was derived.
func (w *Location) own(derived *Evidence, rec Record) {
	drop := func(facts ...string) {
		for _, fact := range facts {
			delete(derived.Values, fact)
			delete(w.Missing, fact)
			if i := slices.Index(derived.Facts, fact); i >= 0 {
				derived.Facts = slices.Delete(derived.Facts, i, i+1)
			}
		}
	}
	if rec.Point != nil {
		w.Latitude, w.Longitude = &rec.Point.Latitude, &rec.Point.Longitude
		drop("latitude", "longitude")
		if w.Missing["level"] != "" { // the point is the town's after all
			w.Level = City
			delete(w.Missing, "level")
		}
		if rec.RadiusKm == 0 && w.RadiusKm == nil { // a point never looks more exact than it is
			vague := 1000.0
			w.RadiusKm = &vague
			drop("radius_km")
		}
	}
	if rec.RadiusKm > 0 {
		w.RadiusKm = &rec.RadiusKm
		drop("radius_km")
	}
	if rec.Zone != "" {
		w.TimeZone = &rec.Zone
		drop("time_zone")
	}
}

// derive finds coordinates, radius and time zone in the gazetteer: of the town, failing that
// of the region, failing that of the country.
func derive(w *Location, rec Record) Evidence {
	e := Evidence{Facts: []string{}, Values: map[string]string{}, Basis: Derived, Used: true}
	if town, ok := gazetteer.Find(rec.Country, rec.Region, rec.City); ok {
		e.Source, e.Reason = "Gazetteer, middle of the town", plain.Optional("from the town that the claim names")
		if town.Alike > 1 {
			where := "there"
			if rec.Region == "" {
				where = "in the country, and the claim names no region"
			}
			e.Reason = plain.Optional(fmt.Sprintf("the largest of %d places of that name %s", town.Alike, where))
		}
		if rec.Region == "" && town.Region != "" {
			name, _ := almanac.Region(town.Region)
			w.RegionCode, w.Names.Region = &town.Region, &name
			delete(w.Missing, "region_code")
			e.add("region_code", town.Region)
		}
		w.place(&e, town.Point, town.RadiusKm(), 3)
		w.zone(&e, town.Zone)
		return e
	}
	area, what := gazetteer.Area{}, Region
	ok := false
	if rec.Region != "" {
		area, ok = gazetteer.Region(rec.Region)
	}
	if !ok {
		area, ok = gazetteer.Country(rec.Country)
		what = Country
	}
	if rec.City != "" {
		w.Level, w.Missing["level"] = what, TownNotFound
	}
	if !ok {
		e.Source = "Gazetteer"
		for _, fact := range []string{"latitude", "longitude", "radius_km", "time_zone"} {
			w.Missing[fact] = "the gazetteer has no town in this country"
		}
		e.Used, e.Reason = false, plain.Optional("knows no town in this country")
		return e
	}
	e.Source = "Gazetteer, middle of the " + string(what)
	e.Reason = plain.Optional("weighted by people; 95% of them live within the radius")
	if rec.City != "" {
		e.Reason = plain.Optional(fmt.Sprintf("%s is not in the gazetteer, so the %s stands for it", rec.City, what))
	}
	w.place(&e, area.Middle, area.RadiusKm, 2)
	if len(area.Zones) == 1 {
		w.zone(&e, area.Zones[0])
	} else {
		w.Missing["time_zone"] = fmt.Sprintf("the %s has %d time zones", what, len(area.Zones))
	}
	return e
}

func (w *Location) place(e *Evidence, p geo.Point, radiusKm float64, decimals int) {
	scale := math.Pow10(decimals)
	lat, lon := math.Round(p.Latitude*scale)/scale, math.Round(p.Longitude*scale)/scale
	w.Latitude, w.Longitude, w.RadiusKm = &lat, &lon, &radiusKm
	e.add("latitude", plain.Decimal(lat))
	e.add("longitude", plain.Decimal(lon))
	e.add("radius_km", plain.Decimal(radiusKm))
}

func (w *Location) zone(e *Evidence, zone string) {
	w.TimeZone = &zone
	e.add("time_zone", zone)
}
