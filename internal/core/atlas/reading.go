package atlas

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"math"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"eastporch/internal/core/addr"
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
)

// Formats are all of them.
var Formats = []Format{Geofeed, Delegated, CSV, TSV, JSONLines, Parquet, List}

// ParseOptions say how a source is read.
type ParseOptions struct {
	Format  Format
	Columns map[string]string // the source's own name of a column, by one of [Columns]
	Label   string            // what a list gives its ranges, where the line says none
	Postal  bool              // keep a geofeed's postal codes, which RFC 8805 deprecates

	// Progress, unless nil, is told the bytes and lines read so far, now and then.
	Progress func(bytes int64, lines int)
	// Rejected, unless nil, gets every reject and remark as a line of JSON.
	Rejected io.Writer
}

// maxLine bounds a line of a source, in bytes.
const maxLine = 64 << 10

// chunkSize is how much text a worker takes at once.
const chunkSize = 2 << 20

// Read reads a source. A bad row is kept in Rejects with its reason and does
// not stop the reading; more than half of the rows bad do ([ErrTooManyRejects]:
// then the source has its counts and notes, and must not be used), and so does a line of more than 64 KB. Lines are read by all processors at
// once; the result does not depend on how many there are. Other errors are
// those of r.
func Read(r io.Reader, how ParseOptions, about About) (*Source, error) {
	switch how.Format {
	case Geofeed:
		about.Basis = SelfPublished
		return readLines(r, how, about, func() rowFormat { return &geofeedRows{postal: how.Postal} }, false)
	case Delegated:
		about.Basis = Registration
		return readLines(r, how, about, func() rowFormat { return &delegatedRows{} }, false)
	case List:
		about.Basis = TableClaim
		return readLines(r, how, about, func() rowFormat { return &listRows{label: how.Label} }, false)
	case CSV, TSV, JSONLines:
		about.Basis = TableClaim
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
	place() (p place, remark string, passed bool, err error)
}

// rangeText is a range as a line writes it; last may be empty.
type rangeText struct {
	first, last []byte
	span        addr.Range // where the format has worked it out
	strict      bool       // only a prefix counts, without host bits
}

// chunk is a part of a source, cut at the end of a line.
type chunk struct {
	at   int // its place among the chunks
	line int // number of its first line
	text []byte
}

// chunkRows is what a worker read of a chunk.
type chunkRows struct {
	at, worker     int
	v4, v6         []rangetable.Row
	rows, accepted int
	rejects, notes []Note
	spans          map[uint32]addr.Range
	bytes, lines   int
	places         [][]byte // that the worker had not met before
	err            error
	text           []byte
}

// worker reads chunks. What it has read of places is kept from chunk to chunk.
type worker struct {
	id      int
	format  rowFormat
	known   keyTable
	made    uint32 // places
	out     *chunkRows
	pending [32]pendingRow
	waiting int // how many of pending are set
	seen    uint32
}

// pendingRow is a line whose key is still to be looked up.
type pendingRow struct {
	n    uint32
	line []byte
	span rangeText
	key  keyHash
}

// verdict is what became of a key: a place, with remarks or without.
type verdict struct {
	place uint32
	more  *remarks
}

type remarks struct {
	place   uint32
	remark  string
	problem string
	passed  bool
}

func (w *worker) read(c chunk) *chunkRows {
	last := w.out
	w.out = &chunkRows{at: c.at, worker: w.id, bytes: len(c.text), text: c.text}
	if last != nil { // as many as in the chunk before, and some
		w.out.v4 = make([]rangetable.Row, 0, len(last.v4)*9/8)
		w.out.v6 = make([]rangetable.Row, 0, len(last.v6)*9/8)
	}
	rest, n := c.text, c.line
	for ; len(rest) > 0; n++ {
		line, after, _ := bytes.Cut(rest, newline)
		rest = after
		if len(line) > maxLine {
			w.out.err = fmt.Errorf("line %d is longer than %d bytes: this is not range data", n, maxLine)
			break
		}
		if n == 1 {
			line = bytes.TrimPrefix(line, byteOrderMark)
		}
		w.line(n, bytes.TrimRight(line, "\r"))
	}
	w.settle()
	w.out.lines = n - c.line
	slices.SortStableFunc(w.out.rejects, func(a, b Note) int { return a.Line - b.Line })
	for _, rows := range [][]rangetable.Row{w.out.v4, w.out.v6} {
		if !slices.IsSortedFunc(rows, order) {
			slices.SortFunc(rows, order)
		}
	}
	return w.out
}

var (
	newline       = []byte{'\n'}
	byteOrderMark = []byte("\ufeff")
)

func (w *worker) line(n int, line []byte) {
	span, key, skip, err := w.format.row(line)
	if skip {
		return
	}
	w.out.rows++
	if err != nil {
		w.reject(n, line, err)
		return
	}
	row := &w.pending[w.waiting]
	*row = pendingRow{uint32(n), line, span, w.known.hash(key)}
	if w.waiting++; w.waiting == len(w.pending) {
		w.settle()
	}
}

func (w *worker) reject(n int, line []byte, err error) {
	w.out.rejects = append(w.out.rejects, note(n, string(line), err.Error()))
}

// settle takes the lines that wait. It asks memory for all their keys first, so
// that it waits once.
func (w *worker) settle() {
	for i := range w.pending[:w.waiting] {
		w.seen += w.known.ask(w.pending[i].key)
	}
	for i := range w.pending[:w.waiting] {
		row := &w.pending[i]
		v, ok := w.known.get(row.key)
		if !ok {
			_, _, _, _ = w.format.row(row.line)
			v = w.judge(row.key)
		}
		if err := w.add(row.n, row.line, row.span, v); err != nil {
			w.reject(int(row.n), row.line, err)
		}
	}
	w.waiting = 0
}

// judge reads what the last row says, and remembers it.
func (w *worker) judge(key keyHash) verdict {
	p, remark, passed, err := w.format.place()
	more := remarks{remark: remark, passed: passed}
	switch {
	case err != nil:
		more.problem = err.Error()
	case !passed:
		more.place = w.made
		w.made++
		w.out.places = append(w.out.places, p.append(nil))
	}
	v := verdict{place: more.place}
	if err != nil || passed || remark != "" {
		v.more = &more
	}
	w.known.put(key, v)
	return v
}

// add takes the range of a line and what is said of it.
func (w *worker) add(n uint32, line []byte, text rangeText, v verdict) error {
	row, is4, quick := quickPrefix(text)
	var span addr.Range
	if !quick {
		var err error
		if span, err = text.read(); err != nil {
			return err
		}
	}
	if more := v.more; more != nil {
		if more.problem != "" {
			return errors.New(more.problem)
		}
		if more.remark != "" {
			w.out.notes = append(w.out.notes, note(int(n), string(line), more.remark))
		}
		if more.passed {
			return nil
		}
		v.place = more.place
	}
	w.out.accepted++
	if quick {
		row.Value, row.Tag = v.place, n
		w.take(row, is4)
		return nil
	}
	pieces := span.Prefixes()
	for _, p := range pieces {
		row := rangetable.NewRow(p, v.place)
		row.Tag = n
		w.take(row, p.Addr().Is4())
	}
	if len(pieces) > 1 {
		if w.out.spans == nil {
			w.out.spans = map[uint32]addr.Range{}
		}
		w.out.spans[n] = span
	}
	return nil
}

func (w *worker) take(row rangetable.Row, is4 bool) {
	if is4 {
		w.out.v4 = append(w.out.v4, row)
	} else {
		w.out.v6 = append(w.out.v6, row)
	}
}

// read reads the range in full, with a reason where it is none.
func (t rangeText) read() (span addr.Range, err error) {
	switch {
	case t.span.First.IsValid():
		return t.span, nil
	case t.strict:
		var p netip.Prefix
		p, err = addr.ParsePrefix(string(t.first))
		span = addr.RangeOf(p)
	case t.last != nil:
		span, err = addr.ParseRange(string(t.first) + "-" + string(t.last))
	default:
		span, err = addr.ParseRange(string(t.first))
	}
	if err != nil {
		return span, errors.New(strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": "))
	}
	return span, nil
}

