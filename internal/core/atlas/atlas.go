// Package atlas says where an address is by sources of range data, how
// sure that is, and who says so.
//
// Sources are merged at lookup: the most specific range of the highest-ranked
// source that says anything wins as a unit, registrations last, and finer facts that it
// lacks are filled from the next source where the coarser facts agree. Whatever the
// sources leave out, coordinates above all, is derived from the gazetteer and
// marked so.
package atlas

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"eastporch/internal/core/plain"
)

// An Atlas is one edition: all sources, merged. It is immutable and safe for
// concurrent use. The zero Atlas knows nothing.
type Atlas struct {
	why     string // there are no sources; "" is [NoData]
	name    string
	sum     [sha256.Size]byte // of all that the sources say, corrections too
	built   time.Time
	sources []*Source // by rank
	credits []string

	results *results
}

// New makes an edition of sources, the highest-ranked first; registrations come after all
// others, whatever their rank: where a network is registered counts only where nothing better
// is said. Sources of equal rank keep their order.
func New(sources ...*Source) *Atlas {
	a := &Atlas{sources: slices.Clone(sources), built: time.Now().UTC().Truncate(time.Second)}
	slices.SortStableFunc(a.sources, func(x, y *Source) int { return cmp.Compare(x.turn(), y.turn()) })
	a.sum = checksum(a.sources)
	a.name = nameOf(a.sources, a.sum)
	return a.prepare()
}

// turn is when a source speaks: by rank, and a registration after all that is none.
func (s *Source) turn() int {
	if s.Basis == Registration {
		return s.Rank + math.MaxInt32
	}
	return s.Rank
}

// nameOf makes the name of an edition: the date of its newest source, and how its checksum
// begins.
func nameOf(sources []*Source, sum [sha256.Size]byte) string {
	newest := ""
	for _, s := range sources {
		newest = max(newest, s.Dated)
	}
	return fmt.Sprintf("%s-%x", cmp.Or(newest, "undated"), sum[:4])
}

// Empty is the name of the edition that has no sources.
var Empty = nameOf(nil, checksum(nil))

// prepare readies an atlas for answers once it has its sources.
func (a *Atlas) prepare() *Atlas {
	a.results, a.credits = newResults(), []string{}
	for _, s := range a.sources {
		if s.Credit != "" && !slices.Contains(a.credits, s.Credit) {
			a.credits = append(a.credits, s.Credit)
		}
	}
	return a
}

// With gives the same edition with one more source before all others, which is
// not part of its name: the owner's corrections. A nil source is none.
func (a *Atlas) With(first *Source) *Atlas {
	if first == nil {
		return a
	}
	c := *a
	c.sources = append([]*Source{first}, a.sources...)
	c.sum = checksum(c.sources)
	return c.prepare()
}

// Because gives an edition without sources that says why it has none.
func (a *Atlas) Because(why string) *Atlas {
	c := *a
	c.why = why
	return c.prepare()
}

// Current is the atlas itself: one that is never replaced.
func (a *Atlas) Current() *Atlas { return a }

// Built is when the edition was made.
func (a *Atlas) Built() time.Time { return a.built }

// Name is the edition's: the date of its newest source and a checksum.
func (a *Atlas) Name() string { return a.name }

// Checksum tells editions apart, whole: two that have the same give the same answers. The
// owner's corrections are part of it.
func (a *Atlas) Checksum() string { return hex.EncodeToString(a.sum[:]) }

// Sources lists the sources by rank. The caller must not change them.
func (a *Atlas) Sources() []*Source { return a.sources }

// Credits lists the credit lines that answers owe, without repeats. The caller must not
// change them.
func (a *Atlas) Credits() []string {
	if a.credits == nil {
		return []string{}
	}
	return a.credits
}

// A LookupResult is what an atlas says of one address. Location and network are
// merged apart: each may come from another source.
type LookupResult struct {
	Location Location
	Network  Network
	Labels   []string // of all sources, which add up
	Evidence []Evidence
}

// scratch is where a lookup is made; nothing of it is in the result.
type scratch struct {
	parts [3]part // seldom more
	won   Record
}

var scratches = sync.Pool{New: func() any { return new(scratch) }}

// find makes what [Atlas.Lookup] gives. Nodes are those of the address in every source, nil where nobody has
// looked for them.
func (a *Atlas) find(ip netip.Addr, nodes []uint32) *LookupResult {
	if nodes == nil {
		for _, s := range a.sources {
			nodes = append(nodes, s.Node(ip))
		}
	}
	at := scratches.Get().(*scratch)
	defer func() {
		*at = scratch{}
		scratches.Put(at)
	}()
	parts, won := a.merge(ip, nodes, &at.won, at.parts[:]), &at.won
	const derived = 2                                                       // as a rule
	f := &LookupResult{Evidence: make([]Evidence, 0, 2*len(parts)+derived)} // of the location and of the network
	var d *described                                                        // of what won
	if len(parts) > 0 {
		d = a.results.describe(&won.Place)
	}
	for i := range parts {
		if len(parts) == 1 && !won.DoNotLocate { // as most are: all that it says is used
			f.Evidence = append(f.Evidence, d.claim(parts[i].source, won.Span, true, ""))
			break
		}
		f.Evidence = parts[i].evidence(f.Evidence, a.results, won)
	}
	switch {
	case len(a.sources) == 0:
		f.Location = Nowhere(cmp.Or(a.why, NoData))
	case len(parts) == 0:
		f.Location = Nowhere(unknown)
	case won.DoNotLocate:
		f.Location = Nowhere(NotLocated)
	default:
		f.Location = d.location
		f.Evidence = slices.Insert(f.Evidence, 1, d.derived...)
		f.Location.Basis = basis(f.Evidence)
		if f.Evidence[0].Basis == Registration {
			f.Location.Missing = maps.Clone(f.Location.Missing)
			f.Evidence[0].Reason = plain.Optional("where it is registered, which need not be where it is")
			for _, fact := range []string{"region_code", "city"} {
				if f.Location.Missing[fact] != "" {
					f.Location.Missing[fact] = "registered to the country only"
				}
			}
		}
	}
	f.network(a.sources, nodes, ip, len(parts) > 0)
	f.label(a.sources, nodes, ip)
	runtime.KeepAlive(a)
	return f
}

