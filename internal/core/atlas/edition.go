package atlas

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"sync"
	"time"
	"unsafe"

	"eastporch/internal/core/rangetable"
)

// ErrEdition is wrapped by the errors of [OpenBytes] and [Atlas.Verify].
var ErrEdition = errors.New("not a usable edition")

// The prelude of an edition file; docs/formats/edition.md describes all of it.
const (
	magic       = "EAST PORCH ATLAS"
	version     = 2
	preludeSize = 64
	alignment   = 64 // of sections
)

// header is the JSON that follows the prelude.
type header struct {
	Name    string         `json:"name"`
	Built   time.Time      `json:"built"`
	Sources []sourceHeader `json:"sources"`
}

type sourceHeader struct {
	About
	Counts
	Sections []section `json:"sections"` // in the order of sectionNames
}

// section is where an array stands: bytes from the end of the header on,
// aligned.
type section struct {
	Name   string `json:"name"`
	Offset uint64 `json:"offset"`
	Bytes  uint64 `json:"bytes"`
	CRC32C uint32 `json:"crc32c"`
}

var sectionNames = []string{"table4", "table6", "nodes", "spans", "offsets", "places", "details"}

// wordSections is how many of the sections are words of 32 bits.
const wordSections = 5

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sections gives the arrays of a source as bytes, in place.
func (s *Source) sections() [][]byte {
	v4, v6 := s.arrays.Table.Words()
	if s.text == nil {
		s.text, _ = json.Marshal(s.more()) // texts and numbers always marshal
	}
	return [][]byte{asBytes(v4), asBytes(v6), asBytes(s.arrays.Nodes), asBytes(s.arrays.Spans), asBytes(s.arrays.Offsets), s.arrays.Blob, s.text}
}

// checksum sums up sources: what they are called, and the checksums of all their sections.
func checksum(sources []*Source) [sha256.Size]byte {
	sum := sha256.New()
	for _, s := range sources {
		parts := s.checks // of a file
		if parts == nil {
			parts = s.sum()
		}
		fmt.Fprint(sum, s.About)
		for _, p := range parts {
			fmt.Fprint(sum, p.Name, p.Bytes, p.CRC32C, ";")
		}
	}
	return [sha256.Size]byte(sum.Sum(nil))
}

// sum gives the checksums of all sections.
func (s *Source) sum() []section {
	parts := s.sections()
	list := make([]section, len(parts))
	var wait sync.WaitGroup
	for i, b := range parts {
		list[i] = section{Name: sectionNames[i], Bytes: uint64(len(b))}
		wait.Go(func() { list[i].CRC32C = crc32.Checksum(b, castagnoli) })
	}
	wait.Wait()
	return list
}

func asBytes(w []uint32) []byte {
	if len(w) == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(unsafe.Pointer(&w[0])), 4*len(w))
}

func asWords(b []byte) []uint32 {
	if len(b) < 4 {
		return nil
	}
	return unsafe.Slice((*uint32)(unsafe.Pointer(&b[0])), len(b)/4)
}

// Write writes the edition as an edition file has it. It can be opened on a
// little-endian machine.
func (a *Atlas) Write(w io.Writer) error {
	h := header{Name: a.name, Built: a.built, Sources: make([]sourceHeader, len(a.sources))}
	var offset uint64
	for i, s := range a.sources {
		parts := s.sum()
		for j := range parts {
			if s.checks != nil && parts[j].CRC32C != s.checks[j].CRC32C {
				return fmt.Errorf("%w: the section %s of source %q is damaged: build it again", ErrEdition, parts[j].Name, s.Name)
			}
			parts[j].Offset = offset
			offset = align(offset + parts[j].Bytes)
		}
		h.Sources[i] = sourceHeader{s.About, s.Counts, parts}
	}
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	text = append(text, bytes.Repeat([]byte{' '}, int(align(uint64(preludeSize+len(text)))-uint64(preludeSize+len(text))))...)
	prelude := make([]byte, preludeSize)
	copy(prelude, magic)
	binary.LittleEndian.PutUint32(prelude[16:], version)
	binary.LittleEndian.PutUint32(prelude[20:], crc32.Checksum(text, castagnoli))
	binary.LittleEndian.PutUint64(prelude[24:], uint64(len(text)))
	binary.LittleEndian.PutUint64(prelude[32:], uint64(preludeSize+len(text))+offset)
	out := bufio.NewWriterSize(w, 1<<20)
	out.Write(prelude)
	out.Write(text)
	for _, s := range a.sources {
		for _, b := range s.sections() {
			out.Write(b)
			out.Write(make([]byte, align(uint64(len(b)))-uint64(len(b))))
		}
	}
	return out.Flush()
}

