package rangetable

import (
	"encoding/binary"
	"net/netip"
	"runtime"
)

// pickFull gives the entry for low in the bucket at, whose n keys do not fit with their entries: it
// has as many entries as there is space for, and its last word leads to the others. Where the keys
// do not fit either, that leads to a block of all keys and entries.
func pickFull(w []uint32, at, n uint, low uint32) uint32 {
	keys, n := fullKeys(w, at, n)
	i, rest := under(w, keys, n, low), leads-1-n/2
	switch {
	case keys == at && i >= rest:
		at = place(w[at+leads]) + i - rest
	default:
		at = keys + n/2 + 1 + i
	}
	if at < uint(len(w)) {
		return w[at]
	}
	return 0
}

// fullKeys gives where the n keys of such a bucket are, and how many.
func fullKeys(w []uint32, at, n uint) (keys, count uint) {
	if n != outside {
		return at, n
	}
	if at = place(w[at+leads]); at >= uint(len(w)) {
		return at, 0
	}
	return at, uint(w[at] & 0xffff)
}

// key gives key i of the bucket or block at; i must be less than its count.
func key(w []uint32, at, i uint) uint32 {
	i++
	if at+i/2 >= uint(len(w)) {
		return 0
	}
	return w[at+i/2] >> (i % 2 * 16) & 0xffff
}

// under counts the n keys of the bucket or block at that are at most low.
func under(w []uint32, at, n uint, low uint32) uint {
	base := uint(0)
	for n > 0 {
		half := (n + 1) / 2
		if key(w, at, base+half-1) <= low {
			base += half
		}
		n -= half
	}
	return base
}

// deep finds a among the n prefixes longer than /48 at a place: behind n stand
// keys of three words, which are the last 80 bits of an address, and n+1 values;
// value i holds from key i-1 on. ok is false where that is not all there.
func (t *Table) deep(at uint, a wide) (n, i uint, ok bool) {
	w := t.words6
	if at >= uint(len(w)) {
		return 0, 0, false
	}
	n = uint(w[at])
	if at+1+4*n >= uint(len(w)) {
		return 0, 0, false
	}
	low := wide{a.hi & 0xffff, a.lo}
	for j := n; i < j; {
		h := (i + j) / 2
		if low.less(t.deepKey(at, h)) {
			j = h
		} else {
			i = h + 1
		}
	}
	return n, i, true
}

func (t *Table) deepKey(at, i uint) wide {
	k := t.words6[at+1+3*i:]
	return wide{uint64(k[2]) & 0xffff, uint64(k[1])<<32 | uint64(k[0])}
}

// batch is how many lookups [Table.FindAll] has under way at once.
const batch = 32

// FindAll is [Table.Find] for many addresses: values[i] becomes the value for
// list[i]. It is about twice as fast as one by one where the table does not fit
// into the processor's cache, for it asks memory for many addresses at once. values
// must be as long as list.
func (t *Table) FindAll(list []netip.Addr, values []uint32) {
	for len(list) > 0 {
		n := min(batch, len(list))
		t.findSome(list[:n], values[:n])
		list, values = list[n:], values[n:]
	}
}

func (t *Table) findSome(list []netip.Addr, values []uint32) {
	var (
		at   [batch]uint // the bucket, or 0
		low  [batch]uint32
		seen uint32
	)
	for i, a := range list { // the upper levels, which mostly are in the cache
		w, e := t.words4, uint32(0)
		if a.Is4() {
			b := a.As4()
			ip := binary.BigEndian.Uint32(b[:])
			low[i] = ip & (past - 1)
			if j := header + uint(ip>>within); j < uint(len(w)) {
				e = w[j]
			}
		} else {
			b := a.As16()
			hi := binary.BigEndian.Uint64(b[:8])
			w, low[i], e = t.words6, number6(hi), t.slot32(hi)
		}
		values[i] = e
		if e < pointer {
			continue
		}
		if at[i], low[i] = spot(e, low[i]); at[i]+line < uint(len(w)) {
			seen += w[at[i]] + w[at[i]+line] // nothing waits for it here
		}
	}
	for i, a := range list {
		switch {
		case at[i] == 0:
			if a.Is4In6() || !a.IsValid() {
				values[i] = t.Find(a)
			}
		case a.Is4():
			values[i] = value(entryAt(t.words4, at[i], low[i]))
		default:
			if values[i] = entryAt(t.words6, at[i], low[i]); values[i] >= pointer || a.Is4In6() || !a.IsValid() {
				values[i] = t.Find(a)
			}
		}
	}
	if seen == 1 {
		runtime.KeepAlive(t) // so that the reads are not left out
	}
}
