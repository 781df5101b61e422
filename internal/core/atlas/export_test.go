package atlas

import "net/netip"

// What the tests, which read sources and so stand outside, see of the inside.
const (
	Version       = version
	PreludeSize   = preludeSize
	ResultsKept   = resultsKept
	ResultSources = resultSources
)

// Found is what [Atlas.Lookup] gives, made anew.
func (a *Atlas) Found(ip netip.Addr) *LookupResult { return a.find(ip, nil) }

// Remembered is how many results and places are remembered.
func (a *Atlas) Remembered() (results, places int) {
	return a.results.found.count(), a.results.places.count()
}

// AsBytes gives words as bytes, in place.
func AsBytes(w []uint32) []byte { return asBytes(w) }
