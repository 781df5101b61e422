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
	"net/netip"
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

// lastOf gives the last address of the prefix of n bits that begins at a.
func (a wide) lastOf(n uint8) wide {
	if n >= 64 {
		return wide{a.hi, a.lo | ^uint64(0)>>(n-64)}
	}
	return wide{a.hi | ^uint64(0)>>n, ^uint64(0)}
}
