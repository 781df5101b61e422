// Package compile makes a source of an atlas of rows: it sorts them, finds what stands twice,
// and indexes ranges that nest or cross.
package compile

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/rangetable"
)

// ErrTooManyRejects is wrapped where more than half of the rows of a source
// are rejected: then it is probably something else.
var ErrTooManyRejects = errors.New("more than half of the rows were rejected")

// Rows are what was read of a source: rows whose Value is the index of their place and
// whose Tag is their line.
type Rows struct {
	Source *atlas.Parts
	Spans  map[uint32]addr.Range // of lines whose range is not a single prefix
	Note   func(reject bool, n atlas.Note)
	Where  func(line int) (file string, in int) // nil where all is one file

	v4, v6 runs
	cut    []uint64 // a bit for each line of Spans
}

// span gives the range of a line, where that is not a single prefix.
func (c *Rows) span(line uint32) (r addr.Range, ok bool) {
	if at := int(line >> 6); at >= len(c.cut) || c.cut[at]>>(line&63)&1 == 0 {
		return r, false
	}
	r, ok = c.Spans[line]
	return r, ok
}

// Add adds rows of both families, each sorted by [Order].
func (c *Rows) Add(v4, v6 []rangetable.Row) {
	c.v4.add(v4)
	c.v6.add(v6)
}

// runs are sorted rows, a run after another.
type runs struct{ list [][]rangetable.Row }

func (r *runs) add(run []rangetable.Row) {
	if len(run) > 0 {
		r.list = append(r.list, run)
	}
}

// Order is by address, the wider first, and by line for what stands twice.
func Order(a, b rangetable.Row) int {
	if c := a.Compare(b); c != 0 {
		return c
	}
	return cmp.Compare(a.Tag, b.Tag)
}

// merge sorts all runs into one.
func (r *runs) merge() []rangetable.Row {
	var begins []int
	rows := slices.Concat(r.list...)
	at := 0
	for _, run := range r.list {
		if at == 0 || Order(rows[at-1], run[0]) > 0 {
			begins = append(begins, at)
		}
		at += len(run)
	}
	r.list = nil
	if len(begins) < 2 {
		return rows
	}
	spare := make([]rangetable.Row, len(rows))
	for len(begins) > 1 {
		var next []int
		for i := 0; i < len(begins); i += 2 {
			from, middle, to := begins[i], len(rows), len(rows)
			if i+1 < len(begins) {
				middle = begins[i+1]
			}
			if i+2 < len(begins) {
				to = begins[i+2]
			}
			mergeTwo(spare[from:to], rows[from:middle], rows[middle:to])
			next = append(next, from)
		}
		rows, spare, begins = spare, rows, next
	}
	return rows
}

func mergeTwo(to, a, b []rangetable.Row) {
	for i := range to {
		if len(b) == 0 || len(a) > 0 && Order(a[0], b[0]) <= 0 {
			to[i], a = a[0], a[1:]
		} else {
			to[i], b = b[0], b[1:]
		}
	}
}

// Compile indexes what was read. With [ErrTooManyRejects] the source has its
// counts and notes, and nothing else.
func (c *Rows) Compile() (*atlas.Source, error) {
	p := c.Source
	most := uint32(0)
	for line := range c.Spans {
		most = max(most, line)
	}
	if len(c.Spans) > 0 {
		c.cut = make([]uint64, most>>6+1)
	}
	for line := range c.Spans {
		c.cut[line>>6] |= 1 << (line & 63)
	}
	v4, v6 := make(chan []rangetable.Row, 1), c.v6.merge
	go func() { v4 <- c.v4.merge() }()
	rows6 := v6()
	rows4 := <-v4
	twice := map[uint32]uint32{} // line -> the line that has its range
	for _, rows := range [][]rangetable.Row{rows4, rows6} {
		c.findTwins(rows, twice)
	}
	if len(twice) > 0 {
		rows4, rows6 = c.dropTwins(rows4, twice, true), c.dropTwins(rows6, twice, false)
	}
	if p.Rejected*2 > p.Rows {
		return atlas.NewSource(p), fmt.Errorf("%s: %w: %d of %d, the first on line %d: %s",
			p.Name, ErrTooManyRejects, p.Rejected, p.Rows, p.Rejects[0].Line, p.Rejects[0].Reason)
	}
	if len(rows4)+len(rows6) >= math.MaxInt32 {
		return nil, fmt.Errorf("%s: more than %d ranges", p.Name, math.MaxInt32)
	}
	if err := c.index(rows4, rows6); err != nil {
		return nil, err
	}
	return atlas.NewSource(p), nil
}

// findTwins says which lines repeat the range of an earlier line.
func (c *Rows) findTwins(rows []rangetable.Row, twice map[uint32]uint32) {
	for i := 1; i < len(rows); i++ {
		if !rows[i].Twin(rows[i-1]) {
			continue
		}
		begin, lines := i-1, map[addr.Range]uint32{} // by the range of which this is a part, or none
		for ; i < len(rows) && rows[i].Twin(rows[begin]); i++ {
		}
		for _, r := range rows[begin:i] {
			span, _ := c.span(r.Tag)
			if first, ok := lines[span]; ok {
				twice[r.Tag] = first
			} else {
				lines[span] = r.Tag
			}
		}
	}
}

