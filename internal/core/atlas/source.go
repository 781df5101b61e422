package atlas

import (
	"crypto/sha256"
	"fmt"
	"hash"
	"net/netip"

	"eastporch/internal/core/rangetable"
)

// A Basis says on what grounds a fact is stated.
type Basis string

// The grounds. A registration is never passed off as a location.
const (
	SelfPublished Basis = "self-published claim"
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

	records []record
	table   *rangetable.Table
	sum     [sha256.Size]byte
}

// record is one accepted row.
type record struct {
	prefix                netip.Prefix
	country, region, city string
	doNotLocate           bool
}

func (s *Source) lookup(a netip.Addr) (record, bool) {
	i, _, ok := s.table.Lookup(a)
	if !ok {
		return record{}, false
	}
	return s.records[i], true
}

// builder collects the rows of a source.
type builder struct {
	source *Source
	seen   map[netip.Prefix]int // prefix -> line
	hash   hash.Hash
}

func newBuilder(about About) *builder {
	return &builder{source: &Source{About: about}, seen: map[netip.Prefix]int{}, hash: sha256.New()}
}

func (b *builder) digest(line string) {
	b.hash.Write([]byte(line))
	b.hash.Write([]byte{'\n'})
}

func (b *builder) add(line int, text string, rec record) {
	if first, twice := b.seen[rec.prefix]; twice {
		b.reject(line, text, fmt.Sprintf("the prefix %s stands on line %d already", rec.prefix, first))
		return
	}
	b.seen[rec.prefix] = line
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
	entries := make([]rangetable.Entry, len(s.records))
	for i, r := range s.records {
		entries[i] = rangetable.Entry{Prefix: r.prefix, Value: uint32(i)}
	}
	table, err := rangetable.Build(entries)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	s.table = table
	b.hash.Sum(s.sum[:0])
	return s, nil
}
