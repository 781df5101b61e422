package atlas

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"net/netip"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/rangetable"
)

// A Basis says on what grounds a fact is stated.
type Basis string

// The grounds. A registration is never passed off as a location.
const (
	SelfPublished Basis = "self-published claim"
	TableClaim    Basis = "table's claim"
	Registration  Basis = "registration"
	Derived       Basis = "derived"
)

// About describes a source to people and to the merging.
type About struct {
	Name    string
	Rank    int // 1 is highest
	Dated   string
	Licence string
	Credit  string
	Basis   Basis
}

// A Note is something said of a line of a source: why it was rejected, or what
// was dropped from it.
type Note struct {
	Line   int    `json:"line"`
	Text   string `json:"text"` // at most 120 bytes of the line
	Reason string `json:"reason"`
}

// A Source is one body of range data, read and indexed. It is immutable.
type Source struct {
	About
	Rows     int // lines that hold data
	Accepted int
	Rejects  []Note
	Remarks  []Note

	records  []record
	places   *rangetable.Table // what says something of a location
	networks *rangetable.Table // what says whose addresses they are
	sum      [sha256.Size]byte
}

// record is one accepted row.
type record struct {
	span                  addr.Range // as the source has it
	country, region, city string
	point                 *geo.Point // the source's own
	radiusKm              float64    // the source's own; 0 for none
	zone                  string     // the source's own
	asNumber              uint32     // 0 for none
	operator              string
	doNotLocate           bool
}

func (r *record) locates() bool { return r.doNotLocate || r.country != "" }

func (r *record) names() bool { return r.asNumber != 0 || r.operator != "" }

func (s *Source) find(t *rangetable.Table, a netip.Addr) (*record, bool) {
	i, _, ok := t.Lookup(a)
	if !ok {
		return nil, false
	}
	return &s.records[i], true
}

// builder collects the rows of a source.
type builder struct {
	source           *Source
	places, networks []rangetable.Entry
	seen             map[netip.Prefix]int // prefix -> line
	hash             hash.Hash
}

func newBuilder(about About) *builder {
	return &builder{source: &Source{About: about}, seen: map[netip.Prefix]int{}, hash: sha256.New()}
}

func (b *builder) digest(line string) {
	b.hash.Write([]byte(line))
	b.hash.Write([]byte{'\n'})
}

// add takes a row, unless a prefix of it stood before.
func (b *builder) add(line int, text string, rec record) {
	pieces := rec.span.Prefixes()
	for _, p := range pieces {
		if first, twice := b.seen[p]; twice {
			b.reject(line, text, fmt.Sprintf("the prefix %s stands on line %d already", p, first))
			return
		}
	}
	value := uint32(len(b.source.records))
	for _, p := range pieces {
		b.seen[p] = line
		entry := rangetable.Entry{Prefix: p, Value: value}
		if rec.locates() {
			b.places = append(b.places, entry)
		}
		if rec.names() {
			b.networks = append(b.networks, entry)
		}
	}
	b.source.records = append(b.source.records, rec)
	b.source.Accepted++
}

func (b *builder) reject(line int, text, reason string) {
	b.source.Rejects = append(b.source.Rejects, note(line, text, reason))
}

func (b *builder) remark(line int, text, reason string) {
	b.source.Remarks = append(b.source.Remarks, note(line, text, reason))
}

func note(line int, text, reason string) Note {
	if len(text) > 120 {
		text = text[:120] + "…"
	}
	return Note{Line: line, Text: text, Reason: reason}
}

func (b *builder) build() (*Source, error) {
	s := b.source
	if len(s.Rejects)*2 > s.Rows {
		first := s.Rejects[0]
		return nil, fmt.Errorf("%s: %w: %d of %d, the first on line %d: %s",
			s.Name, ErrTooManyRejects, len(s.Rejects), s.Rows, first.Line, first.Reason)
	}
	var err, problem error
	s.places, err = rangetable.Build(b.places)
	s.networks, problem = rangetable.Build(b.networks)
	if err = errors.Join(err, problem); err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	b.hash.Sum(s.sum[:0])
	return s, nil
}
