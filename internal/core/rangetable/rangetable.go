// Package rangetable finds the value for an IP address among millions of ranges
// of both families; the longest prefix wins.
//
// A [Table] is two flat arrays of 32-bit words, one a family, that are used in
// place, so that they can lie in a file that is mapped into memory. Nested
// prefixes are flattened when it is built. A lookup reads a table of the
// address's top bits, which is small, and then, mostly, one bucket of two cache lines,
// which the address leads to directly; it does not allocate and is safe for any number
// of goroutines. IPv4-mapped IPv6 addresses are looked up as IPv4, and zones are ignored.
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
	slots6  = 1 << 16   // entries of the upper level of IPv6
	slots4  = 1 << (32 - within)
	spare   = 32 // words after the last bucket, so that it can be read whole
	unit    = 2  // words; what an entry of a bucket leads to begins at a multiple

	lines   = 2              // of a bucket
	most    = 20             // keys that fit into it with their entries
	entries = most/2 + 1     // the word of a bucket where they begin
	leads   = lines*line - 1 // the word of a bucket that leads on where they do not fit
	mostKey = 2*leads - 3    // keys that fit into a bucket with the first entry
	outside = 1<<15 - 1      // stands for the count where the keys do not fit either

	within = 18          // bits of a number that buckets part: the last of IPv4; of IPv6 16 and zeros
	zeros6 = within - 16 // how many zeros
	past   = 1 << within // the first number that is none
	beyond = within - 15 // bits of how far a number is into its bucket that a key does not keep
	steps  = 1 << beyond

	slotStep  = slots6 >> (31 - lineBits) // slots of a table of a /16 come in so many
	lineBits  = 22                        // of an entry that leads to buckets: where they begin, in lines
	sizeBits  = 6                         // into how many buckets numbers are parted
	usedBits  = 3                         // what part of those there is
	placeBits = 27                        // of an entry that leads to a block: where that is, in units
)

// A Table is immutable. The zero Table holds nothing.
type Table struct{ words4, words6 []uint32 }

// Open uses words of IPv4 and IPv6 as [Table.Words] gave them, in place: they
// must not change while the table is in use. An empty slice holds nothing. The
// error wraps [ErrCorrupt].
func Open(v4, v6 []uint32) (*Table, error) {
	for _, family := range []struct {
		name  string
		words []uint32
		slots int
	}{{"IPv4", v4, slots4}, {"IPv6", v6, slots6}} {
		if n := len(family.words); n > 0 && n < header+family.slots {
			return nil, fmt.Errorf("%w: the upper level of %s is not all there", ErrCorrupt, family.name)
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
	w, i := t.words4, uint(header)+uint(ip>>within)
	if i >= uint(len(w)) {
		return 0
	}
	e := w[i]
	if e < pointer {
		return e
	}
	at, low := spot(e, ip&(past-1))
	return value(entryAt(w, at, low))
}

// entryAt gives the entry for low in the bucket at, as [spot] gives both. Keys are compared four
// at a time, each in a lane of 16 bits whose highest bit is free: it is lost where low is less.
func entryAt(w []uint32, at uint, low uint32) uint32 {
	if at+lines*line > uint(len(w)) {
		return 0
	}
	p := unsafe.Pointer(&w[at])
	if *(*uint32)(unsafe.Add(p, 4*leads)) == never { // asks for the second line before the first has come
		return 0
	}
	one, each := *(*uint64)(p), uint64(low)*ones|high
	if n := uint(one & 0xffff); n > most {
		return pickFull(w, at, n, low)
	}
	sum := (each-one)>>15&(ones-1) + (each-*(*uint64)(unsafe.Add(p, 8)))>>15&ones +
		(each-*(*uint64)(unsafe.Add(p, 16)))>>15&ones + (each-*(*uint64)(unsafe.Add(p, 24)))>>15&ones +
		(each-*(*uint64)(unsafe.Add(p, 32)))>>15&ones + (each-*(*uint64)(unsafe.Add(p, 40)))>>15&1
	return *(*uint32)(unsafe.Add(p, 4*entries+sum*ones>>48*4))
}

const (
	ones   = 0x0001_0001_0001_0001
	high   = 0x8000_8000_8000_8000
	absent = 0x8000 // a key that is never reached
)

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
	at, low := spot(e, number6(a.hi))
	if e = entryAt(w, at, low); e < pointer {
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

// A part says how an entry parts numbers into buckets.
type part struct {
	last  uint64 // the end of the last bucket there is, in buckets, less the smallest part of one
	into  uint32 // how many buckets
	there uint32 // how many of them there are; none only in a damaged table
}

// parts are all of them, by the bits of an entry. The upper buckets are left out where no key is,
// and all that would be theirs is in the last that is there.
var parts = func() (all [1 << (sizeBits + usedBits)]part) {
	for i := range all {
		p := &all[i]
		p.into = (4 + uint32(i)&3) << (i >> 2 & (1<<(sizeBits-2) - 1)) >> 2
		p.there = p.into * []uint32{16, 12, 8, 6, 4, 3, 2, 1}[i>>sizeBits] / 16
		p.last = uint64(max(p.there, 1))<<within - 1
	}
	return all
}()

func partOf(e uint32) *part { return &parts[e>>lineBits&(1<<(sizeBits+usedBits)-1)] }

// number6 is the number of bits 33 to 48 of an IPv6 address.
func number6(hi uint64) uint32 { return uint32(hi>>16) & 0xffff << zeros6 }

// spot gives where the bucket for a number begins, and how far into it the number is, in 2^15ths. A
// key is further than all numbers before it: parts that do not give that are not chosen.
func spot(e, number uint32) (at uint, low uint32) {
	p := partOf(e)
	far := min(uint64(number)*uint64(p.into), p.last)
	return (uint(e&(1<<lineBits-1)) + uint(far>>within)*lines) * line, uint32(far) & (past - 1) >> beyond
}

// bucketFor gives the bucket that is for a number.
func (p *part) bucketFor(number uint32) uint32 {
	return uint32(min(uint64(number)*uint64(p.into), p.last) >> within)
}

// keeps says whether keys, whose bits are ored together, are further than all numbers before them.
func (p *part) keeps(keys uint32) bool { return p.into >= steps || keys*p.into%steps == 0 }

// key is the key that is as far into a bucket as low.
func (p *part) key(bucket, low uint32) uint32 {
	into := uint64(p.into)
	return uint32((uint64(bucket)<<within + uint64(low)<<beyond + into - 1) / into)
}

// begin is the first number that falls into a bucket.
func (p *part) begin(bucket uint32) uint32 {
	if bucket >= p.there {
		return past
	}
	return p.key(bucket, 0)
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

// lastOf gives the last address of the prefix of n bits that begins at a.
func (a wide) lastOf(n uint8) wide {
	if n >= 64 {
		return wide{a.hi, a.lo | ^uint64(0)>>(n-64)}
	}
	return wide{a.hi | ^uint64(0)>>n, ^uint64(0)}
}
