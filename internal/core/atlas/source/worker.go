package source

import (
	"bytes"
	"errors"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
	"unsafe"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/rangetable"
)

// rangeText is a range as a line writes it; last may be empty.
type rangeText struct {
	first, last []byte
	span        addr.Range // where the format has worked it out
	strict      bool       // only a prefix counts, without host bits
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
		w.out.places.Grow(&last.places)
	}
	var n int
	if format, ok := w.format.(objectFormat); ok {
		n = w.objects(format, c)
	} else {
		n = w.lines(c)
	}
	w.settle()
	w.out.lines = n - c.line
	w.out.sort()
	return w.out
}

// sort brings what was read into order.
func (c *chunkRows) sort() {
	slices.SortStableFunc(c.rejects, func(a, b atlas.Note) int { return a.Line - b.Line })
	for _, rows := range [][]rangetable.Row{c.v4, c.v6} {
		if !slices.IsSortedFunc(rows, compile.Order) {
			slices.SortFunc(rows, compile.Order)
		}
	}
}

// lines reads a chunk of lines, and gives the number of the line behind it.
func (w *worker) lines(c chunk) (n int) {
	rest := c.text
	for n = c.line; len(rest) > 0; n++ {
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
	return n
}

// objects is lines for objects.
func (w *worker) objects(format objectFormat, c chunk) (n int) {
	rest := c.text
	for n = c.line; len(rest) > 0; {
		object, after, skipped, lines := format.object(rest)
		if lines == 0 {
			return n + skipped
		}
		n += skipped
		if w.line(n, object) {
			if f, ok := format.feed(); ok {
				f.Line = n
				w.out.feeds = append(w.out.feeds, f)
			}
		}
		if c.more {
			w.out.notes = append(w.out.notes, compile.NoteOf(n, string(object), "the object is longer than 2 MB: what follows its first 64 KB was passed over"))
		}
		n, rest = n+lines, after
	}
	return n
}

// line takes a row; false is one that holds no data, or is rejected at once. Behind it the format's
// last row is still this one.
func (w *worker) line(n int, line []byte) bool {
	if w.waiting == len(w.pending) {
		w.settle() // which reads other rows
	}
	span, key, skip, err := w.format.row(line)
	if skip {
		return false
	}
	w.out.rows++
	if err != nil {
		w.reject(n, line, err)
		return false
	}
	w.pending[w.waiting] = pendingRow{uint32(n), line, span, w.known.hash(key)}
	w.waiting++
	return true
}

func (w *worker) reject(n int, line []byte, err error) {
	w.out.rejects = append(w.out.rejects, compile.NoteOf(n, string(line), err.Error()))
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
	var v verdict
	if err == nil && !passed {
		v.place = w.made
		w.made++
		w.out.places.Add(&p)
	}
	if err != nil || passed || remark != "" {
		v.more = &remarks{place: v.place, remark: remark, passed: passed}
		if err != nil {
			v.more.problem = err.Error()
		}
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
			w.out.notes = append(w.out.notes, compile.NoteOf(int(n), string(line), more.remark))
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
	if t.span.First.IsValid() {
		return row, false, false
	}
	if t.last != nil {
		first, ok1 := quick4(t.first)
		last, ok2 := quick4(t.last)
		size := uint64(last) - uint64(first) + 1 // of more than 32 bits where they are reversed
		if !ok1 || !ok2 || first > last || size&(size-1) != 0 || uint64(first)&(size-1) != 0 {
			return row, false, false
		}
		return rangetable.Row{Hi: uint64(first) << 32, Bits: uint8(32 - bits.TrailingZeros64(size))}, true, true
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

func newWorker(id int) *worker {
	return &worker{id: id, known: newKeyTable()}
}