// basis is that of the country, which some evidence that was used says.
func basis(evidence []Evidence) *string {
	for i := range evidence {
		if e := &evidence[i]; e.Used && slices.Contains(e.Facts, "country_code") {
			return (*string)(&e.Basis)
		}
	}
	return nil
}

const unknown = "no source of this edition knows the address"

// NoData is why a location is none where there is no source at all.
const NoData = "there is no range data yet: eastporch atlas starter configures what is published openly"

// Unread is why a location is none where sources are configured, and none could be read yet.
const Unread = "the range data that is configured could not be read yet: eastporch atlas list says why"

// NotLocated is why a location is none that must not be known.
const NotLocated = "its network asks not to be located"

// network finds whose the address is: of the highest-ranked source that says
// so, else only the range that the location came from.
func (f *LookupResult) network(sources []*Source, nodes []uint32, ip netip.Addr, located bool) {
	for i, s := range sources {
		found, ok := s.from(nodes[i], ip, (*Place).Names)
		if !ok {
			continue
		}
		rec := found // which the network holds
		e := networkClaim(s, rec)
		if f.Network.Range.IsValid() { // a higher-ranked source said it
			e.Used, e.Reason = false, plain.Optional("ranks lower")
			f.Evidence = append(f.Evidence, e)
			continue
		}
		f.Network.Range.Range = rec.Span
		if rec.AsNumber != 0 {
			f.Network.ASNumber = &rec.AsNumber
		}
		for i := range Facts {
			if said := &Facts[i]; said.Network && said.place != nil {
				*said.field(nil, &f.Network).(**string) = plain.Optional(*said.place(&rec.Place))
			}
		}
		f.Evidence = append(f.Evidence, e)
	}
	n := &f.Network
	switch {
	case !n.Range.IsValid() && !located:
		n.Missing = allUnknown
	case !n.Range.IsValid():
		n.Range, n.Missing = f.Evidence[0].Range, noNetwork // the first evidence is what located it
	default:
		n.Missing = map[string]string{}
		for i := range Facts {
			if f := &Facts[i]; f.Network && f.Text(nil, n) == "" {
				n.Missing[f.Name] = notNamed
			}
		}
	}
}

// What all networks of which nothing is known share.
var (
	allUnknown = missing(true, unknown)
	noNetwork  = missing(true, notNamed)
)

func init() { delete(noNetwork, "range") } // which is that of the location

const notNamed = "no source names a network here"

// label adds up the labels of all ranges that hold the address.
func (f *LookupResult) label(sources []*Source, nodes []uint32, ip netip.Addr) {
	for i, s := range sources {
		s.around(nodes[i], ip, func(rec Record) {
			if len(rec.Labels) == 0 {
				return
			}
			e := claim(s, Record{Span: rec.Span}, true, "")
			e.add("labels", strings.Join(rec.Labels, ", "))
			f.Evidence = append(f.Evidence, e)
			for _, l := range rec.Labels {
				if !slices.Contains(f.Labels, l) {
					f.Labels = append(f.Labels, l)
				}
			}
		})
	}
}

// Why is all evidence there is about an address: that of [Atlas.Lookup], and
// then every wider range of every source that holds it, which was not used.
func (a *Atlas) Why(ip netip.Addr) []Evidence {
	f := a.find(ip, nil)
	said := map[string]bool{}
	for _, e := range f.Evidence {
		if e.Range.IsValid() {
			said[e.Source+" "+e.Range.String()+" "+fmt.Sprint(e.Facts)] = true
		}
	}
	for _, s := range a.sources {
		s.Around(ip, func(rec Record) {
			for _, e := range []Evidence{claim(s, rec, false, ""), networkClaim(s, rec)} {
				if len(e.Facts) == 0 && !(rec.DoNotLocate && !e.Used) || said[s.Name+" "+e.Range.String()+" "+fmt.Sprint(e.Facts)] {
					continue
				}
				e.Used, e.Reason = false, plain.Optional("a more specific range of this source says it")
				f.Evidence = append(f.Evidence, e)
			}
		})
	}
	return f.Evidence
}

// Holds says whether any range holds an address.
func (a *Atlas) Holds(ip netip.Addr) bool {
	return slices.ContainsFunc(a.sources, func(s *Source) bool { return s.Holds(ip) })
}