func (c *Rows) dropTwins(rows []rangetable.Row, twice map[uint32]uint32, is4 bool) []rangetable.Row {
	said := map[uint32]bool{}
	return slices.DeleteFunc(rows, func(r rangetable.Row) bool {
		first := twice[r.Tag]
		if first == 0 {
			return false
		}
		if !said[r.Tag] {
			said[r.Tag] = true
			c.Source.Accepted--
			what, text := "prefix", r.Prefix(is4).String()
			if span, ok := c.span(r.Tag); ok {
				what, text = "range", span.String()
			}
			c.Note(true, NoteOf(int(r.Tag), text, fmt.Sprintf("the %s %s stands on %s already", what, text, c.line(first))))
		}
		return true
	})
}

// line names a line in a message.
func (c *Rows) line(n uint32) string {
	if c.Where == nil {
		return fmt.Sprintf("line %d", n)
	}
	file, in := c.Where(int(n))
	return fmt.Sprintf("line %d of %s", in, file)
}

// index makes nodes of the rows, and the table that leads to them.
func (c *Rows) index(rows4, rows6 []rangetable.Row) (err error) {
	s := c.Source
	classes, err := c.classes()
	if err != nil {
		return err
	}
	var four, six *nodesOf
	if c.tangled(rows4, true) || c.tangled(rows6, false) {
		if four, err = c.untangle(rows4, 1, true, classes); err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
		if six, err = c.untangle(rows6, uint32(1+len(four.nodes)/atlas.NodeWords), false, classes); err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
		rows4, rows6 = four.rows, six.rows
		s.Nodes = slices.Concat(four.nodes, six.nodes)
	} else {
		s.Nodes = make([]uint32, atlas.NodeWords*(len(rows4)+len(rows6)))
		done := make(chan *nodesOf, 1)
		go func() { done <- c.nodesOf(rows4, 1, true, classes) }()
		six = c.nodesOf(rows6, uint32(1+len(rows4)), false, classes)
		four = <-done
	}
	s.Ranges4, s.Ranges6 = len(rows4), len(rows6)
	nested := 0
	for _, f := range []*nodesOf{four, six} {
		s.Spans = append(s.Spans, f.spans...)
		nested += f.nested
		for i, amount := range f.covered {
			s.Coverage.Add(&classes.list[i], f.is4, amount)
		}
	}
	s.Nested = nested
	if s.Table, err = rangetable.Build(rows4, rows6); err != nil {
		return fmt.Errorf("%s: %w", s.Name, err)
	}
	return nil
}

// classes sorts places by what coverage asks of them. Class 0 locates nothing.
type classes struct {
	of   []uint16 // by place
	list []atlas.Place
}

func (c *Rows) classes() (*classes, error) {
	s := c.Source
	k := &classes{of: make([]uint16, len(s.Offsets)-1), list: []atlas.Place{{}}}
	known := map[atlas.Class]uint16{}
	for i := range k.of {
		class, err := atlas.ClassOf(s.Blob[s.Offsets[i]:s.Offsets[i+1]])
		if err != nil {
			return nil, err
		}
		if !class.Locates {
			continue
		}
		if known[class] == 0 {
			p, err := atlas.ReadPlace(s.Blob[s.Offsets[i]:s.Offsets[i+1]])
			if err != nil {
				return nil, err
			}
			known[class] = uint16(len(k.list))
			k.list = append(k.list, *p)
		}
		k.of[i] = known[class]
	}
	return k, nil
}

// nodesOf is what is learned of one family's rows.
type nodesOf struct {
	is4     bool
	spans   []uint32
	nested  int
	covered []float64        // by class
	nodes   []uint32         // where rows were cut anew; otherwise they stand in the source already
	rows    []rangetable.Row // the same
}

// span notes that node n is of a range that is not a prefix.
func (f *nodesOf) span(n uint32, r addr.Range) {
	f.spans = atlas.AppendSpan(f.spans, n, r)
}

// nodesOf gives the rows, sorted, the numbers from first on.
func (c *Rows) nodesOf(rows []rangetable.Row, first uint32, is4 bool, k *classes) *nodesOf {
	f := &nodesOf{is4: is4, covered: make([]float64, len(k.list))}
	located := make([]uint16, len(rows)) // the class that locates each row
	rangetable.Parents(rows, func(i, parent int) {
		row, n := &rows[i], first+uint32(i)
		around := uint32(0)
		located[i] = k.of[row.Value]
		if parent >= 0 {
			around = first + uint32(parent)
			f.nested++
			if located[i] == 0 {
				located[i] = located[parent]
			}
			f.covered[located[parent]] -= amount(row, is4)
		}
		f.covered[located[i]] += amount(row, is4)
		c.Source.Nodes[atlas.NodeWords*(n-1)], c.Source.Nodes[atlas.NodeWords*(n-1)+1] = row.Value|uint32(row.Bits)<<atlas.PlaceBits, around
		if span, ok := c.span(row.Tag); ok {
			f.span(n, span)
		}
		row.Value = n
	})
	return f
}

// amount is how much a row covers, in the unit of its family.
func amount(r *rangetable.Row, is4 bool) float64 {
	if is4 {
		return math.Ldexp(1, 32-int(r.Bits))
	}
	return math.Ldexp(1, 48-int(r.Bits))
}

// NoteOf makes a note of a line, of which it keeps the beginning.
func NoteOf(line int, text, reason string) atlas.Note {
	text, _, _ = strings.Cut(text, "\n") // of an object its first line
	if len(text) > 120 {
		text = strings.ToValidUTF8(text[:120], "") + "…"
	}
	return atlas.Note{Line: line, Text: text, Reason: reason}
}
