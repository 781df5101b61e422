package atlas

import (
	"net/netip"
	"runtime"
	"sync"
)

// results remembers what was found, since all addresses of one node of every source
// share it, and making it takes longer than all the rest of a card. It is safe for
// concurrent use.
type results struct {
	shards [findingShards]struct {
		mu   sync.RWMutex
		kept map[resultKey]*LookupResult
	}
	mu     sync.RWMutex
	places map[placeKey]*described
}

const (
	findingShards = 16
	// resultsKept bounds how many are remembered in a shard; one takes some 3 KB.
	resultsKept = 512
	// placesKept bounds how many places are remembered; one takes some 2 KB.
	placesKept = 8192
	// resultSources is how many sources an atlas may have to remember anything.
	resultSources = 8
)

// resultKey is the node of an address in every source.
type resultKey [resultSources]uint32

// Lookup says where an address is and whose. An address that no source knows gets level
// none and a reason for every missing fact. What it holds is shared and must not be
// changed.
func (a *Atlas) Lookup(ip netip.Addr) *LookupResult {
	if a.results == nil || len(a.sources) > resultSources {
		return a.find(ip)
	}
	var key resultKey
	sum := uint32(0)
	for i, s := range a.sources {
		key[i] = s.table.Find(ip)
		sum = sum*31 + key[i]
	}
	runtime.KeepAlive(a)
	shard := &a.results.shards[sum%findingShards]
	shard.mu.RLock()
	known := shard.kept[key]
	shard.mu.RUnlock()
	if known != nil {
		return known
	}
	found := a.find(ip)
	shard.mu.Lock()
	if shard.kept == nil || len(shard.kept) >= resultsKept {
		shard.kept = make(map[resultKey]*LookupResult, resultsKept)
	}
	shard.kept[key] = found
	shard.mu.Unlock()
	return found
}

// placeKey is everything that a record says of a location.
type placeKey struct {
	country, region, city, postal, zone string
	latitude, longitude, radiusKm       float64
	point, byPoint                      bool
}

// described is what follows from a placeKey alone.
type described struct {
	facts    []string
	values   map[string]string
	location Location // of a place with a country
	derived  []Evidence
}

// describe gives what follows from a place. It is shared and must not be changed.
func (f *results) describe(p *place) *described {
	key := placeKey{country: p.country, region: p.region, city: p.city, postal: p.postal, zone: p.zone, radiusKm: p.radiusKm, byPoint: p.byPoint}
	if p.point != nil {
		key.latitude, key.longitude, key.point = p.point.Latitude, p.point.Longitude, true
	}
	if f != nil {
		f.mu.RLock()
		known := f.places[key]
		f.mu.RUnlock()
		if known != nil {
			return known
		}
	}
	said := claim(&Source{}, record{place: *p}, true, "")
	d := &described{facts: said.Facts, values: said.Values}
	if p.country != "" {
		d.location, d.derived = locate(record{place: *p})
	}
	if f != nil {
		f.mu.Lock()
		if f.places == nil || len(f.places) >= placesKept {
			f.places = map[placeKey]*described{}
		}
		f.places[key] = d
		f.mu.Unlock()
	}
	return d
}

// claim is what a record says, as evidence whose facts are shared.
func (f *results) claim(s *Source, rec *record, used bool, reason string) Evidence {
	d := f.describe(&rec.place)
	within := rec.span.String()
	e := Evidence{Facts: d.facts, Values: d.values, Basis: s.Basis, Source: s.Name, Rank: &s.Rank, Range: &within, Used: used, Reason: optional(reason)}
	if s.Dated != "" {
		e.Dated = &s.Dated
	}
	return e
}
