package source

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/mrt"
)

// Prefixes of these lengths are routes of networks: what is shorter or longer is dropped.
const (
	shortest4, longest4 = 8, 24
	shortest6, longest6 = 16, 48
)

// readMRT reads a dump of a routing table: of each prefix the AS that most peers see it originate
// from, and others that some do. It says whose a network is, never where. Dropped and counted are
// prefixes that are very short or very long, and those that only reserved or private AS numbers
// originate.
func readMRT(r io.Reader, how ParseOptions, about atlas.About) (*atlas.Source, error) {
	g, w := newGathering(how, about), newWorker(0)
	w.out = &chunkRows{}
	at := 0
	flush := func(record int) error {
		c := w.out
		c.lines, at = record-at, record
		c.sort()
		w.out = &chunkRows{}
		return g.take(c)
	}
	var failed error
	var key []byte
	stats, err := mrt.Read(r, how.Documentation, func(route *mrt.Route) {
		if failed != nil {
			return
		}
		if w.out.rows == cmp.Or(how.chunk, 50_000) {
			if failed = flush(route.Record - 1); failed != nil {
				return
			}
		}
		w.out.rows++
		key = route.Prefix.AppendTo(key[:0])
		w.out.bytes += len(key) + 40*route.Peers
		place, reason := placeOf(route, how.Operators)
		if reason != "" {
			w.out.notes = append(w.out.notes, noteOf(route.Record, route.Prefix, reason+"; dropped"))
			return
		}
		if len(route.Origins) > 1 {
			w.out.notes = append(w.out.notes, noteOf(route.Record, route.Prefix, fmt.Sprintf("AS%d and %d other origins: most peers see AS%d", route.Origins[0].AS, len(route.Origins)-1, route.Origins[0].AS)))
		}
		key = place.Append(key[:0])
		hash := w.known.hash(key)
		v, ok := w.known.get(hash)
		if !ok {
			v = verdict{place: w.made}
			w.made++
			w.out.places.Add(&place)
			w.known.put(hash, v)
		}
		if err := w.add(uint32(route.Record), nil, rangeText{span: addr.RangeOf(route.Prefix)}, v); err != nil {
			failed = err
		}
	})
	if err = errors.Join(failed, err); err != nil && !(errors.Is(err, mrt.ErrCut) && failed == nil) {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	note := func(record int, reason string) {
		w.out.notes = append(w.out.notes, atlas.Note{Line: record, Reason: reason})
	}
	if err != nil { // what came before the cut counts
		note(stats.Records+1, err.Error()+"; what came before it counts")
	}
	if stats.Broken > 0 {
		note(0, fmt.Sprintf("%d records do not hold what they say; passed over", stats.Broken))
	}
	for _, what := range slices.Sorted(maps.Keys(stats.Passed)) {
		note(0, fmt.Sprintf("%d %s; passed over", stats.Passed[what], what))
	}
	if err := flush(stats.Records); err != nil {
		return nil, err
	}
	if g.c.Source.Accepted == 0 {
		return nil, fmt.Errorf("%s: the dump has no route of a network among its %d records", about.Name, stats.Records)
	}
	return g.finish()
}

func noteOf(record int, p netip.Prefix, reason string) atlas.Note {
	return atlas.Note{Line: record, Text: p.String(), Reason: reason}
}

// placeOf is what a route says; reason is why it says nothing.
func placeOf(r *mrt.Route, operators map[uint32]string) (p atlas.Place, reason string) {
	shortest, longest := shortest4, longest4
	if r.Prefix.Addr().Is6() {
		shortest, longest = shortest6, longest6
	}
	switch bits := r.Prefix.Bits(); {
	case bits < shortest:
		return p, "the prefix is wider than any network"
	case bits > longest:
		return p, fmt.Sprintf("the prefix is longer than /%d", longest)
	case len(r.Origins) == 0 && r.Reserved > 0:
		return p, "its AS number is reserved or private"
	case len(r.Origins) == 0:
		return p, "no path of it has a clear end"
	}
	p.AsNumber = r.Origins[0].AS
	p.Operator = operators[p.AsNumber]
	for _, o := range r.Origins[1:min(len(r.Origins), 1+atlas.MaxOrigins)] {
		p.Origins = append(p.Origins, o.AS)
	}
	return p, ""
}
