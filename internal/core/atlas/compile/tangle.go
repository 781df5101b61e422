package compile

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/rangetable"
)

// Of the ranges of a source that hold an address the one with the fewest addresses is the
// most specific, of as many the one on the earlier line. Prefixes nest, so that the table's
// order is that order by itself. First-last ranges may cross, and be cut into prefixes of
// which a larger range's lies within a smaller one's: then their rows are tangled, and are
// cut anew where any of the ranges begins or ends.

// Where ranges cross, maxDepth of them may hold one address, and they may be cut into as
// many nodes as maxNodes, and a few for each range.
const maxDepth, maxNodes = 10_000, 4_000_000

// extent is how many addresses a range has, less one.
type extent struct{ hi, lo uint64 }

func extentOf(r addr.Range) extent {
	first, last := r.First.As16(), r.Last.As16()
	lo, borrow := binary.BigEndian.Uint64(last[8:]), binary.BigEndian.Uint64(first[8:])
	hi := binary.BigEndian.Uint64(last[:8]) - binary.BigEndian.Uint64(first[:8])
	if borrow > lo {
		hi--
	}
	return extent{hi, lo - borrow}
}

// A held is a range of a source: what a line says, of all of its rows.
type held struct {
	addr.Range
	extent
	place, line uint32
	bits        uint8
	whole       bool // it is a prefix
}

// outer orders ranges from the least specific on.
func outer(a, b *held) int {
	return cmp.Or(cmp.Compare(b.hi, a.hi), cmp.Compare(b.lo, a.lo), cmp.Compare(b.line, a.line))
}

func (c *Rows) held(r *rangetable.Row, is4 bool) *held {
	span, cut := c.span(r.Tag)
	if !cut {
		span = addr.RangeOf(r.Prefix(is4))
	}
	return &held{span, extentOf(span), r.Value, r.Tag, r.Bits, !cut}
}

// tangled says whether the sorted rows of a family find a range that is not the most
// specific.
func (c *Rows) tangled(rows []rangetable.Row, is4 bool) (found bool) {
	if len(c.Spans) == 0 {
		return false
	}
	rangetable.Parents(rows, func(i, parent int) {
		if found || parent < 0 {
			return
		}
		_, one := c.span(rows[i].Tag)
		_, other := c.span(rows[parent].Tag)
		if (one || other) && rows[i].Tag != rows[parent].Tag {
			found = rows[i].Twin(rows[parent]) || outer(c.held(&rows[parent], is4), c.held(&rows[i], is4)) > 0
		}
	})
	return found
}

// untangle cuts tangled rows anew: the rows of f are sorted, and lead to its nodes, which
// are numbered from first on.
func (c *Rows) untangle(rows []rangetable.Row, first uint32, is4 bool, k *classes) (*nodesOf, error) {
	f := &nodesOf{is4: is4, covered: make([]float64, len(k.list))}
	ranges := c.ranges(rows, is4)
	numbers := map[[2]uint32]uint32{} // line and the node around it -> node
	var open []*held                  // that hold at, from outside in
	var chain []uint32                // their nodes, as far as they are known
	var at netip.Addr
	for len(ranges) > 0 || len(open) > 0 {
		if len(open) == 0 {
			at = ranges[0].First
		}
		for ; len(ranges) > 0 && ranges[0].First == at; ranges = ranges[1:] {
			n, _ := slices.BinarySearchFunc(open, ranges[0], outer)
			if slices.ContainsFunc(open[:n], func(o *held) bool { return !o.Last.Less(ranges[0].Last) }) {
				f.nested++
			}
			open, chain = slices.Insert(open, n, ranges[0]), chain[:min(n, len(chain))]
		}
		if len(open) > maxDepth {
			return nil, fmt.Errorf("more than %d of its ranges hold %s, and some cross: leave out those that are not needed", maxDepth, at)
		}
		cell := addr.Range{First: at, Last: open[0].Last}
		class := uint16(0)
		for n, o := range open {
			if o.Last.Less(cell.Last) {
				cell.Last = o.Last
			}
			if of := k.of[o.place]; of != 0 {
				class = of
			}
			if n < len(chain) {
				continue
			}
			around := uint32(0)
			if n > 0 {
				around = chain[n-1]
			}
			key := [2]uint32{o.line, around}
			if numbers[key] == 0 {
				numbers[key] = first + uint32(len(f.nodes)/atlas.NodeWords)
				f.node(numbers[key], o, around)
			}
			chain = append(chain, numbers[key])
		}
		if len(ranges) > 0 && !cell.Last.Less(ranges[0].First) {
			cell.Last = ranges[0].First.Prev()
		}
		for _, p := range cell.Prefixes() {
			f.rows = append(f.rows, rangetable.NewRow(p, chain[len(chain)-1]))
		}
		f.covered[class] += atlas.Weight(cell)
		if gone := slices.IndexFunc(open, func(o *held) bool { return o.Last == cell.Last }); gone >= 0 {
			open, chain = slices.DeleteFunc(open, func(o *held) bool { return o.Last == cell.Last }), chain[:gone]
		}
		if most := maxNodes + 8*len(rows); max(len(f.nodes)/atlas.NodeWords, len(f.rows)) > most {
			return nil, fmt.Errorf("its ranges cross so often that they would be cut into more than %d pieces: write it without ranges that cross", most)
		}
		at = cell.Last.Next()
	}
	return f, nil
}

// ranges gives the ranges of sorted rows, in order of their first address.
func (c *Rows) ranges(rows []rangetable.Row, is4 bool) (list []*held) {
	for i := range rows {
		if made := c.held(&rows[i], is4); made.First == rows[i].Prefix(is4).Addr() {
			list = append(list, made)
		}
	}
	return list
}

// node adds the node of a range.
func (f *nodesOf) node(n uint32, of *held, around uint32) {
	f.nodes = append(f.nodes, of.place|uint32(of.bits)<<atlas.PlaceBits, around)
	if !of.whole {
		f.span(n, of.Range)
	}
}
