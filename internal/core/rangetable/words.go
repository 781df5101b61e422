package rangetable

import (
	"errors"
	"math"
	"slices"
)

// words are those of one family while they grow.
type words []uint32

// grow makes room for n words, from a multiple of step on.
func (w *words) grow(n, step int) (at int) {
	at = (len(*w) + step - 1) / step * step
	if at+n > cap(*w) {
		*w = slices.Grow(*w, max(n+step, cap(*w)/8))
	}
	*w = (*w)[:at+n]
	return at
}

var errTooMany = errors.New("too many ranges for one table")

// reserve makes room for a block of n words, and returns the entry that leads there.
// What fits into a cache line never lies in two.
func (w *words) reserve(n int) (entry uint32, err error) {
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

// An item is the entry from a number on, which is its key.
type item struct{ key, entry uint32 }

// buckets makes the buckets of items that ascend, at least one, and gives the
// entry that leads to them; first is the entry before them.
func (w *words) buckets(items []item, first uint32, apart int) (entry uint32, err error) {
	how := choose(items, apart)
	p := partOf(how)
	n := p.there
	at := w.grow(int(n)*lines*line, line)
	if at/line >= 1<<lineBits {
		return 0, errTooMany
	}
	for b := range n {
		ends := p.begin(b + 1)
		m := 0
		for m < len(items) && items[m].key < ends {
			m++
		}
		inside := items[:m]
		items = items[m:]
		if m > 0 && inside[0].key == p.begin(b) {
			first, inside = inside[0].entry, inside[1:]
		}
		if err := w.bucket(at+int(b)*lines*line, how, inside, first); err != nil {
			return 0, err
		}
		if len(inside) > 0 {
			first = inside[len(inside)-1].entry
		}
	}
	return pointer | how | uint32(at/line), nil
}

// bucket fills in the bucket at, of those that how describes; first is the entry before its items.
func (w *words) bucket(at int, how uint32, items []item, first uint32) error {
	n, keys, to, here := len(items), at, at+entries, len(items)+1 // here are the entries after the keys
	if n <= most {
		for i := n + 1; i < 2*entries; i++ {
			(*w)[at+i/2] |= absent << (i % 2 * 16)
		}
	} else {
		size := n + 1 + n/2 + 1
		if n <= mostKey {
			here = leads - 1 - n/2
			size = n + 1 - here
		}
		lead, err := w.reserve(size)
		if err != nil {
			return err
		}
		if n > mostKey {
			(*w)[at], keys = outside, int(place(lead))
		}
		to, (*w)[at+leads] = keys+n/2+1, lead
	}
	(*w)[keys] |= uint32(n)
	(*w)[to] = first
	for i, it := range items {
		_, low := spot(how, it.key)
		(*w)[keys+(1+i)/2] |= low << ((1 + i) % 2 * 16)
		if i++; i == here {
			to = int(place((*w)[at+leads])) - i
		}
		(*w)[to+i] = it.entry
	}
	return nil
}

// apart is how many words more buckets may cost rather than one whose entries do not all fit, which
// takes some lookups another read. The index of IPv6 is smaller, and can take more of it.
const apart4, apart6 = 80, 200

// choose gives the number of buckets, as entries have it, that costs least: words,
// and reads of what did not fit.
func choose(items []item, apart int) (best uint32) {
	least, last := math.MaxInt, items[len(items)-1].key
	keys := uint32(0)
	for _, it := range items {
		keys |= it.key
	}
	for x := uint32(0); x < 1<<sizeBits; x++ {
		how := x << lineBits
		p := partOf(how)
		if !p.keeps(keys) {
			continue
		}
		for used := uint32(1); used < 1<<usedBits; used++ {
			if fewer := used<<(lineBits+sizeBits) | x<<lineBits; partOf(fewer).there > p.bucketFor(last) {
				how = fewer
			}
		}
		p = partOf(how)
		n := int(p.there)
		words := n * lines * line
		if words > 5*len(items)+lines*line && least < math.MaxInt {
			break
		}
		if n*most*2 < len(items) {
			continue // most would not fit
		}
		cost := words
		for i := 0; i < len(items) && cost < least; {
			bucket, count := p.bucketFor(items[i].key), 0
			for i < len(items) && p.bucketFor(items[i].key) == bucket {
				i, count = i+1, count+1
			}
			if count > most+1 || count == most+1 && items[i-count].key != p.begin(bucket) {
				cost += count + count/2 + 2 - leads + apart
			}
		}
		if cost < least {
			best, least = how, cost
		}
	}
	return best
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
	n := min((used+slotStep-1)/slotStep*slotStep, slots6)
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
	for i := range items {
		items[i].key <<= zeros6
	}
	return w.buckets(items, first, apart6)
}

// deep makes the block of the prefixes longer than /48 in one /48.
func (w *words) deep(starts []start, first uint32) (entry uint32, err error) {
	n := len(starts)
	if entry, err = w.reserve(2 + 4*n); err != nil {
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
