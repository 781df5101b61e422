package rangetable

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
)

// ErrDuplicate is wrapped by [Build] when a prefix stands twice.
var ErrDuplicate = errors.New("prefix given twice")

// A Row gives every address of a prefix a value, where no longer prefix does.
type Row struct {
	Hi, Lo uint64 // the first address; IPv4 stands in the upper 32 bits of Hi
	Value  uint32 // 1 to MaxValue
	Tag    uint32 // the caller's own; the table does not keep it
	Bits   uint8  // the prefix's length
}

// NewRow makes the row of a prefix; host bits are cleared.
func NewRow(p netip.Prefix, value uint32) Row {
	p = p.Masked()
	r := Row{Value: value, Bits: uint8(max(0, p.Bits()))}
	if a := p.Addr(); a.Is4() {
		b := a.As4()
		r.Hi = uint64(binary.BigEndian.Uint32(b[:])) << 32
	} else {
		b := a.As16()
		r.Hi, r.Lo = binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])
	}
	return r
}

// Prefix gives the prefix of a row.
func (r Row) Prefix(is4 bool) netip.Prefix {
	if is4 {
		return netip.PrefixFrom(from4(uint32(r.Hi>>32)), int(r.Bits))
	}
	return netip.PrefixFrom(from6(wide{r.Hi, r.Lo}), int(r.Bits))
}

// Compare orders rows by first address and then the wider before the narrower,
// so that a prefix follows those that hold it.
func (r Row) Compare(o Row) int {
	switch {
	case r.Hi != o.Hi:
		return cmp.Compare(r.Hi, o.Hi)
	case r.Lo != o.Lo:
		return cmp.Compare(r.Lo, o.Lo)
	}
	return int(r.Bits) - int(o.Bits)
}

// Twin says whether two rows have the same prefix.
func (r Row) Twin(o Row) bool { return r.Hi == o.Hi && r.Lo == o.Lo && r.Bits == o.Bits }

// Parents calls do for every row of one family, sorted by [Row.Compare], with
// the index of the row that most closely holds it, or -1.
func Parents(rows []Row, do func(row, parent int)) {
	var open []int
	for i := range rows {
		for len(open) > 0 && lastAddr(&rows[open[len(open)-1]]).less(wide{rows[i].Hi, rows[i].Lo}) {
			open = open[:len(open)-1]
		}
		parent := -1
		if len(open) > 0 {
			parent = open[len(open)-1]
		}
		do(i, parent)
		open = append(open, i)
	}
}

func lastAddr(r *Row) wide { return wide{r.Hi, r.Lo}.lastOf(r.Bits) }

// An Entry is a [Row] as people write it.
type Entry struct {
	Prefix netip.Prefix
	Value  uint32
}

// New builds a table of entries in any order. Host bits are cleared and
// IPv4-mapped prefixes unwrapped; an invalid prefix is an error.
func New(entries []Entry) (*Table, error) {
	var v4, v6 []Row
	for _, e := range entries {
		if a := e.Prefix.Addr(); a.Is4In6() && e.Prefix.Bits() >= 96 {
			e.Prefix = netip.PrefixFrom(a.Unmap(), e.Prefix.Bits()-96)
		}
		if !e.Prefix.IsValid() {
			return nil, errors.New("a prefix is not valid")
		}
		row := NewRow(e.Prefix, e.Value)
		if e.Prefix.Addr().Is4() {
			v4 = append(v4, row)
		} else {
			v6 = append(v6, row)
		}
	}
	slices.SortFunc(v4, Row.Compare)
	slices.SortFunc(v6, Row.Compare)
	return Build(v4, v6)
}

// Build makes a table of the rows of each family, sorted by [Row.Compare]. The
// families are built at the same time. A value of 0 or above [MaxValue] is an
// error, and so is a prefix that stands twice, or rows out of order.
func Build(v4, v6 []Row) (*Table, error) {
	var words6 words
	done := make(chan error, 1)
	go func() {
		starts, err := flatten(v6)
		if err == nil {
			words6, err = build6(starts)
		}
		done <- err
	}()
	starts, err := flatten(v4)
	if err != nil {
		return nil, errors.Join(err, <-done)
	}
	words4, err := build4(starts)
	if err = errors.Join(err, <-done); err != nil {
		return nil, err
	}
	return Open(words4, words6)
}

