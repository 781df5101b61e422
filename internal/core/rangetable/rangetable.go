// Package rangetable finds the value for an IP address among millions of ranges
// of both families; the longest prefix wins.
//
// A [Table] is two flat arrays of 32-bit words, one a family, that are used in
// place, so that they can lie in a file that is mapped into memory. Nested
// prefixes are flattened when it is built. A lookup reads a table of the
// address's top bits, which is small, and then, mostly, one bucket of a cache line
// or two, which the address leads to directly; it does not allocate and is safe for any number of goroutines. IPv4-mapped IPv6 addresses
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
	pointer = 1 << 31   // marks an entry that leads on instead of being a value
	never   = 1<<32 - 1 // stands in no table
	header  = 16        // words before the first array
	line    = 16        // words of a cache line
	slots   = 1 << 16   // entries of each upper level
	spare   = 32        // words after the last bucket, so that it can be read whole
	unit    = 2         // words; what an entry of a bucket leads to begins at a multiple

	lines = 2  // of a bucket
	most  = 20 // keys that fit into it

	slotStep  = slots >> (31 - lineBits) // slots of a table of a /16 come in so many
	lineBits  = 22                       // of an entry that leads to buckets: where they begin, in lines
	sizeBits  = 6                        // into how many the 16 bits are parted
	usedBits  = 3                        // what part of them there is
	placeBits = 27                       // of an entry that leads to a block: where that is, in units
)

// A Table is immutable. The zero Table holds nothing.
type Table struct{ words4, words6 []uint32 }

// Open uses words of IPv4 and IPv6 as [Table.Words] gave them, in place: they
// must not change while the table is in use. An empty slice holds nothing. The
// error wraps [ErrCorrupt].
func Open(v4, v6 []uint32) (*Table, error) {
	for family, w := range map[string][]uint32{"IPv4": v4, "IPv6": v6} {
		if len(w) > 0 && len(w) < header+slots {
			return nil, fmt.Errorf("%w: the upper level of %s is not all there", ErrCorrupt, family)
		}
	}
	return &Table{words4: v4, words6: v6}, nil
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
	w, i := t.words4, uint(header)+uint(ip>>16)
	if i >= uint(len(w)) {
		return 0
	}
	e := w[i]
	if e < pointer {
		return e
	}
	return value(inBucket(w, e, ip&0xffff))
}

// inBucket gives the entry for low in the buckets that e leads to.
func inBucket(w []uint32, e, low uint32) uint32 { return entryAt(w, bucketOf(e, low), low) }

// entryAt gives the entry for low in the bucket at.
func entryAt(w []uint32, at uint, low uint32) uint32 {
	if at+lines*line > uint(len(w)) {
		return 0
	}
	p := unsafe.Pointer(&w[at])
	if *(*uint32)(unsafe.Add(p, 4*(lines*line-1))) == never { // asks for the second line before the first has come
		return 0
	}
	one := *(*uint64)(p)
	n := uint(one & 0xffff)
	if n > most {
		return pickLarge(w, place(w[at+1]), low)
	}
	m, each := &laneMasks[n], uint64(low)*lanes
	sum := reached(each, one)&m[0]>>15 + reached(each, *(*uint64)(unsafe.Add(p, 8)))&m[1]>>15 +
		reached(each, *(*uint64)(unsafe.Add(p, 16)))&m[2]>>15 + reached(each, *(*uint64)(unsafe.Add(p, 24)))&m[3]>>15 +
		reached(each, *(*uint64)(unsafe.Add(p, 32)))&m[4]>>15 + reached(each, *(*uint64)(unsafe.Add(p, 40)))&m[5]>>15
	i := uint(sum * lanes >> 48)
	return *(*uint32)(unsafe.Add(p, (n/2+1+i)&(lines*line-1)*4))
}

func value(e uint32) uint32 {
	if e >= pointer {
		return 0 // only a damaged table leads on here
	}
	return e
}

