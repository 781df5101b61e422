// Package rangetable finds the value for an IP address among millions of ranges
// of both families; the longest prefix wins.
//
// A [Table] is two flat arrays of 32-bit words, one a family, that are used in
// place, so that they can lie in a file that is mapped into memory. Nested
// prefixes are flattened when it is built. A lookup reads a table of the
// address's top bits and then, mostly, one block of a cache line; it does not
// allocate and is safe for any number of goroutines. IPv4-mapped IPv6 addresses
// are looked up as IPv4, and zones are ignored.
//
// The words are described in docs/formats/edition.md. [Open] checks their
// sections; whatever they hold, a lookup stays within them.
package rangetable

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"net/netip"
	"runtime"
	"unsafe"

	"eastporch/internal/core/addr"
)

// ErrCorrupt is wrapped by [Open] where the words cannot be a table.
var ErrCorrupt = errors.New("the range table is damaged")

// MaxValue is the largest value that an address can have.
const MaxValue = pointer - 1

const (
	pointer = 1 << 31 // marks an entry that leads on instead of being a value
	header  = 16      // words before the first array
	line    = 16      // words of a cache line
	unit    = 2       // words; what entries lead to begins at a multiple
	spare   = 32      // words after the last block, so that its first lines can be read whole

	// In place of the bits that an array covers: 0 is a block within a line,
	wider = 14 // one of more than a line,
	large = 15 // and one of more keys than are compared at once

	atBits = 27      // of an entry that leads on, say where to, in units
	slots6 = 1 << 16 // entries of each of the two upper levels of IPv6

	minBits = 17 // of the upper level of IPv4, so that keys have 15 bits at most
	maxBits = 20
)

// A Table is immutable. The zero Table holds nothing.
type Table struct {
	words4, words6 []uint32
	shift4         uint // 32 - bits of the upper level
	tables6        uint // how many tables of a /16 there are
}

// Open uses words of IPv4 and IPv6 as [Table.Words] gave them, in place: they
// must not change while the table is in use. An empty slice holds nothing. The
// error wraps [ErrCorrupt].
func Open(v4, v6 []uint32) (*Table, error) {
	t := &Table{words4: v4, words6: v6}
	if len(v4) > 0 {
		if len(v4) < header || v4[0] < minBits || v4[0] > maxBits || len(v4) < header+1<<v4[0] {
			return nil, fmt.Errorf("%w: the upper level of IPv4 is not all there", ErrCorrupt)
		}
		t.shift4 = uint(32 - v4[0])
	}
	if len(v6) > 0 {
		if len(v6) < header+slots6 || uint64(v6[0])*slots6 > uint64(len(v6)-header-slots6) {
			return nil, fmt.Errorf("%w: the upper levels of IPv6 are not all there", ErrCorrupt)
		}
		t.tables6 = uint(v6[0])
	}
	return t, nil
}

// Words gives the arrays of both families, for [Open]. The caller must not
// change them.
func (t *Table) Words() (v4, v6 []uint32) { return t.words4, t.words6 }

// Find gives the value for a, or 0 where no range holds it.
func (t *Table) Find(a netip.Addr) uint32 {
	if a.Is4() {
		b := a.As4()
		return t.find4(binary.BigEndian.Uint32(b[:]))
	}
	if !a.IsValid() {
		return 0
	}
	b := a.As16()
	hi, lo := binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])
	if hi == 0 && lo>>32 == 0xffff {
		return t.find4(uint32(lo))
	}
	return t.find6(wide{hi, lo})
}

func (t *Table) find4(ip uint32) uint32 {
	w, width := t.words4, t.shift4&31
	i := uint(header) + uint(ip>>width)
	if i >= uint(len(w)) {
		return 0
	}
	e := w[i]
	if e < pointer {
		return e
	}
	return value(step(w, e, ip&(1<<width-1), width))
}

// batch is how many lookups [Table.FindAll] has under way at once.
const batch = 32

// FindAll is [Table.Find] for many addresses: values[i] becomes the value for
// list[i]. It is several times as fast as one by one where the table does not
// fit into the processor's cache, for it asks memory for many addresses at
// once. values must be as long as list.
func (t *Table) FindAll(list []netip.Addr, values []uint32) {
	for len(list) > 0 {
		n := min(batch, len(list))
		t.ask(list[:n])
		for i, a := range list[:n] {
			values[i] = t.Find(a)
		}
		list, values = list[n:], values[n:]
	}
}