func align(n uint64) uint64 { return (n + alignment - 1) / alignment * alignment }

// OpenBytes opens an edition in place: the bytes, which may be a file that is
// mapped into memory, must not change while it is used, and must begin at a
// multiple of 4. owner is kept alive as long as the atlas is. It checks that all
// is there and that every section lies within it, but not the checksums:
// [Atlas.Verify] does. Whatever the bytes hold, lookups stay within them. The
// error wraps [ErrEdition].
func OpenBytes(b []byte, owner any) (*Atlas, error) {
	if len(b) < preludeSize || string(b[:len(magic)]) != magic {
		return nil, fmt.Errorf("%w: it does not begin as one", ErrEdition)
	}
	if v := binary.LittleEndian.Uint32(b[16:]); v != version {
		return nil, fmt.Errorf("%w: it has version %d, and this program reads version %d: build it again from its sources with eastporch atlas build", ErrEdition, v, version)
	}
	size := binary.LittleEndian.Uint64(b[24:])
	if whole := binary.LittleEndian.Uint64(b[32:]); whole != uint64(len(b)) || size > uint64(len(b)-preludeSize) {
		return nil, fmt.Errorf("%w: it has %d bytes of %d: copy or build it again", ErrEdition, len(b), whole)
	}
	text, body := b[preludeSize:preludeSize+size], b[preludeSize+size:]
	if crc32.Checksum(text, castagnoli) != binary.LittleEndian.Uint32(b[20:]) {
		return nil, fmt.Errorf("%w: its header is damaged: copy or build it again", ErrEdition)
	}
	var h header
	if err := json.Unmarshal(text, &h); err != nil {
		return nil, fmt.Errorf("%w: its header is damaged: %w", ErrEdition, err)
	}
	a := &Atlas{name: h.Name, built: h.Built}
	for _, sh := range h.Sources {
		s, err := openSource(sh, body)
		if err != nil {
			return nil, fmt.Errorf("%w: source %q: %w", ErrEdition, sh.Name, err)
		}
		s.owner = owner
		a.sources = append(a.sources, s)
	}
	a.sum = checksum(a.sources)
	return a.prepare(), nil
}

func openSource(h sourceHeader, body []byte) (*Source, error) {
	if len(h.Sections) != len(sectionNames) {
		return nil, fmt.Errorf("it has %d sections of %d", len(h.Sections), len(sectionNames))
	}
	parts := make([][]byte, len(sectionNames))
	for i, at := range h.Sections {
		if at.Offset > uint64(len(body)) || at.Bytes > uint64(len(body))-at.Offset || at.Offset%alignment != 0 {
			return nil, fmt.Errorf("its section %s does not lie within the file", sectionNames[i])
		}
		if i < wordSections && at.Bytes%4 != 0 {
			return nil, fmt.Errorf("its section %s has a broken length", sectionNames[i])
		}
		parts[i] = body[at.Offset : at.Offset+at.Bytes]
		if len(parts[i]) > 0 && uintptr(unsafe.Pointer(&parts[i][0]))%4 != 0 {
			return nil, fmt.Errorf("its section %s is not aligned", sectionNames[i])
		}
	}
	s := &Source{
		About: h.About, Counts: h.Counts, text: parts[6],
		arrays: Arrays{Nodes: asWords(parts[2]), Spans: asWords(parts[3]), Offsets: asWords(parts[4]), Blob: parts[5]},
		checks: h.Sections,
	}
	var err error
	if s.arrays.Table, err = rangetable.Open(asWords(parts[0]), asWords(parts[1])); err != nil {
		return nil, err
	}
	return s, nil
}

// Verify reads the whole edition and compares its checksums. The error wraps
// [ErrEdition] and names the section. An edition that was not opened from a
// file holds.
func (a *Atlas) Verify() error {
	for _, s := range a.sources {
		if s.checks == nil {
			continue
		}
		for i, found := range s.sum() {
			if found.CRC32C != s.checks[i].CRC32C {
				return fmt.Errorf("%w: the section %s of source %q is damaged: copy or build it again", ErrEdition, found.Name, s.Name)
			}
		}
		runtime.KeepAlive(s)
	}
	if want := nameOf(a.sources, a.sum); a.name != want && !a.corrected() {
		return fmt.Errorf("%w: it is called %s, and what it holds is %s: build it again", ErrEdition, a.name, want)
	}
	return nil
}

// corrected says whether the owner's corrections stand before the sources of the file.
func (a *Atlas) corrected() bool { return len(a.sources) > 0 && a.sources[0].Basis == Corrects }