func (t *Table) find6(a wide) uint32 {
	e := t.slot32(a.hi)
	if e < pointer {
		return e
	}
	w := t.words6
	if e = inBucket(w, e, uint32(a.hi>>16)&0xffff); e < pointer {
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
	if len(w) < header+slots {
		return 0
	}
	e := w[header+uint(hi>>48)]
	if e < pointer {
		return e
	}
	i := uint(e&(1<<lineBits-1))*line + min(uint(hi>>32)&0xffff, slotsOf(e)-1)
	if i >= uint(len(w)) {
		return 0
	}
	return w[i]
}

// slotsOf reads how many slots the table of a /16 has; the last of them stands
// for all that follow.
func slotsOf(e uint32) uint { return (uint(e&^pointer>>lineBits) + 1) * slotStep }

// place reads where an entry of a bucket leads to.
func place(e uint32) uint { return uint(e&(1<<placeBits-1)) * unit }

// parted reads into how many buckets an entry parts the next 16 bits: a number of
// three bits, shifted.
func parted(e uint32) uint32 {
	x := e >> lineBits & (1<<sizeBits - 1)
	return (4 + x&3) << (x >> 2 & 31) >> 2
}

// sixteenths says what part of the buckets there is: the upper ones are left out
// where no key is, and all that would be theirs is in the last.
var sixteenths = [1 << usedBits]uint32{16, 12, 8, 6, 4, 3, 2, 1}

// buckets reads how many buckets an entry leads to; none only in a damaged table.
func buckets(e uint32) uint32 {
	return parted(e) * sixteenths[e>>(lineBits+sizeBits)&(1<<usedBits-1)] >> 4
}

// bucketOf gives where the bucket for low, the next 16 bits of an address, begins.
func bucketOf(e, low uint32) uint {
	return (uint(e&(1<<lineBits-1)) + uint(bucketFor(e, low))*lines) * line
}

func bucketFor(e, low uint32) uint32 { return min(low*parted(e)>>16, buckets(e)-1) }

// beginOf is the first number of 16 bits that falls into a bucket.
func beginOf(e, bucket uint32) uint32 {
	if bucket >= buckets(e) {
		return 1 << 16
	}
	return (bucket<<16 + parted(e) - 1) / parted(e)
}

// Keys of a bucket are compared four at a time, each in a lane of 16 bits.
const (
	lanes = 0x0001_0001_0001_0001
	high  = 0x8000_8000_8000_8000
)

// reached has the highest bit of every lane set where a is at or above b.
func reached(a, b uint64) uint64 {
	return a&^b | ^(a^b)&((a|high)-b&^high)
}

// laneMasks has, by count of keys, the lanes that hold them. The first lane
// holds the count.
var laneMasks = func() (masks [most + 1][6]uint64) {
	for n := range masks {
		for k := 1; k <= n; k++ {
			masks[n][k/4] |= 0x8000 << (k % 4 * 16)
		}
	}
	return masks
}()

// pickLarge gives the entry for low of a block: its count n of keys in 16 bits, n
// ascending keys of 16 bits, to the end of the word, and n+1 entries; entry i
// holds from key i-1 on. A bucket is such a block too, unless it has more keys
// than fit: then its second word leads to a block of its own.
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
			low[i] = ip & 0xffff
			if j := header + uint(ip>>16); j < uint(len(w)) {
				e = w[j]
			}
		} else {
			b := a.As16()
			hi := binary.BigEndian.Uint64(b[:8])
			w, low[i], e = t.words6, uint32(hi>>16)&0xffff, t.slot32(hi)
		}
		values[i] = e
		if e < pointer {
			continue
		}
		if at[i] = bucketOf(e, low[i]); at[i]+line < uint(len(w)) {
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
	first, last = 0, 0xffff
	if e := w[header+ip>>16]; e >= pointer {
		first, last = bounds(w, e, ip&0xffff)
	}
	return ip&^0xffff | first, ip&^0xffff | last
}

// bounds gives the first and last of the numbers of 16 bits that have the same
// entry as low in the buckets that e leads to.
func bounds(w []uint32, e, low uint32) (first, last uint32) {
	bucket := bucketFor(e, low)
	first, last = beginOf(e, bucket), beginOf(e, bucket+1)-1
	at := bucketOf(e, low)
	if at+1 >= uint(len(w)) {
		return first, last
	}
	count := uint(w[at] & 0xffff)
	if count > most {
		if at = place(w[at+1]); at >= uint(len(w)) {
			return first, last
		}
		count = uint(w[at] & 0xffff)
	}
	i := under(w, at, count, low)
	begins, ends := first, last
	if i > 0 {
		begins = key(w, at, i-1)
	}
	if i < count {
		ends = key(w, at, i) - 1
	}
	if begins > low || ends < low || begins < first || ends > last { // only in a damaged table
		return low, low
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
	low := uint32(a.hi>>16) & 0xffff
	begins, ends := bounds(w, e, low)
	stem := a.hi >> 32 << 32
	first, last = wide{stem | uint64(begins)<<16, 0}, wide{stem | uint64(ends)<<16 | 0xffff, ^uint64(0)}
	if e = inBucket(w, e, low); e < pointer {
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