// start begins a stretch that goes on to the next start; value 0 is a hole.
type start struct {
	wide
	value uint32
}

// flatten cuts nested rows of one family into disjoint stretches.
func flatten(rows []Row) ([]start, error) {
	flat := make([]start, 0, len(rows)+len(rows)/2)
	type span struct {
		last  wide
		value uint32
	}
	var open []span // the rows that hold the current address, widest first
	emit := func(at wide, value uint32) {
		switch n := len(flat); {
		case n > 0 && flat[n-1].wide == at:
			flat[n-1].value = value
			if n > 1 && flat[n-2].value == value {
				flat = flat[:n-1]
			}
		case n == 0 && value == 0, n > 0 && flat[n-1].value == value:
		default:
			flat = append(flat, start{at, value})
		}
	}
	closeTop := func() {
		end := open[len(open)-1].last.next()
		open = open[:len(open)-1]
		switch {
		case end == wide{}: // the last address there is
		case len(open) > 0:
			emit(end, open[len(open)-1].value)
		default:
			emit(end, 0)
		}
	}
	for i := range rows {
		r := &rows[i]
		at := wide{r.Hi, r.Lo}
		if i > 0 && rows[i-1].Compare(*r) >= 0 {
			if rows[i-1].Twin(*r) {
				return nil, ErrDuplicate
			}
			return nil, errors.New("the rows are not in order")
		}
		if r.Value == 0 || r.Value > MaxValue {
			return nil, fmt.Errorf("the value %d is not 1 to %d", r.Value, MaxValue)
		}
		for len(open) > 0 && open[len(open)-1].last.less(at) {
			closeTop()
		}
		emit(at, r.Value)
		open = append(open, span{at.lastOf(r.Bits), r.Value})
	}
	for len(open) > 0 {
		closeTop()
	}
	return flat, nil
}

// build4 makes the words of IPv4: an entry for each /14 leads, unless it is a
// value, to the buckets of that /14.
func build4(starts []start) (words, error) {
	if len(starts) == 0 {
		return nil, nil
	}
	w := make(words, header+slots4, header+slots4+9*len(starts)/4+spare)
	w[0] = 1
	var items []item
	var carried uint32
	for slot := range uint64(slots4) {
		var inside []start
		inside, starts = cut(starts, slot, 32+within)
		if len(inside) > 0 && uint32(inside[0].hi>>32)%past == 0 {
			carried, inside = inside[0].value, inside[1:]
		}
		w[header+slot] = carried
		if len(inside) == 0 {
			continue
		}
		items = items[:0]
		for _, s := range inside {
			items = append(items, item{uint32(s.hi>>32) % past, s.value})
		}
		entry, err := w.buckets(items, carried, apart4)
		if err != nil {
			return nil, err
		}
		w[header+slot], carried = entry, items[len(items)-1].entry
	}
	return append(w, make([]uint32, spare)...), nil
}

// build6 makes the words of IPv6: an entry for each /16 leads, unless it is a
// value, to a table of that /16 with an entry for each /32, which leads to the
// buckets of that /32.
func build6(starts []start) (words, error) {
	if len(starts) == 0 {
		return nil, nil
	}
	w := make(words, header+slots6, header+slots6+6*len(starts)+spare)
	w[0] = 1
	var carried uint32
	for slot := range uint64(slots6) {
		var inside []start
		inside, starts = cut(starts, slot, 48)
		if len(inside) > 0 && inside[0].hi<<16 == 0 && inside[0].lo == 0 {
			carried, inside = inside[0].value, inside[1:]
		}
		w[header+slot] = carried
		if len(inside) == 0 {
			continue
		}
		entry, last, err := w.table16(inside, slot, carried)
		if err != nil {
			return nil, err
		}
		w[header+slot], carried = entry, last
	}
	return append(w, make([]uint32, spare)...), nil
}
