package atlas

import (
	"cmp"
	"net/netip"
	"strings"

	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
)

// Disagrees is how the reason begins why a claim was not used that contradicts a better one.
const Disagrees = "disagrees"

// A part is what one source says of an address, and how much of that is used.
type part struct {
	source *Source
	Record
	used   Place // what of it the answer has
	reason string
}

// merge finds what every source says of an address, and makes one record of it: what the
// highest-ranked says, with what it leaves open filled. There are no parts where nobody says
// anything. The parts are put into buffer, from its beginning.
func (a *Atlas) merge(ip netip.Addr, nodes []uint32, won *Record, buffer []part) (parts []part) {
	parts = buffer[:0]
	for i, s := range a.sources {
		found, ok := s.from(nodes[i], ip, (*Place).Locates)
		if !ok {
			continue
		}
		before := parts
		parts = append(parts, part{source: s, Record: found})
		p := &parts[len(before)]
		rec := &p.Record
		switch {
		case len(before) == 0:
			*won, p.used = *rec, rec.Place
		case won.DoNotLocate:
			p.reason = "a higher-ranked source asks not to locate this range"
		default:
			var instead bool
			derived := won.ByPoint
			p.used, instead, p.reason = fill(&won.Place, &rec.Place)
			if s.Basis == Registration {
				p.reason = strings.Replace(p.reason, "ranks lower", "is a registration", 1)
			}
			for i := range before {
				if derived && !won.ByPoint { // this source names it
					parts[i].used.Country, parts[i].used.ByPoint = "", false
				}
				if instead { // they are of a wider place
					parts[i].used.Point, parts[i].used.RadiusKm, parts[i].used.Zone = nil, 0, ""
				}
			}
		}
	}
	return parts
}

// evidence adds what the part says, apart what is used of it and what lost.
func (p *part) evidence(list []Evidence, memo *results, won *Record) []Evidence {
	switch {
	case p.used.empty() && !p.used.DoNotLocate:
		return append(list, memo.claim(p.source, &p.Record, false, p.reason))
	case len(list) == 0 && p.used.DoNotLocate, p.used.says(&p.Place):
		return append(list, memo.claim(p.source, &p.Record, true, p.reason))
	}
	list = append(list, memo.claim(p.source, &Record{p.used, p.Span}, true, p.reason))
	lost := p.Place.without(&won.Place)
	if lost.City != "" && gazetteer.SamePlace(won.Country, won.Region, lost.City, won.City) {
		lost.City = ""
	}
	if !lost.empty() {
		reason := "the higher-ranked source says otherwise"
		if len(list) == 1 {
			reason = "it is of the whole " + string(p.used.Level()) + "; a lower-ranked source knows more"
		}
		list = append(list, memo.claim(p.source, &Record{lost, p.Span}, false, reason))
	}
	return list
}

// empty says whether a place says nothing of a location.
func (p *Place) empty() bool {
	for i, text := range p.texts() {
		if text != nil && *text != "" && !Facts[i].Network {
			return false
		}
	}
	return p.Point == nil && p.RadiusKm == 0
}

// says says whether p has every fact that other has.
func (p *Place) says(other *Place) bool {
	mine := p.texts()
	for i, text := range other.texts() {
		if text != nil && *text != "" && *text != *mine[i] && !Facts[i].Network {
			return false
		}
	}
	return (other.Point == nil || p.Point != nil && *p.Point == *other.Point) && (other.RadiusKm == 0 || other.RadiusKm == p.RadiusKm)
}

// without is what of p another does not say alike.
func (p *Place) without(other *Place) Place {
	rest := *p
	others := other.texts()
	for i, text := range rest.texts() {
		if text != nil && *text == *others[i] && !Facts[i].Network {
			*text = ""
		}
	}
	if p.Point != nil && other.Point != nil && *p.Point == *other.Point {
		rest.Point = nil
	}
	if p.RadiusKm == other.RadiusKm {
		rest.RadiusKm = 0
	}
	return rest
}

