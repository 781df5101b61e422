package atlas

import (
	"encoding/json"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/rangetable"
)

// The grounds. A registration is never passed off as a location.
const (
	Corrects      Basis = "correction"
	SelfPublished Basis = "self-published claim"
	TableClaim    Basis = "table's claim"
	Registration  Basis = "registration"
	Routed        Basis = "routing table" // of networks, never of places
	Derived       Basis = "derived"
)

// Bases are the grounds, the best first.
var Bases = []Basis{Corrects, SelfPublished, TableClaim, Derived, Registration}

// BasesInWords lists them for a sentence.
func BasesInWords() string {
	words := make([]string, len(Bases))
	for i, b := range Bases {
		words[i] = string(b)
	}
	last := len(words) - 1
	return strings.Join(words[:last], ", ") + " or " + words[last]
}

// AsGoodAs says whether a basis is one, and no worse than another.
func (b Basis) AsGoodAs(least Basis) bool {
	at := slices.Index(Bases, b)
	return at >= 0 && at <= slices.Index(Bases, least)
}

// About describes a source to people and to the merging.
type About struct {
	Name    string `json:"name"`
	Rank    int    `json:"rank"` // 1 is highest
	Dated   string `json:"dated"`
	Licence string `json:"licence"`
	Credit  string `json:"credit"`
	Basis   Basis  `json:"basis"`
}

// A Note is something said of a line of a source: why it was rejected, or what
// was dropped from it.
type Note struct {
	Line   int    `json:"line"`
	Text   string `json:"text"` // at most 120 bytes of the line
	Reason string `json:"reason"`
}

// Counts says what was read of a source.
type Counts struct {
	Rows     int `json:"rows"` // lines that hold data
	Accepted int `json:"accepted"`
	Rejected int `json:"rejected"`
	Remarked int `json:"remarked"`
	Nested   int `json:"nested"` // ranges within another of the same source
	Ranges4  int `json:"ranges_ipv4"`
	Ranges6  int `json:"ranges_ipv6"`
}

// A Source is one body of range data, read and indexed. It is immutable and
// safe for concurrent use. Its arrays may lie in a file that is mapped into
// memory; what a lookup gives never points there.
//
// Every accepted range is a node: a number from 1 on, in order of address, the
// wider before the narrower, IPv4 before IPv6. Nodes lead to the node that most
// closely holds them, and to what the row said, its place. Where ranges cross, a
// range is a node for each row of ranges around it.
type Source struct {
	About
	Counts

	arrays  Arrays
	places  []atomic.Pointer[Place] // decoded
	ready   sync.Once
	details sync.Once
	read    Details
	text    []byte // JSON of the details, where they lie in a file
	owner   any    // of what the arrays lie in, or nil
	checks  []section
}

// Arrays are what a source consists of, as an edition file has it
// (docs/formats/edition.md).
type Arrays struct {
	Table   *rangetable.Table // address -> node
	Nodes   []uint32          // for each: place and prefix length << placeBits; the node around it
	Spans   []uint32          // see spanWords
	Offsets []uint32          // of places in blob, and its length
	Blob    []byte
}

// Parts are what a source is made of when it was read.
type Parts struct {
	About
	Counts
	Details
	Arrays
}

// NewSource makes a source of its parts, which must not be changed afterwards.
func NewSource(p *Parts) *Source {
	return &Source{About: p.About, Counts: p.Counts, read: p.Details, arrays: p.Arrays}
}

// What a node is made of: two words, of which the first has the number of its place in
// the lower bits.
const (
	NodeWords = 2
	PlaceBits = 24
	MaxPlaces = 1<<PlaceBits - 1

	// A range that is not a single prefix stands in spans for each of its nodes, in
	// order: the node, then first and last as four words each, the highest first.
	spanWords = 9
)

// node gives what stands of node n. ok is false where a damaged file has none,
// or a node that does not lead outwards.
func (s *Source) node(n uint32) (place, bits, parent uint32, ok bool) {
	i := uint64(n-1) * NodeWords
	if n == 0 || i+1 >= uint64(len(s.arrays.Nodes)) {
		return 0, 0, 0, false
	}
	word, parent := s.arrays.Nodes[i], s.arrays.Nodes[i+1]
	if parent >= n {
		parent = 0
	}
	return word & MaxPlaces, word >> PlaceBits, parent, true
}

var nothing = &Place{}

// place gives place i, from 0 on; one that is damaged says nothing.
func (s *Source) place(i uint32) *Place {
	s.ready.Do(func() { s.places = make([]atomic.Pointer[Place], max(0, len(s.arrays.Offsets)-1)) })
	if int(i) >= len(s.places) {
		return nothing
	}
	if p := s.places[i].Load(); p != nil {
		return p
	}
	from, to := s.arrays.Offsets[i], s.arrays.Offsets[i+1]
	p := nothing
	if from <= to && uint64(to) <= uint64(len(s.arrays.Blob)) {
		if read, err := ReadPlace(s.arrays.Blob[from:to]); err == nil {
			p = read
		}
	}
	s.places[i].Store(p)
	return p
}

