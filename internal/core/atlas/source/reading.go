// Package source reads range data and compiles it into sources of an atlas: geofeeds, the
// registries' statistics, tables, lists, and the owner's corrections. It describes files
// before they are read, and writes editions as tables.
package source

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/rangetable"
)

// A Format is how a source is written.
type Format string

// The formats that [Read] reads.
const (
	Geofeed   Format = "geofeed"   // RFC 8805
	Delegated Format = "delegated" // the registries' statistics exchange form
	CSV       Format = "csv"
	TSV       Format = "tsv"
	JSONLines Format = "jsonl" // an object a line
	Parquet   Format = "parquet"
	List      Format = "list" // ranges, one a line, that share a label
	RPSL      Format = "rpsl" // objects of networks, as registries publish them (RFC 2622)
	MRT       Format = "mrt"  // dumps of routing tables (RFC 6396)
)

// Formats are all of them.
var Formats = []Format{Geofeed, Delegated, CSV, TSV, JSONLines, Parquet, List, RPSL, MRT}

// ParseOptions say how a source is read.
type ParseOptions struct {
	Format  Format
	Columns map[string]string // the source's own name of a column, by one of [Columns]
	Label   string            // what a list gives its ranges, where the line says none
	Postal  bool              // keep a geofeed's postal codes, which RFC 8805 deprecates
	Routing
	Observer
	chunk int // bytes that a worker takes at once, for tests; 0 for chunkSize
}

// Routing is how a routing table is read.
type Routing struct {
	Operators     map[uint32]string // the names of AS numbers
	Documentation bool              // AS numbers that are reserved for it (RFC 5398) count
}

// An Observer is told of the progress of a reading.
type Observer struct {
	// Progress, unless nil, is told the bytes and lines read so far, now and then.
	Progress func(bytes int64, lines int)
	// Rejected, unless nil, gets every reject and remark as a line of JSON.
	Rejected io.Writer
	// Where, unless nil, says in which file a line of the whole stands, and where in it.
	Where func(line int) (file string, in int)
}

// maxNotes is how many rejects, and how many remarks, a source remembers.
const maxNotes = 200

// maxLine bounds a line of a source, in bytes.
const maxLine = 64 << 10

// chunkSize is how much text a worker takes at once.
const chunkSize = 2 << 20

// Read reads a source. A bad row is kept in Rejects with its reason and does not stop the reading; more than
// half of the rows bad do (compile.ErrTooManyRejects: then the source has its counts and notes, and must not be
// used), and so does a line of more than 64 KB. Lines are read by all processors at once; the result does not
// depend on how many there are. Other errors are those of r.
func Read(r io.Reader, how ParseOptions, about atlas.About) (*atlas.Source, error) {
	switch how.Format {
	case Geofeed:
		about.Basis = atlas.SelfPublished
		return readLines(r, how, about, func() rowFormat { return &geofeedRows{postal: how.Postal} }, false)
	case Delegated:
		about.Basis = atlas.Registration
		return readLines(r, how, about, func() rowFormat { return &delegatedRows{} }, false)
	case RPSL:
		about.Basis = atlas.Registration
		return readLines(r, how, about, func() rowFormat { return &rpslRows{} }, false)
	case MRT:
		about.Basis = atlas.Routed
		return readMRT(r, how, about)
	case List:
		about.Basis = atlas.TableClaim
		return readLines(r, how, about, func() rowFormat { return &listRows{label: how.Label} }, false)
	case CSV, TSV, JSONLines:
		about.Basis = atlas.TableClaim
		return readLines(r, how, about, nil, true)
	case Parquet:
		return nil, fmt.Errorf("%s: a Parquet file is a file, not a stream", about.Name)
	}
	return nil, fmt.Errorf("%s: %q is not a format: known are %v", about.Name, how.Format, Formats)
}

// A rowFormat takes the lines of one format apart. It is used by one worker.
type rowFormat interface {
	// row gives the range of a line, and the key of what the line says of it; skip
	// is set where the line holds no data. Lines with the same key say the same.
	row(line []byte) (span rangeText, key []byte, skip bool, err error)
	// place reads what the line of the last row says. passed is set where it says
	// nothing that counts, with the reason in remark.
	place() (p atlas.Place, remark string, passed bool, err error)
}

// An objectFormat is a rowFormat whose rows are objects of several lines, parted by empty ones.
type objectFormat interface {
	rowFormat
	// object cuts the next row off: skipped lines stand before it, and lines are its own.
	object(text []byte) (row, rest []byte, skipped, lines int)
	// feed is the geofeed that the last row names, if it does.
	feed() (f geofeed.Referral, ok bool)
}

// chunk is a part of a source, cut at the end of a row.
type chunk struct {
	at   int // its place among the chunks
	line int // number of its first line
	text []byte
	more bool // it is the beginning of one object that is longer than a chunk
}

// chunkRows is what a worker read of a chunk.
type chunkRows struct {
	at, worker     int
	v4, v6         []rangetable.Row
	rows, accepted int
	rejects, notes []atlas.Note
	feeds          []geofeed.Referral
	spans          map[uint32]addr.Range
	bytes, lines   int
	places         compile.Places // that the worker had not met before
	err            error
	text           []byte
}

var (
	newline       = []byte{'\n'}
	byteOrderMark = []byte("\ufeff")
)

