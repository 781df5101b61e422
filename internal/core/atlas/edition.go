package atlas

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"eastporch/internal/core/rangetable"
)

// ErrEdition is wrapped by the errors of [Open] and [Atlas.Verify].
var ErrEdition = errors.New("not a usable edition")

// The prelude of an edition file; docs/formats/edition.md describes all of it.
const (
	magic       = "EAST PORCH ATLAS"
	version     = 1
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
	Rejects  []Note    `json:"rejects"`
	Remarks  []Note    `json:"remarks"`
	Coverage Coverage  `json:"coverage"`
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

var sectionNames = []string{"table4", "table6", "nodes", "spans", "offsets", "places"}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sections gives the arrays of a source as bytes, in place.
func (s *Source) sections() [][]byte {
	v4, v6 := s.table.Words()
	return [][]byte{asBytes(v4), asBytes(v6), asBytes(s.nodes), asBytes(s.spans), asBytes(s.offsets), s.blob}
}

// sum is what the edition's name is made of: the checksums of all sections.
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

// WriteFile writes the edition to a file, all of it or nothing: beside it first,
// and then in its place when it is on the disk. An edition can be opened where it
// was written, on a little-endian machine.
func (a *Atlas) WriteFile(path string) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".edition-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}()
	if err = a.write(f); err != nil {
		return err
	}
	if err = errors.Join(f.Chmod(0o644), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err = os.Rename(f.Name(), path); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

func (a *Atlas) write(w io.Writer) error {
	h := header{Name: a.name, Built: a.built, Sources: make([]sourceHeader, len(a.sources))}
	var offset uint64
	for i, s := range a.sources {
		parts := s.sum()
		for j := range parts {
			parts[j].Offset = offset
			offset = align(offset + parts[j].Bytes)
		}
		h.Sources[i] = sourceHeader{s.About, s.Counts, s.Rejects, s.Remarks, s.Coverage, parts}
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

// mapping is a file that is mapped into memory until nothing refers to it.
type mapping struct{ bytes []byte }

// Open maps an edition file into memory. It checks that the file is whole and
// that every section lies within it, but not the checksums: [Atlas.Verify] does.
// Whatever the file holds, lookups stay within it. The file must not be changed
// while it is open; replace it by renaming another over it. It is unmapped when
// the atlas is no longer used. The error wraps [ErrEdition], or is that of
// opening the file.
func Open(path string) (*Atlas, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() < preludeSize || info.Size() > math.MaxInt {
		return nil, fmt.Errorf("%s: %w: it is too short", path, ErrEdition)
	}
	b, err := syscall.Mmap(int(f.Fd()), 0, int(info.Size()), syscall.PROT_READ, syscall.MAP_SHARED)
	if err != nil {
		return nil, fmt.Errorf("%s: mapping it into memory: %w", path, err)
	}
	m := &mapping{bytes: b}
	runtime.AddCleanup(m, func(b []byte) { _ = syscall.Munmap(b) }, b)
	a, err := open(m)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return a, nil
}

func open(m *mapping) (*Atlas, error) {
	b := m.bytes
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
		s.mapping = m
		a.sources = append(a.sources, s)
	}
	return a, nil
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
		if i < len(sectionNames)-1 && at.Bytes%4 != 0 {
			return nil, fmt.Errorf("its section %s has a broken length", sectionNames[i])
		}
		parts[i] = body[at.Offset : at.Offset+at.Bytes]
		if len(parts[i]) > 0 && uintptr(unsafe.Pointer(&parts[i][0]))%4 != 0 {
			return nil, fmt.Errorf("its section %s is not aligned", sectionNames[i])
		}
	}
	s := &Source{
		About: h.About, Counts: h.Counts, Rejects: h.Rejects, Remarks: h.Remarks, Coverage: h.Coverage,
		nodes: asWords(parts[2]), spans: asWords(parts[3]), offsets: asWords(parts[4]), blob: parts[5],
		checks: h.Sections,
	}
	var err error
	if s.table, err = rangetable.Open(asWords(parts[0]), asWords(parts[1])); err != nil {
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
		runtime.KeepAlive(s.mapping)
	}
	return nil
}