// Record is a place with the range that it was said of.
type Record struct {
	Place
	Span addr.Range // as the source has it
}

func (s *Source) record(n uint32, a netip.Addr) (Record, bool) {
	place, bits, _, ok := s.node(n)
	if !ok {
		return Record{}, false
	}
	return Record{*s.place(place), s.span(n, a, int(bits))}, true
}

// span gives the range of node n, which holds a.
func (s *Source) span(n uint32, a netip.Addr, bits int) addr.Range {
	count := len(s.arrays.Spans) / spanWords
	i := sort.Search(count, func(i int) bool { return s.arrays.Spans[i*spanWords] >= n })
	if i < count && s.arrays.Spans[i*spanWords] == n {
		w := s.arrays.Spans[i*spanWords+1:]
		return addr.Range{First: fromWords(w[:4], a.Is4()), Last: fromWords(w[4:8], a.Is4())}
	}
	p, err := a.Prefix(min(bits, a.BitLen()))
	if err != nil {
		return addr.Range{First: a, Last: a}
	}
	return addr.RangeOf(p)
}

func fromWords(w []uint32, is4 bool) netip.Addr {
	var b [16]byte
	for i, v := range w {
		b[4*i], b[4*i+1], b[4*i+2], b[4*i+3] = byte(v>>24), byte(v>>16), byte(v>>8), byte(v)
	}
	if is4 {
		return netip.AddrFrom4([4]byte(b[:4]))
	}
	return netip.AddrFrom16(b)
}

// AppendSpan adds that node n is of a range that is not a prefix.
func AppendSpan(spans []uint32, n uint32, r addr.Range) []uint32 {
	begins, ends := toWords(r.First), toWords(r.Last)
	return append(append(append(spans, n), begins[:]...), ends[:]...)
}

func toWords(a netip.Addr) (w [4]uint32) {
	for i, v := range a.AsSlice() {
		w[i/4] |= uint32(v) << (24 - i%4*8)
	}
	return w
}

// Node is the number of the most specific range that holds an address, 0 for none.
func (s *Source) Node(ip netip.Addr) uint32 { return s.arrays.Table.Find(ip) }

// Holds says whether any range holds an address.
func (s *Source) Holds(ip netip.Addr) bool { return s.Node(ip) != 0 }

// Cell is the stretch around a in which the source says the same of all addresses; holds says
// whether it says anything there, and country which one it locates them in, "" for none.
func (s *Source) Cell(a netip.Addr) (cell addr.Range, holds bool, country string) {
	n := s.arrays.Table.Find(a)
	for at := n; at != 0 && country == ""; {
		place, _, parent, ok := s.node(at)
		if !ok {
			break
		}
		p := s.place(place)
		if country = p.Country; p.DoNotLocate {
			break
		}
		at = parent
	}
	return s.arrays.Table.Cell(a), n != 0, country
}

// Find gives the most specific range around a whose place says what is asked.
func (s *Source) Find(a netip.Addr, says func(*Place) bool) (Record, bool) {
	return s.from(s.Node(a), a, says)
}

// from is [Source.Find] where the node of a is known.
func (s *Source) from(n uint32, a netip.Addr, says func(*Place) bool) (Record, bool) {
	for n != 0 {
		at, bits, parent, ok := s.node(n)
		if !ok {
			break
		}
		if p := s.place(at); says(p) {
			return Record{*p, s.span(n, a, int(bits))}, true
		}
		n = parent
	}
	return Record{}, false
}

// Around calls do for every range that holds a, the most specific first.
func (s *Source) Around(a netip.Addr, do func(Record)) { s.around(s.Node(a), a, do) }

// around is [Source.Around] where the node of a is known.
func (s *Source) around(n uint32, a netip.Addr, do func(Record)) {
	for n != 0 {
		rec, ok := s.record(n, a)
		if !ok {
			break
		}
		do(rec)
		_, _, n, _ = s.node(n)
	}
}

// Details are what is seldom asked of a source.
type Details struct {
	Rejects  []Note   `json:"rejects"`
	Remarks  []Note   `json:"remarks"`
	Coverage Coverage `json:"coverage"`
	// Feeds are the geofeeds that the source names for its ranges.
	Feeds []geofeed.Referral `json:"feeds,omitempty"`
}

// more reads the details, once; of a damaged file there are none.
func (s *Source) more() *Details {
	s.details.Do(func() {
		if s.text != nil {
			_ = json.Unmarshal(s.text, &s.read)
		}
	})
	return &s.read
}

// Rejects are the first of the rejected rows. The caller must not change them.
func (s *Source) Rejects() []Note { return s.more().Rejects }

// Remarks are the first of the rows that something was dropped from. The caller
// must not change them.
func (s *Source) Remarks() []Note { return s.more().Remarks }

// Feeds are the geofeeds that the source names (RFC 9632). The caller must not change them.
func (s *Source) Feeds() []geofeed.Referral { return s.more().Feeds }

// Coverage says how much of the address space the source says something of.
func (s *Source) Coverage() Coverage { return s.more().Coverage }
