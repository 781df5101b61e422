package rangetable

import (
	"encoding/binary"
	"math/bits"
	"net/netip"

	"eastporch/internal/core/addr"
)

// Cell gives the bounds of the piece of the table that holds a, in canonical
// form: all its addresses have the same value, or none. Walking from cell to
// cell visits every address once.
func (t *Table) Cell(a netip.Addr) addr.Range {
	if a.Is4() {
		b := a.As4()
		first, last := t.cell4(binary.BigEndian.Uint32(b[:]))
		return addr.Range{First: from4(first), Last: from4(last)}
	}
	b := a.As16()
	first, last := t.cell6(wide{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])})
	return addr.Range{First: from6(first), Last: from6(last)}
}

func (t *Table) cell4(ip uint32) (first, last uint32) {
	w := t.words4
	if len(w) == 0 {
		return 0, 1<<32 - 1
	}
	first, last = 0, past-1
	if e := w[header+ip>>within]; e >= pointer {
		first, last = bounds(w, e, ip&(past-1))
	}
	return ip&^(past-1) | first, ip&^(past-1) | last
}

// bounds gives the first and last of the numbers that have the same entry as number in
// the buckets that e leads to.
func bounds(w []uint32, e, number uint32) (first, last uint32) {
	p := partOf(e)
	bucket := p.bucketFor(number)
	first, last = p.begin(bucket), p.begin(bucket+1)-1
	at, far := spot(e, number)
	if at+leads >= uint(len(w)) {
		return first, last
	}
	count := uint(w[at] & 0xffff)
	if count > most {
		at, count = fullKeys(w, at, count)
	}
	i := under(w, at, count, far)
	begins, ends := first, last
	if i > 0 {
		begins = p.key(bucket, key(w, at, i-1))
	}
	if i < count {
		ends = p.key(bucket, key(w, at, i)) - 1
	}
	if begins > number || ends < number || begins < first || ends > last { // only in a damaged table
		return number, number
	}
	return begins, ends
}

func (t *Table) cell6(a wide) (first, last wide) {
	cut := func(n uint) (wide, wide) { // the prefix of n bits around a, n at most 64
		m := ^uint64(0) >> n
		return wide{a.hi &^ m, 0}, wide{a.hi | m, ^uint64(0)}
	}
	w := t.words6
	if len(w) == 0 {
		return wide{}, wide{^uint64(0), ^uint64(0)}
	}
	if w[header+uint(a.hi>>48)] < pointer {
		return cut(16)
	}
	e := t.slot32(a.hi)
	if e < pointer {
		first, last = cut(32)
		if top := w[header+uint(a.hi>>48)]; uint(a.hi>>32)&0xffff >= slotsOf(top)-1 {
			all, end := cut(16)
			return wide{all.hi | uint64(slotsOf(top)-1)<<32, 0}, end
		}
		return first, last
	}
	low := number6(a.hi)
	begins, ends := bounds(w, e, low)
	at, far := spot(e, low)
	stem := a.hi >> 32 << 32
	first, last = wide{stem | uint64(begins+1<<zeros6-1)>>zeros6<<16, 0}, wide{stem | uint64(ends>>zeros6)<<16 | 0xffff, ^uint64(0)}
	if e = entryAt(w, at, far); e < pointer {
		return first, last
	}
	n, i, ok := t.deep(place(e), a)
	if !ok {
		return first, last
	}
	first, last = cut(48)
	stem = first.hi
	if i > 0 {
		k := t.deepKey(place(e), i-1)
		first = wide{stem | k.hi, k.lo}
	}
	if i < n {
		k := t.deepKey(place(e), i)
		last = wide{stem | k.hi, k.lo}.previous()
	}
	if a.less(first) || last.less(a) { // only in a damaged table
		return a, a
	}
	return first, last
}

// wide is an IPv6 address as two numbers.
type wide struct{ hi, lo uint64 }

func (a wide) less(b wide) bool { return a.hi < b.hi || a.hi == b.hi && a.lo < b.lo }

// previous gives the address before a; it wraps at the beginning.
func (a wide) previous() wide {
	lo, borrow := bits.Sub64(a.lo, 1, 0)
	return wide{a.hi - borrow, lo}
}

// next gives the address after a; it wraps at the end.
func (a wide) next() wide {
	lo, carry := bits.Add64(a.lo, 1, 0)
	return wide{a.hi + carry, lo}
}

func from4(ip uint32) netip.Addr {
	return netip.AddrFrom4([4]byte{byte(ip >> 24), byte(ip >> 16), byte(ip >> 8), byte(ip)})
}

func from6(a wide) netip.Addr {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], a.hi)
	binary.BigEndian.PutUint64(b[8:], a.lo)
	return netip.AddrFrom16(b)
}