// ask reads what the lookups of the addresses will read, level by level, so
// that it is in the cache afterwards.
func (t *Table) ask(list []netip.Addr) {
	var (
		entries [batch]uint32
		lows    [batch]uint32
		seen    uint32
	)
	for i, a := range list {
		if a.Is4() {
			b := a.As4()
			ip := binary.BigEndian.Uint32(b[:])
			if at := uint(header) + uint(ip>>(t.shift4&31)); at < uint(len(t.words4)) {
				entries[i] = t.words4[at]
			}
			continue
		}
		b := a.As16()
		lows[i] = binary.BigEndian.Uint32(b[4:])>>16 | 1<<31
		entries[i] = t.slot32(binary.BigEndian.Uint64(b[:8]))
	}
	for i := range list {
		e := entries[i]
		if e < pointer {
			continue
		}
		w, at := t.words4, place(e)
		if lows[i] != 0 { // IPv6: the array of the /32
			w = t.words6
			if at += uint(lows[i] & 0xffff >> ((16 - covers(e)) & 31)); at < uint(len(w)) {
				entries[i] = w[at]
			}
			continue
		}
		seen += touch(w, e)
	}
	for i := range list {
		if e := entries[i]; e >= pointer && lows[i] != 0 {
			seen += touch(t.words6, e)
		}
	}
	if seen == 1 {
		runtime.KeepAlive(t) // so that the reads are not left out
	}
}

func value(e uint32) uint32 {
	if e >= pointer {
		return 0 // only a damaged table leads on here
	}
	return e
}

func (t *Table) find6(a wide) uint32 {
	w := t.words6
	e := t.slot32(a.hi)
	if e < pointer {
		return e
	}
	low, width := uint32(a.hi>>16)&0xffff, 16-covers(e)
	if e = step(w, e, low, 16); e < pointer {
		return e
	}
	if e = step(w, e, low&(1<<width-1), width); e < pointer {
		return e
	}
	n, i, ok := t.deep(place(e), a)
	if !ok {
		return 0
	}
	return value(w[place(e)+1+3*n+i])
}

// slot32 gives the entry of a /32.
func (t *Table) slot32(hi uint64) uint32 {
	w := t.words6
	if len(w) < header+slots6 {
		return 0
	}
	e := w[header+uint(hi>>48)]
	if e < pointer {
		return e
	}
	table := uint(e &^ pointer)
	i := header + slots6 + table<<16 + uint(hi>>32)&0xffff
	if table >= t.tables6 || i >= uint(len(w)) {
		return 0
	}
	return w[i]
}

// place and covers read an entry that leads on: to where, and how many bits
// the array there covers: 0, wider or large for a block.
func place(e uint32) uint  { return uint(e&(1<<atBits-1)) * unit }
func covers(e uint32) uint { return uint(e>>atBits) & 15 }

// step follows e for low, a number of width bits: to an entry of an array by
// its upper bits, or of a block by its keys.
func step(w []uint32, e, low uint32, width uint) uint32 {
	at, k := place(e), covers(e)
	if k == large {
		return pickLarge(w, at, low)
	}
	if k == 0 || k == wider {
		return pick(w, at, low)
	}
	if at += uint(low >> ((width - k) & 31)); at < uint(len(w)) {
		return w[at]
	}
	return 0
}

// Keys of a block are compared four at a time: each is a lane of 16 bits whose
// highest bit is free.
const (
	lanes = 0x0001_0001_0001_0001
	high  = 0x8000_8000_8000_8000
	steps = 4           // of four lanes
	most  = 4*steps - 1 // keys that are compared so
)

// laneMasks has, by count of keys, the lanes that hold them. The first lane
// holds the count.
var laneMasks = func() (masks [most + 1][steps]uint64) {
	for n := range masks {
		for k := 1; k <= n; k++ {
			masks[n][k/4] |= 0x8000 << (k % 4 * 16)
		}
	}
	return masks
}()

// pick gives the entry for low of the block at. A block is its count n of keys
// in 16 bits, n ascending keys of 16 bits, to the end of the word, and n+1
// entries: entry i holds from key i-1 on.
func pick(w []uint32, at uint, low uint32) uint32 {
	if at+spare > uint(len(w)) {
		return 0
	}
	p := unsafe.Pointer(&w[at])
	one, two, three, four := *(*uint64)(p), *(*uint64)(unsafe.Add(p, 8)), *(*uint64)(unsafe.Add(p, 16)), *(*uint64)(unsafe.Add(p, 24))
	n := uint(one & most)
	m, each := &laneMasks[n], uint64(low)*lanes|high
	sum := (each-one)&m[0]>>15 + (each-two)&m[1]>>15 + (each-three)&m[2]>>15 + (each-four)&m[3]>>15
	i := uint(sum * lanes >> 48)
	return *(*uint32)(unsafe.Add(p, (n/2+1+i)&(spare-1)*4))
}