// fill puts into won what a lower-ranked place says finer, where their coarser facts do
// not contradict each other: a region that one of them lacks is no contradiction. took is
// what was filled, else reason says why nothing was. A finer place comes with its own
// point, radius and zone, or none, instead of those that won had: they are of a wider one.
func fill(won, rec *Place) (took Place, instead bool, reason string) {
	switch {
	case rec.DoNotLocate:
		return took, false, "asks not to be located, but a higher-ranked source locates it"
	case rec.Country != won.Country:
		return took, false, Disagrees + " on the country, and ranks lower"
	case won.Region != "" && rec.Region != "" && won.Region != rec.Region, elsewhere(won, rec), elsewhere(rec, won):
		return took, false, Disagrees + " on the region, and ranks lower"
	case won.City != "" && rec.City != "" && !gazetteer.SamePlace(won.Country, cmp.Or(won.Region, rec.Region), won.City, rec.City):
		return took, false, Disagrees + " on the town, and ranks lower"
	}
	sameTown := won.City != "" && rec.City != ""
	instead = won.City == "" && (rec.City != "" || won.Region == "" && rec.Region != "")
	if instead {
		won.Point, won.RadiusKm, won.Zone = nil, 0, ""
	}
	if won.Region == "" && rec.Region != "" && (instead || sameTown || won.City != "" && regionOf(won) == rec.Region) {
		won.Region, took.Region = rec.Region, rec.Region
	}
	if won.City == "" {
		won.City, took.City = rec.City, rec.City
	}
	if won.ByPoint && !rec.ByPoint {
		won.ByPoint, took.Country = false, rec.Country
	}
	asFine := sameTown || instead || won.City == "" && (won.Region == "" || rec.Region != "")
	if asFine {
		for i := range Facts {
			if f := &Facts[i]; f.Given && !f.Network && *f.place(won) == "" {
				*f.place(won), *f.place(&took) = *f.place(rec), *f.place(rec)
			}
		}
		if won.Zone == "" {
			won.Zone, took.Zone = rec.Zone, rec.Zone
		}
		// A radius is of its point.
		if won.RadiusKm == 0 && (won.Point == nil || rec.Point == nil || geo.DistanceKm(*won.Point, *rec.Point) <= rec.RadiusKm) {
			won.RadiusKm, took.RadiusKm = rec.RadiusKm, rec.RadiusKm
		}
		if won.Point == nil {
			won.Point, took.Point = rec.Point, rec.Point
		}
	}
	if took.empty() {
		return took, false, "agrees, and ranks lower"
	}
	return took, instead, "fills what the higher-ranked source leaves open"
}

// elsewhere says whether the gazetteer knows that the town of one place is not in the
// region of the other, which names no town.
func elsewhere(town, area *Place) bool {
	if town.City == "" || town.Region != "" || area.Region == "" || area.City != "" {
		return false
	}
	_, there := gazetteer.Find(town.Country, area.Region, town.City)
	_, known := gazetteer.Find(town.Country, "", town.City)
	return known && !there
}

// regionOf is the region of a place's town, or "".
func regionOf(p *Place) string {
	if t, ok := gazetteer.Find(p.Country, p.Region, p.City); ok {
		return t.Region
	}
	return ""
}

// Located is what Lookup finds of a location before anything is derived, without
// the evidence. ok is false where nothing is said, or it must not be located.
func (a *Atlas) Located(ip netip.Addr) (won Record, from *Source, ok bool) {
	for _, s := range a.sources {
		rec, said := s.Find(ip, (*Place).Locates)
		switch {
		case !said:
		case !ok:
			won, from, ok = rec, s, true
		case !won.DoNotLocate:
			fill(&won.Place, &rec.Place)
		}
	}
	return won, from, ok && !won.DoNotLocate
}
