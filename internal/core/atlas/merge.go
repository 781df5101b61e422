package atlas

import (
	"net/netip"

	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
)

// A part is what one source says of an address, and how much of that is used.
type part struct {
	source *Source
	record
	used   place // what of it the answer has
	reason string
}

// merge finds what every source says of an address, and makes one record of it: what the
// highest-ranked says, with what it leaves open filled. won is nil where nobody says
// anything. buffer is for the parts.
func (a *Atlas) merge(ip netip.Addr, buffer []part) (won *record, parts []part) {
	parts = buffer[:0]
	for _, s := range a.sources {
		rec, ok := s.find(ip, (*place).locates)
		if !ok {
			continue
		}
		p := part{source: s, record: rec}
		switch {
		case won == nil:
			first := rec
			won, p.used = &first, rec.place
		case won.doNotLocate:
			p.reason = "a higher-ranked source asks not to locate this range"
		default:
			var instead bool
			derived := won.byPoint
			p.used, instead, p.reason = fill(&won.place, &rec.place)
			for i := range parts {
				if derived && !won.byPoint { // this source names it
					parts[i].used.country, parts[i].used.byPoint = "", false
				}
				if instead { // they are of a wider place
					parts[i].used.point, parts[i].used.radiusKm, parts[i].used.zone = nil, 0, ""
				}
			}
		}
		parts = append(parts, p)
	}
	return won, parts
}

// evidence adds what the part says, apart what is used of it and what lost.
func (p *part) evidence(list []Evidence, memo *results, won *record) []Evidence {
	switch {
	case p.used.empty() && !p.used.doNotLocate:
		return append(list, memo.claim(p.source, &p.record, false, p.reason))
	case len(list) == 0 && p.used.doNotLocate, p.used.says(&p.place):
		return append(list, memo.claim(p.source, &p.record, true, p.reason))
	}
	list = append(list, memo.claim(p.source, &record{p.used, p.span}, true, p.reason))
	lost := p.place.without(&won.place)
	if gazetteer.SameName(lost.city, won.city) {
		lost.city = ""
	}
	if !lost.empty() {
		reason := "the higher-ranked source says otherwise"
		if len(list) == 1 {
			reason = "it is of the whole " + string(p.used.level()) + "; a lower-ranked source knows more"
		}
		list = append(list, memo.claim(p.source, &record{lost, p.span}, false, reason))
	}
	return list
}

// empty says whether a place says nothing of a location.
func (p *place) empty() bool {
	return p.country == "" && p.region == "" && p.city == "" && p.postal == "" && p.point == nil && p.radiusKm == 0 && p.zone == ""
}

// says says whether p has every fact that other has.
func (p *place) says(other *place) bool {
	rest := other.without(p)
	return rest.empty()
}

// without is what of p another does not say alike.
func (p *place) without(other *place) place {
	rest := *p
	for _, fact := range []struct{ mine, others *string }{
		{&rest.country, &other.country}, {&rest.region, &other.region}, {&rest.city, &other.city}, {&rest.postal, &other.postal}, {&rest.zone, &other.zone},
	} {
		if *fact.mine == *fact.others {
			*fact.mine = ""
		}
	}
	if p.point != nil && other.point != nil && *p.point == *other.point {
		rest.point = nil
	}
	if p.radiusKm == other.radiusKm {
		rest.radiusKm = 0
	}
	return rest
}

// fill puts into won what a lower-ranked place says finer, where their coarser facts do
// not contradict each other: a region that one of them lacks is no contradiction. took is
// what was filled, else reason says why nothing was. A finer place comes with its own
// point, radius and zone, or none, instead of those that won had: they are of a wider one.
func fill(won, rec *place) (took place, instead bool, reason string) {
	switch {
	case rec.doNotLocate:
		return took, false, "asks not to be located, but a higher-ranked source locates it"
	case rec.country != won.country:
		return took, false, "disagrees on the country, and ranks lower"
	case won.region != "" && rec.region != "" && won.region != rec.region, elsewhere(won, rec), elsewhere(rec, won):
		return took, false, "disagrees on the region, and ranks lower"
	case won.city != "" && rec.city != "" && !gazetteer.SameName(won.city, rec.city):
		return took, false, "disagrees on the town, and ranks lower"
	}
	sameTown := won.city != "" && rec.city != ""
	instead = won.city == "" && (rec.city != "" || won.region == "" && rec.region != "")
	if instead {
		won.point, won.radiusKm, won.zone = nil, 0, ""
	}
	if won.region == "" && rec.region != "" && (instead || sameTown || won.city != "" && regionOf(won) == rec.region) {
		won.region, took.region = rec.region, rec.region
	}
	if won.city == "" {
		won.city, took.city = rec.city, rec.city
	}
	if won.byPoint && !rec.byPoint {
		won.byPoint, took.country = false, rec.country
	}
	asFine := sameTown || instead || won.city == "" && (won.region == "" || rec.region != "")
	if asFine {
		if won.postal == "" {
			won.postal, took.postal = rec.postal, rec.postal
		}
		if won.zone == "" {
			won.zone, took.zone = rec.zone, rec.zone
		}
		// A radius is of its point.
		if won.radiusKm == 0 && (won.point == nil || rec.point == nil || geo.DistanceKm(*won.point, *rec.point) <= rec.radiusKm) {
			won.radiusKm, took.radiusKm = rec.radiusKm, rec.radiusKm
		}
		if won.point == nil {
			won.point, took.point = rec.point, rec.point
		}
	}
	if took.empty() {
		return took, false, "agrees, and ranks lower"
	}
	return took, instead, "fills what the higher-ranked source leaves open"
}

// elsewhere says whether the gazetteer knows that the town of one place is not in the
// region of the other, which names no town.
func elsewhere(town, area *place) bool {
	if town.city == "" || town.region != "" || area.region == "" || area.city != "" {
		return false
	}
	_, there := gazetteer.Find(town.country, area.region, town.city)
	_, known := gazetteer.Find(town.country, "", town.city)
	return known && !there
}

// regionOf is the region of a place's town, or "".
func regionOf(p *place) string {
	if t, ok := gazetteer.Find(p.country, p.region, p.city); ok {
		return t.Region
	}
	return ""
}

// located is what Lookup finds of a location before anything is derived, without
// the evidence. ok is false where nothing is said, or it must not be located.
func (a *Atlas) located(ip netip.Addr) (won record, from *Source, ok bool) {
	for _, s := range a.sources {
		rec, said := s.find(ip, (*place).locates)
		switch {
		case !said:
		case !ok:
			won, from, ok = rec, s, true
		case !won.doNotLocate:
			fill(&won.place, &rec.place)
		}
	}
	return won, from, ok && !won.doNotLocate
}