// quickPrefix reads a prefix in its plainest spelling; ok is false for all else,
// which [rangeText.read] then reads.
func quickPrefix(t rangeText) (row rangetable.Row, is4, ok bool) {
	if t.last != nil || t.span.First.IsValid() {
		return row, false, false
	}
	slash := bytes.LastIndexByte(t.first, '/')
	if slash < 2 || len(t.first)-slash > 4 || len(t.first)-slash < 2 || t.first[slash+1] == '0' && len(t.first)-slash > 2 {
		return row, false, false
	}
	n := 0
	for _, c := range t.first[slash+1:] {
		if c < '0' || c > '9' {
			return row, false, false
		}
		n = n*10 + int(c-'0')
	}
	if ip, ok := quick4(t.first[:slash]); ok {
		if n > 32 || uint64(ip)<<n&(1<<32-1) != 0 {
			return row, false, false
		}
		return rangetable.Row{Hi: uint64(ip) << 32, Bits: uint8(n)}, true, true
	}
	text := t.first[:slash]
	a, err := netip.ParseAddr(unsafe.String(&text[0], len(text))) // keeps the text only in an error or a zone
	if err != nil || !a.Is6() || a.Is4In6() || a.Zone() != "" || n > 128 {
		return row, false, false
	}
	p := netip.PrefixFrom(a, n)
	if p.Masked() != p {
		return row, false, false
	}
	return rangetable.NewRow(p, 0), false, true
}