// pickLarge gives the entry for low of the block at that has more keys than step
// compares.
func pickLarge(w []uint32, at uint, low uint32) uint32 {
	if at >= uint(len(w)) {
		return 0
	}
	n := uint(w[at] & 0xffff)
	if at += n/2 + 1 + under(w, at, n, low); at < uint(len(w)) {
		return w[at]
	}
	return 0
}

// key gives key i of the block at; i must be less than its count.
func key(w []uint32, at, i uint) uint32 {
	i++
	if at+i/2 >= uint(len(w)) {
		return 0
	}
	return w[at+i/2] >> (i % 2 * 16) & 0xffff
}

// under counts the n keys of the block at that are at most low.
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

// touch reads the first line of what e leads to, and the second of a large block.
func touch(w []uint32, e uint32) uint32 {
	at := place(e)
	if at+line >= uint(len(w)) {
		return 0
	}
	if covers(e) >= wider {
		return w[at] + w[at+line]
	}
	return w[at]
}

// Lookup gives the value for a and the bounds of the stretch around it that
// shares it without a break; ok is false where no range holds a. It costs more
// than [Table.Find] where the stretch is wide.
func (t *Table) Lookup(a netip.Addr) (value uint32, bounds addr.Range, ok bool) {
	a = addr.Canonical(a)
	value = t.Find(a)
	if value == 0 {
		return 0, addr.Range{}, false
	}
	bounds = t.Cell(a)
	for p := bounds.First.Prev(); p.IsValid() && sameFamily(p, a) && t.Find(p) == value; p = bounds.First.Prev() {
		bounds.First = t.Cell(p).First
	}
	for n := bounds.Last.Next(); n.IsValid() && sameFamily(n, a) && t.Find(n) == value; n = bounds.Last.Next() {
		bounds.Last = t.Cell(n).Last
	}
	return value, bounds, true
}

func sameFamily(a, b netip.Addr) bool { return a.Is4() == b.Is4() }

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
	mask := uint32(1)<<t.shift4 - 1
	first, last = 0, mask
	if e := w[header+uint(ip>>t.shift4)]; e >= pointer {
		first, last = bounds(w, e, ip&mask, t.shift4)
	}
	return ip&^mask | first, ip&^mask | last
}

// bounds gives the first and last of the numbers of width bits that [step]
// takes to the same entry as low.
func bounds(w []uint32, e, low uint32, width uint) (first, last uint32) {
	most := uint32(1)<<width - 1
	if k := covers(e); k > 0 && k < wider {
		if k > width {
			return low, low // only in a damaged table
		}
		mask := uint32(1)<<(width-k) - 1
		return low &^ mask, low | mask
	}
	at := place(e)
	if at >= uint(len(w)) {
		return 0, most
	}
	n := uint(w[at] & 0xffff)
	i := under(w, at, n, low)
	last = most
	if i > 0 {
		first = key(w, at, i-1)
	}
	if i < n {
		last = key(w, at, i) - 1
	}
	if first > low || last < low || last > most { // only in a damaged table
		return low, low
	}
	return first, last
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
		return cut(32)
	}
	stem, low, width := a.hi>>32<<32, uint32(a.hi>>16)&0xffff, uint(16)
	for range 2 {
		begins, ends := bounds(w, e, low, width)
		first, last = wide{stem | uint64(begins)<<16, 0}, wide{stem | uint64(ends)<<16 | 0xffff, ^uint64(0)}
		k := covers(e)
		if e = step(w, e, low, width); e < pointer {
			return first, last
		}
		width -= min(k, width)
		low &= 1<<width - 1
		stem = a.hi >> (16 + width) << (16 + width)
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

// lastOf gives the last address of the prefix of n bits that begins at a.
func (a wide) lastOf(n uint8) wide {
	if n >= 64 {
		return wide{a.hi, a.lo | ^uint64(0)>>(n-64)}
	}
	return wide{a.hi | ^uint64(0)>>n, ^uint64(0)}
}

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