// readLines reads lines by all processors at once.
func readLines(r io.Reader, how ParseOptions, about atlas.About, format func() rowFormat, headed bool) (*atlas.Source, error) {
	cut := &cutter{r: r, size: cmp.Or(how.chunk, chunkSize), objects: how.Format == RPSL}
	g := newGathering(how, about)
	if headed {
		t, err := cut.head(how, about)
		if err != nil {
			return nil, err
		}
		format = func() rowFormat { return t.rows(how.Format) }
	}
	workers := runtime.GOMAXPROCS(0)
	chunks, done := make(chan chunk), make(chan *chunkRows, workers)
	stop := make(chan struct{})
	var wait sync.WaitGroup
	for id := range workers {
		wait.Go(func() {
			w := newWorker(id)
			w.format = format()
			for c := range chunks {
				done <- w.read(c)
			}
		})
	}
	var failed error
	go func() {
		failed = cut.each(chunks, stop)
		close(chunks)
		wait.Wait()
		close(done)
	}()
	waiting, next := map[int]*chunkRows{}, 0
	var err error
	for c := range done {
		if err != nil {
			continue
		}
		waiting[c.at] = c
		for ; waiting[next] != nil && err == nil; next++ {
			c := waiting[next]
			delete(waiting, next)
			if err = c.err; err == nil {
				err = g.take(c)
			}
			cut.free(c.text)
		}
		if err != nil {
			close(stop)
		}
	}
	if err = errors.Join(err, failed); err != nil {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	return g.finish()
}

// cutter cuts text into chunks at the ends of rows.
type cutter struct {
	r    io.Reader
	size int // of a chunk, in bytes
	// objects is set where rows are parted by empty lines.
	objects bool
	rest    []byte // read, but not yet cut off
	line    int
	at      int
	used    sync.Pool
}

func (c *cutter) free(b []byte) {
	if cap(b) >= c.size { // not that of a long object
		c.used.Put(&b)
	}
}

// next gives the next chunk; its text is empty at the end.
func (c *cutter) next() (chunk, error) {
	b, _ := c.used.Get().(*[]byte)
	if b == nil {
		b = new([]byte)
		*b = make([]byte, c.size)
	}
	buf := (*b)[:cap(*b)]
	if len(c.rest) > len(buf) { // what was read beyond a head, where chunks are short
		buf = make([]byte, len(c.rest))
	}
	n := copy(buf, c.rest)
	read, err := io.ReadFull(c.r, buf[n:])
	buf = buf[:n+read]
	atEnd := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !atEnd {
		return chunk{}, err
	}
	end := len(buf)
	if c.objects && !atEnd {
		if end = lastGap(buf); end == 0 {
			return c.long(buf)
		}
	} else if !atEnd {
		end = bytes.LastIndexByte(buf, '\n') + 1
		if end == 0 || len(buf)-end > maxLine {
			return chunk{}, fmt.Errorf("a line after line %d is longer than %d bytes: this is not range data", c.line+bytes.Count(buf, newline), maxLine)
		}
	}
	c.rest = bytes.Clone(buf[end:])
	out := chunk{at: c.at, line: c.line + 1, text: buf[:end]}
	c.line += bytes.Count(out.text, newline)
	c.at++
	return out, nil
}

// gaps are how an object ends.
var gaps = [][]byte{[]byte("\n\n"), []byte("\n\r\n")}

// lastGap is where the last object of a text ends: behind an empty line, 0 where there is none.
func lastGap(text []byte) int {
	for size := 4 << 10; ; size *= 8 { // it is near the end, as a rule
		from := max(0, len(text)-size)
		end := 0
		for _, gap := range gaps {
			if i := bytes.LastIndex(text[from:], gap); i >= 0 {
				end = max(end, from+i+len(gap))
			}
		}
		if end > 0 || from == 0 {
			return end
		}
	}
}

// long passes over an object of which buf is the beginning, and gives its first lines.
func (c *cutter) long(buf []byte) (chunk, error) {
	head := buf[:bytes.LastIndexByte(buf[:min(maxLine, len(buf))], '\n')+1]
	out := chunk{at: c.at, line: c.line + 1, text: bytes.Clone(head), more: true}
	c.at++
	for {
		if end := firstGap(buf); end > 0 {
			c.rest = bytes.Clone(buf[end:])
			c.line += bytes.Count(buf[:end], newline)
			return out, nil
		}
		keep := min(2, len(buf))
		c.line += bytes.Count(buf[:len(buf)-keep], newline)
		copy(buf, buf[len(buf)-keep:])
		buf = buf[:cap(buf)]
		n, err := io.ReadFull(c.r, buf[keep:])
		buf = buf[:keep+n]
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return chunk{}, err
		}
		if n == 0 {
			c.rest = nil
			c.line += bytes.Count(buf, newline)
			return out, nil
		}
	}
}

// firstGap is where the first object of a text ends, 0 where none does.
func firstGap(text []byte) int {
	end := 0
	for _, gap := range gaps {
		if i := bytes.Index(text, gap); i >= 0 && (end == 0 || i+len(gap) < end) {
			end = i + len(gap)
		}
	}
	return end
}

func (c *cutter) each(chunks chan<- chunk, stop <-chan struct{}) error {
	for {
		part, err := c.next()
		if err != nil || len(part.text) == 0 && !part.more {
			return err
		}
		select {
		case chunks <- part:
		case <-stop:
			return nil
		}
	}
}
