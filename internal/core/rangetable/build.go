package rangetable

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"net/netip"
	"slices"

	"eastporch/internal/core/addr"
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

// words are those of one family while they grow.
type words []uint32

// room makes room for n words, and gives the entry that leads there to an array
// that covers k bits, or with k = 0 to a block. What fits into a cache line
// never lies in two.
func (w *words) room(n, k int) (entry uint32, err error) {
	at := (len(*w) + unit - 1) / unit * unit
	if left := line - at%line; n <= line && n > left {
		at += left
	}
	if at/unit >= 1<<atBits-1 {
		return 0, errors.New("too many ranges for one table")
	}
	if at+n > cap(*w) {
		*w = slices.Grow(*w, max(n+line, cap(*w)/4))
	}
	*w = (*w)[:at+n]
	return pointer | uint32(k)<<atBits | uint32(at/unit), nil
}

// An item is the entry from a key on.
type item struct{ key, entry uint32 }

// level fills the table at, whose entries each stand for 1<<width keys, from
// items that ascend; first is the entry before them.
func (w *words) level(at, slots int, width uint, items []item, first uint32) (err error) {
	mask := uint32(1)<<width - 1
	for slot := range slots {
		n := 0
		for n < len(items) && items[n].key>>width == uint32(slot) {
			n++
		}
		inside := items[:n]
		items = items[n:]
		if n > 0 && inside[0].key&mask == 0 {
			first, inside = inside[0].entry, inside[1:]
		}
		entry := first
		if len(inside) > 0 {
			if entry, err = w.inside(inside, first, width); err != nil {
				return err
			}
			first = inside[len(inside)-1].entry
		}
		(*w)[at+slot] = entry
	}
	return nil
}

// inside makes what an entry leads to that changes within: an array where the
// keys are coarse enough that one is not much larger, else a block.
func (w *words) inside(items []item, first uint32, width uint) (entry uint32, err error) {
	n, mask, all := len(items), uint32(1)<<width-1, uint32(0)
	for _, it := range items {
		all |= it.key & mask
	}
	fine := uint(bits.TrailingZeros32(all)) // bits below which no key differs
	if k := width - fine; k < wider && 1<<k <= 2*(n/2+n+2) {
		if entry, err = w.room(1<<k, int(k)); err != nil {
			return 0, err
		}
		array := (*w)[place(entry):]
		for i := range array {
			for len(items) > 0 && items[0].key&mask>>fine == uint32(i) {
				first, items = items[0].entry, items[1:]
			}
			array[i] = first
		}
		return entry, nil
	}
	size, k := n/2+1+n+1, 0
	switch {
	case n > most:
		k = large
	case size > line:
		k = wider
	}
	if entry, err = w.room(size, k); err != nil {
		return 0, err
	}
	b := (*w)[place(entry):]
	b[0] = uint32(n)
	entries := b[n/2+1:]
	entries[0] = first
	for i, it := range items {
		b[(1+i)/2] |= it.key & mask << ((1 + i) % 2 * 16)
		entries[1+i] = it.entry
	}
	return entry, nil
}

func build4(starts []start) (words, error) {
	if len(starts) == 0 {
		return nil, nil
	}
	items := make([]item, len(starts))
	for i, s := range starts {
		items[i] = item{uint32(s.hi >> 32), s.value}
	}
	top := min(max(bits.Len(uint(len(starts))), minBits), maxBits)
	w := make(words, header+1<<top, header+1<<top+2*len(starts)+len(starts)/4+spare)
	w[0] = uint32(top)
	if err := w.level(header, 1<<top, uint(32-top), items, 0); err != nil {
		return nil, err
	}
	return append(w, make([]uint32, spare)...), nil
}