func quick4(text []byte) (ip uint32, ok bool) {
	part, digits, dots := uint32(0), 0, 0
	for _, c := range text {
		switch {
		case c >= '0' && c <= '9':
			if digits > 0 && part == 0 { // a leading zero
				return 0, false
			}
			part = part*10 + uint32(c-'0')
			if digits++; part > 255 {
				return 0, false
			}
		case c == '.' && digits > 0 && dots < 3:
			ip, part, digits, dots = ip<<8|part, 0, 0, dots+1
		default:
			return 0, false
		}
	}
	return ip<<8 | part, dots == 3 && digits > 0
}

func note(line int, text, reason string) Note {
	if len(text) > 120 {
		text = strings.ToValidUTF8(text[:120], "") + "…"
	}
	return Note{Line: line, Text: text, Reason: reason}
}

// readLines reads lines by all processors at once.
func readLines(r io.Reader, how ParseOptions, about About, format func() rowFormat, headed bool) (*Source, error) {
	cut := &cutter{r: r}
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

func newWorker(id int) *worker {
	return &worker{id: id, known: newKeyTable()}
}

// cutter cuts text into chunks at the ends of lines.
type cutter struct {
	r    io.Reader
	rest []byte // read, but not yet cut off
	line int
	at   int
	used sync.Pool
}

func (c *cutter) free(b []byte) { c.used.Put(&b) } //nolint:staticcheck // the slice is large

// next gives the next chunk; its text is empty at the end.
func (c *cutter) next() (chunk, error) {
	b, _ := c.used.Get().(*[]byte)
	if b == nil {
		b = new([]byte)
		*b = make([]byte, chunkSize)
	}
	buf := (*b)[:cap(*b)]
	n := copy(buf, c.rest)
	read, err := io.ReadFull(c.r, buf[n:])
	buf = buf[:n+read]
	atEnd := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	if err != nil && !atEnd {
		return chunk{}, err
	}
	end := len(buf)
	if !atEnd {
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

func (c *cutter) each(chunks chan<- chunk, stop <-chan struct{}) error {
	for {
		part, err := c.next()
		if err != nil || len(part.text) == 0 {
			return err
		}
		select {
		case chunks <- part:
		case <-stop:
			return nil
		}
	}
}

// gathering puts together what workers read, in the order of the chunks.
type gathering struct {
	how    ParseOptions
	c      *collected
	ids    map[string]uint32 // of places, by what append writes
	of     map[int]*workerPlaces
	lines  int
	bytes  int64
	failed error // of the writer of rejects
}

// workerPlaces are the places of one worker, by its numbers.
type workerPlaces struct {
	places [][]byte
	ours   []uint32 // our number + 1, or 0
}

func newGathering(how ParseOptions, about About) *gathering {
	g := &gathering{how: how, ids: map[string]uint32{}, of: map[int]*workerPlaces{}}
	g.c = &collected{source: &Source{About: about, offsets: []uint32{0}}, spans: map[uint32]addr.Range{}, note: g.note}
	return g
}

func (g *gathering) note(reject bool, n Note) {
	s := g.c.source
	list, count, kind := &s.read.Remarks, &s.Remarked, "remark"
	if reject {
		list, count, kind = &s.read.Rejects, &s.Rejected, "reject"
	}
	*count++
	if len(*list) < maxNotes {
		*list = append(*list, n)
	}
	if g.how.Rejected != nil && g.failed == nil {
		line, _ := json.Marshal(struct {
			Kind string `json:"kind"`
			Note
		}{kind, n})
		_, g.failed = g.how.Rejected.Write(append(line, '\n'))
	}
}

func (g *gathering) take(c *chunkRows) error {
	s := g.c.source
	s.Rows += c.rows
	s.Accepted += c.accepted
	for _, n := range c.rejects {
		g.note(true, n)
	}
	for _, n := range c.notes {
		g.note(false, n)
	}
	for line, span := range c.spans {
		g.c.spans[line] = span
	}
	w := g.of[c.worker]
	if w == nil {
		w = &workerPlaces{}
		g.of[c.worker] = w
	}
	w.places = append(w.places, c.places...)
	w.ours = append(w.ours, make([]uint32, len(c.places))...)
	for _, rows := range [][]rangetable.Row{c.v4, c.v6} {
		for i := range rows {
			v := rows[i].Value
			if w.ours[v] == 0 {
				id, err := g.place(w.places[v])
				if err != nil {
					return err
				}
				w.ours[v] = id + 1
			}
			rows[i].Value = w.ours[v] - 1
		}
	}
	g.c.v4.add(c.v4)
	g.c.v6.add(c.v6)
	g.lines += c.lines
	g.bytes += int64(c.bytes)
	if g.how.Progress != nil {
		g.how.Progress(g.bytes, g.lines)
	}
	return g.failed
}

// place gives a place its number.
func (g *gathering) place(b []byte) (uint32, error) {
	if id, ok := g.ids[string(b)]; ok {
		return id, nil
	}
	s, id := g.c.source, uint32(len(g.ids))
	if id == maxPlaces || len(s.blob)+len(b) > math.MaxUint32 {
		return 0, fmt.Errorf("more than %d different places, or %d MB of them", maxPlaces, math.MaxUint32>>20)
	}
	g.ids[string(b)] = id
	s.blob = append(s.blob, b...)
	s.offsets = append(s.offsets, uint32(len(s.blob)))
	return id, nil
}

func (g *gathering) finish() (*Source, error) {
	if g.failed != nil {
		return nil, fmt.Errorf("the rejects could not be written: %w", g.failed)
	}
	g.ids, g.of = nil, nil
	s, err := g.c.compile()
	if err == nil && g.failed != nil {
		err = fmt.Errorf("the rejects could not be written: %w", g.failed)
	}
	return s, err
}

// readRows reads rows that are taken apart already, in one go.
func readRows(t *table, rows iter.Seq2[[]string, error], how ParseOptions, about About) (*Source, error) {
	g, w := newGathering(how, about), newWorker(0)
	format := &tableRows{t: t}
	w.format = format
	at, n := 0, 0
	flush := func() error {
		c := w.out
		for _, rows := range [][]rangetable.Row{c.v4, c.v6} {
			slices.SortFunc(rows, order)
		}
		c.lines = n - at
		at = n
		w.out = &chunkRows{}
		return g.take(c)
	}
	w.out = &chunkRows{}
	for fields, err := range rows {
		if err != nil {
			return nil, fmt.Errorf("%s: row %d: %w", about.Name, n+1, err)
		}
		n++
		span, key := format.fields(fields)
		w.out.rows++
		w.out.bytes += len(key)
		hash := w.known.hash(key)
		v, ok := w.known.get(hash)
		if !ok {
			v = w.judge(hash)
		}
		if err := w.add(uint32(n), key, span, v); err != nil {
			w.out.rejects = append(w.out.rejects, note(n, strings.Join(fields, ","), err.Error()))
		}
		if n-at == 10_000 {
			if err := flush(); err != nil {
				return nil, err
			}
		}
	}
	if err := flush(); err != nil {
		return nil, err
	}
	return g.finish()
}
