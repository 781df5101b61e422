package rangetable

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
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

// grow makes buffer for n words, from a multiple of step on.
func (w *words) grow(n, step int) (at int) {
	at = (len(*w) + step - 1) / step * step
	if at+n > cap(*w) {
		*w = slices.Grow(*w, max(n+step, cap(*w)/8))
	}
	*w = (*w)[:at+n]
	return at
}

var errTooMany = errors.New("too many ranges for one table")

// buffer makes buffer for a block of n words, and gives the entry that leads there.
// What fits into a cache line never lies in two.
func (w *words) buffer(n int) (entry uint32, err error) {
	step := unit
	if left := line - len(*w)%line; n <= line && n > left {
		step = line
	}
	at := w.grow(n, step)
	if at/unit >= 1<<placeBits-1 {
		return 0, errTooMany
	}
	return pointer | uint32(at/unit), nil
}

// An item is the entry from a key of 16 bits on.
type item struct{ key, entry uint32 }

// buckets makes the buckets of items that ascend, at least one, and gives the
// entry that leads to them; first is the entry before them.
func (w *words) buckets(items []item, first uint32, apart int) (entry uint32, err error) {
	how := choose(items, apart)
	n := buckets(how)
	at := w.grow(int(n)*lines*line, line)
	if at/line >= 1<<lineBits {
		return 0, errTooMany
	}
	for b := range n {
		ends := beginOf(how, b+1)
		m := 0
		for m < len(items) && items[m].key < ends {
			m++
		}
		inside := items[:m]
		items = items[m:]
		if m > 0 && inside[0].key == beginOf(how, b) {
			first, inside = inside[0].entry, inside[1:]
		}
		bucket := at + int(b)*lines*line
		if len(inside) <= most {
			block((*w)[bucket:], inside, first)
		} else {
			large, err := w.buffer(len(inside)/2 + 1 + len(inside) + 1)
			if err != nil {
				return 0, err
			}
			block((*w)[place(large):], inside, first)
			(*w)[bucket], (*w)[bucket+1] = 0xffff, large
		}
		if len(inside) > 0 {
			first = inside[len(inside)-1].entry
		}
	}
	return pointer | how | uint32(at/line), nil
}

// block fills in a block of items.
func block(b []uint32, items []item, first uint32) {
	n := len(items)
	b[0] = uint32(n)
	entries := b[n/2+1:]
	entries[0] = first
	for i, it := range items {
		b[(1+i)/2] |= it.key << ((1 + i) % 2 * 16)
		entries[1+i] = it.entry
	}
}

// apart is how many words a bucket may cost rather than a block of its own, which
// takes a lookup another read. IPv6 has less buffer in all, and can have more.
const apart4, apart6 = 42, 200

// choose gives the number of buckets, as entries have it, that costs least: words,
// and reads of what did not fit.
func choose(items []item, apart int) (best uint32) {
	least, last := math.MaxInt, items[len(items)-1].key
	for x := uint32(0); x < 1<<sizeBits; x++ {
		how := x << lineBits
		for used := uint32(1); used < 1<<usedBits; used++ {
			if fewer := used<<(lineBits+sizeBits) | x<<lineBits; buckets(fewer) > last*parted(fewer)>>16 {
				how = fewer
			}
		}
		n := int(buckets(how))
		words := n * lines * line
		if words > 5*len(items)+lines*line || parted(how) > slots {
			break
		}
		if n*most*2 < len(items) {
			continue // most would not fit
		}
		cost := words
		for i := 0; i < len(items) && cost < least; {
			bucket, count := bucketFor(how, items[i].key), 0
			for i < len(items) && bucketFor(how, items[i].key) == bucket {
				i, count = i+1, count+1
			}
			if count > most+1 || count == most+1 && items[i-count].key != beginOf(how, bucket) {
				cost += count + count/2 + 2 + apart
			}
		}
		if cost < least {
			best, least = how, cost
		}
	}
	return best
}

// build4 makes the words of IPv4: an entry for each /16 leads, unless it is a
// value, to the buckets of that /16.
func build4(starts []start) (words, error) {
	if len(starts) == 0 {
		return nil, nil
	}
	w := make(words, header+slots, header+slots+9*len(starts)/4+spare)
	w[0] = 1
	var items []item
	var carried uint32
	for slot := range uint64(slots) {
		var inside []start
		inside, starts = cut(starts, slot, 48)
		if len(inside) > 0 && inside[0].hi<<16 == 0 {
			carried, inside = inside[0].value, inside[1:]
		}
		w[header+slot] = carried
		if len(inside) == 0 {
			continue
		}
		items = items[:0]
		for _, s := range inside {
			items = append(items, item{uint32(s.hi>>32) & 0xffff, s.value})
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
	w := make(words, header+slots, header+slots+6*len(starts)+spare)
	w[0] = 1
	var carried uint32
	for slot := range uint64(slots) {
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

// cut parts the starts whose bits from shift on are slot from those after them.
func cut(starts []start, slot uint64, shift uint) (inside, after []start) {
	n := 0
	for n < len(starts) && starts[n].hi>>shift == slot {
		n++
	}
	return starts[:n], starts[n:]
}

// table16 makes the table of one /16, of as many slots as differ, and gives the
// entry that leads to it and the value at its end.
func (w *words) table16(starts []start, slot16 uint64, carried uint32) (entry, last uint32, err error) {
	used := int(starts[len(starts)-1].hi>>32&0xffff) + 2 // the last stands for all that follow
	n := min((used+slotStep-1)/slotStep*slotStep, slots)
	at := w.grow(n, line)
	if at/line >= 1<<lineBits {
		return 0, 0, errTooMany
	}
	for i := range n {
		var inside []start
		inside, starts = cut(starts, slot16<<16|uint64(i), 32)
		if len(inside) > 0 && uint32(inside[0].hi) == 0 && inside[0].lo == 0 {
			carried, inside = inside[0].value, inside[1:]
		}
		slot := carried
		if len(inside) > 0 {
			if slot, err = w.table32(inside, carried); err != nil {
				return 0, 0, err
			}
			carried = inside[len(inside)-1].value
		}
		(*w)[at+i] = slot
	}
	return pointer | uint32(n/slotStep-1)<<lineBits | uint32(at/line), carried, nil
}

// table32 makes the buckets of one /32, by the next 16 bits, and gives the entry
// that leads to them.
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
	return w.buckets(items, first, apart6)
}

// deep makes the block of the prefixes longer than /48 in one /48.
func (w *words) deep(starts []start, first uint32) (entry uint32, err error) {
	n := len(starts)
	if entry, err = w.buffer(2 + 4*n); err != nil {
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