// build6 makes the words of IPv6: an entry for each /16 leads, unless it is a
// value, to a table of that /16 with an entry for each /32, which leads to a
// table of that /32.
func build6(starts []start) (words, error) {
	if len(starts) == 0 {
		return nil, nil
	}
	inside16 := func(s start) bool { return s.hi<<16 != 0 || s.lo != 0 }
	count := 0 // the /16s that need a table: those that a start lies within
	for i, last := 0, uint64(math.MaxUint64); i < len(starts); i++ {
		if s := starts[i]; inside16(s) && s.hi>>48 != last {
			count, last = count+1, s.hi>>48
		}
	}
	w := make(words, header+slots6+count*slots6, header+slots6+count*slots6+3*len(starts)+spare)
	w[0] = uint32(count)
	var carried uint32
	var err error
	table := 0
	for slot := range uint64(slots6) {
		var inside []start
		inside, starts = cut(starts, slot, 48)
		switch n := len(inside); {
		case n > 1 || n == 1 && inside16(inside[0]):
			w[header+slot] = uint32(table) | pointer
			if carried, err = w.table16(header+slots6+table*slots6, inside, slot, carried); err != nil {
				return nil, err
			}
			table++
			continue
		case n == 1:
			carried = inside[0].value
		}
		w[header+slot] = carried
	}
	return append(w, make([]uint32, spare)...), nil
}

// cut parts the starts whose bits from shift on are slot from those after them.
func cut(starts []start, slot uint64, shift uint) (inside, after []start) {
	n := 0
	for n < len(starts) && starts[n].hi>>shift == slot {
		n++
	}
	return starts[:n], starts[n:]
}

// table16 fills the table of one /16 and gives the value at its end.
func (w *words) table16(at int, starts []start, slot16 uint64, carried uint32) (uint32, error) {
	for i := range slots6 {
		var inside []start
		inside, starts = cut(starts, slot16<<16|uint64(i), 32)
		if len(inside) > 0 && uint32(inside[0].hi) == 0 && inside[0].lo == 0 {
			carried, inside = inside[0].value, inside[1:]
		}
		entry := carried
		if len(inside) > 0 {
			var err error
			if entry, err = w.table32(inside, carried); err != nil {
				return 0, err
			}
			carried = inside[len(inside)-1].value
		}
		(*w)[at+i] = entry
	}
	return carried, nil
}

// table32 makes the table of one /32, on as many of the next 16 bits as leave
// few keys to a block, and gives the entry that leads to it.
func (w *words) table32(starts []start, carried uint32) (entry uint32, err error) {
	var items []item
	first := carried
	for len(starts) > 0 {
		var inside []start
		slot := starts[0].hi >> 16
		inside, starts = cut(starts, slot, 16)
		k, entry := uint32(slot)&0xffff, carried
		if inside[0].hi<<48 == 0 && inside[0].lo == 0 {
			entry, inside = inside[0].value, inside[1:]
		}
		if len(inside) == 0 {
			items, carried = append(items, item{k, entry}), entry
			continue
		}
		if entry, err = w.deep(inside, entry); err != nil {
			return 0, err
		}
		items, carried = append(items, item{k, entry}), inside[len(inside)-1].value
		if k < 0xffff && (len(starts) == 0 || starts[0].hi>>16 != slot+1) {
			items = append(items, item{k + 1, carried})
		}
	}
	k := min(max(1, bits.Len(uint(len(items)/3))), wider-1)
	if entry, err = w.room(1<<k, k); err != nil {
		return 0, err
	}
	return entry, w.level(int(place(entry)), 1<<k, uint(16-k), items, first)
}

// deep makes the block of the prefixes longer than /48 in one /48.
func (w *words) deep(starts []start, first uint32) (entry uint32, err error) {
	n := len(starts)
	if entry, err = w.room(2+4*n, 0); err != nil {
		return 0, err
	}
	b := (*w)[place(entry):]
	b[0], b[1+3*n] = uint32(n), first
	for i, s := range starts {
		b[1+3*i], b[2+3*i], b[3+3*i] = uint32(s.lo), uint32(s.lo>>32), uint32(s.hi)&0xffff
		b[1+3*n+1+i] = s.value
	}
	return entry, nil
}

// Span gives the addresses of a row.
func (r Row) Span(is4 bool) addr.Range { return addr.RangeOf(r.Prefix(is4)) }
