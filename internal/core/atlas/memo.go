package atlas

import (
	"hash/maphash"
	"net/netip"
	"runtime"
	"sync/atomic"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
)

// results remembers what was found, since all addresses of one node of every source
// share it, and making it takes longer than all the rest of a card. It is safe for
// concurrent use.
type results struct {
	found  memo[resultKey, LookupResult]
	places memo[placeKey, described]
}

// A memo remembers values, each in one of two places that its key has, so that whoever looks it up waits for
// nobody. A value that comes pushes another to its second place, and what was there is forgotten.
type memo[K comparable, V any] struct {
	places []atomic.Pointer[remembered[K, V]] // a power of two
	seed   maphash.Seed
}

type remembered[K comparable, V any] struct {
	key   K
	value *V
}

func newMemo[K comparable, V any](places int) memo[K, V] {
	return memo[K, V]{make([]atomic.Pointer[remembered[K, V]], places), maphash.MakeSeed()}
}

func (m *memo[K, V]) place(key K) int {
	return int(maphash.Comparable(m.seed, key) & uint64(len(m.places)-1))
}

// get gives what is remembered of a key, nil for nothing.
func (m *memo[K, V]) get(key K) *V {
	at := m.place(key)
	for _, place := range [...]int{at, at ^ 1} {
		if r := m.places[place].Load(); r != nil && r.key == key {
			return r.value
		}
	}
	return nil
}

func (m *memo[K, V]) add(key K, value *V) {
	at := m.place(key)
	if before := m.places[at].Swap(&remembered[K, V]{key, value}); before != nil {
		m.places[at^1].Store(before)
	}
}

// count is how many values are remembered, some perhaps twice.
func (m *memo[K, V]) count() (n int) {
	for i := range m.places {
		if m.places[i].Load() != nil {
			n++
		}
	}
	return n
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
	return &results{newMemo[resultKey, LookupResult](resultsKept), newMemo[placeKey, described](placesKept)}
}

// resultKey is the node of an address in every source.
type resultKey [resultSources]uint32

// Lookup says where an address is and whose. An address that no source knows gets level
// none and a reason for every missing fact. What it holds is shared and must not be
// changed.
func (a *Atlas) Lookup(ip netip.Addr) *LookupResult {
	if len(a.sources) > resultSources {
		return a.find(ip, nil)
	}
	var key resultKey
	for i, s := range a.sources {
		key[i] = s.Node(ip)
	}
	runtime.KeepAlive(a)
	if known := a.results.found.get(key); known != nil {
		return known
	}
	found := a.find(ip, key[:])
	a.results.found.add(key, found)
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
	if known := f.places.get(key); known != nil {
		return known
	}
	said := claim(&Source{}, Record{Place: *p}, true, "")
	d := &described{facts: said.Facts, values: said.Values}
	if p.Country != "" {
		d.location, d.derived = locate(Record{Place: *p})
	}
	f.places.add(key, d)
	return d
}

// claim is what a record says, as evidence whose facts are shared.
func (f *results) claim(s *Source, rec *Record, used bool, reason string) Evidence {
	return f.describe(&rec.Place).claim(s, rec.Span, used, reason)
}

// claim is what a source says of a place in a range.
func (d *described) claim(s *Source, span addr.Range, used bool, reason string) Evidence {
	e := Evidence{Facts: d.facts, Values: d.values, Basis: s.Basis, Source: s.Name, Rank: &s.Rank, Range: addr.OptionalRange{Range: span}, Used: used, Reason: plain.Optional(reason)}
	if s.Dated != "" {
		e.Dated = &s.Dated
	}
	return e
}
