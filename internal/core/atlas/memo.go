package atlas

import (
	"net/netip"
	"runtime"

	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
)

// results remembers what was found, since all addresses of one node of every source
// share it, and making it takes longer than all the rest of a card. It is safe for
// concurrent use.
type results struct {
	found  *lru.Cache[resultKey, *LookupResult]
	places *lru.Cache[placeKey, *described]
}

const (
	// resultsKept bounds how many results are remembered; one takes some 3 KB.
	resultsKept = 8192
	// placesKept bounds how many places are remembered; one takes some 2 KB.
	placesKept = 8192
	// resultSources is how many sources an atlas may have for its results to be remembered.
	resultSources = 8
)

func newResults() *results {
	found, _ := lru.New[resultKey, *LookupResult](resultsKept) // which fails for no size above 0
	places, _ := lru.New[placeKey, *described](placesKept)
	return &results{found, places}
}

// resultKey is the node of an address in every source.
type resultKey [resultSources]uint32

// Lookup says where an address is and whose. An address that no source knows gets level
// none and a reason for every missing fact. What it holds is shared and must not be
// changed.
func (a *Atlas) Lookup(ip netip.Addr) *LookupResult {
	if len(a.sources) > resultSources {
		return a.find(ip)
	}
	var key resultKey
	for i, s := range a.sources {
		key[i] = s.Node(ip)
	}
	runtime.KeepAlive(a)
	if known, ok := a.results.found.Get(key); ok {
		return known
	}
	found := a.find(ip)
	a.results.found.Add(key, found)
	return found
}

// placeKey is everything that a record says of a location.
type placeKey struct {
	texts                         [len(Facts)]string
	latitude, longitude, radiusKm float64
	point, byPoint                bool
}

// described is what follows from a placeKey alone.
type described struct {
	facts    []string
	values   map[string]string
	location Location // of a place with a country
	derived  []Evidence
}

// describe gives what follows from a place. It is shared and must not be changed.
func (f *results) describe(p *Place) *described {
	key := placeKey{radiusKm: p.RadiusKm, byPoint: p.ByPoint}
	for i, text := range p.texts() {
		if text != nil && !Facts[i].Network {
			key.texts[i] = *text
		}
	}
	if p.Point != nil {
		key.latitude, key.longitude, key.point = p.Point.Latitude, p.Point.Longitude, true
	}
	if known, ok := f.places.Get(key); ok {
		return known
	}
	said := claim(&Source{}, Record{Place: *p}, true, "")
	d := &described{facts: said.Facts, values: said.Values}
	if p.Country != "" {
		d.location, d.derived = locate(Record{Place: *p})
	}
	f.places.Add(key, d)
	return d
}

// claim is what a record says, as evidence whose facts are shared.
func (f *results) claim(s *Source, rec *Record, used bool, reason string) Evidence {
	d := f.describe(&rec.Place)
	e := Evidence{Facts: d.facts, Values: d.values, Basis: s.Basis, Source: s.Name, Rank: &s.Rank, Range: addr.OptionalRange{Range: rec.Span}, Used: used, Reason: plain.Optional(reason)}
	if s.Dated != "" {
		e.Dated = &s.Dated
	}
	return e
}
