package compile

import (
	"bytes"
	"hash/maphash"

	"eastporch/internal/core/atlas"
)

// Places are places as an edition holds them, one behind another, with a hash of each.
type Places struct {
	text   []byte
	ends   []uint32
	hashes []uint32
}

var placeSeed = maphash.MakeSeed()

// Add adds a place.
func (t *Places) Add(p *atlas.Place) {
	from := len(t.text)
	t.text = p.Append(t.text)
	t.ends = append(t.ends, uint32(len(t.text)))
	t.hashes = append(t.hashes, uint32(maphash.Bytes(placeSeed, t.text[from:])))
}

// Grow makes room for as many as others are, and some.
func (t *Places) Grow(others *Places) {
	t.text = make([]byte, 0, len(others.text)*9/8)
	t.ends, t.hashes = make([]uint32, 0, len(others.ends)*9/8), make([]uint32, 0, len(others.ends)*9/8)
}

// At gives place i, and its hash.
func (t *Places) At(i uint32) (text []byte, hash uint32) {
	from := uint32(0)
	if i > 0 {
		from = t.ends[i-1]
	}
	return t.text[from:t.ends[i]], t.hashes[i]
}

// Count is how many there are.
func (t *Places) Count() int { return len(t.ends) }

// Append adds others.
func (t *Places) Append(other *Places) {
	from := uint32(len(t.text))
	t.text, t.hashes = append(t.text, other.text...), append(t.hashes, other.hashes...)
	for _, end := range other.ends {
		t.ends = append(t.ends, from+end)
	}
}

// A PlaceTable finds a place among those of a source, which lie in its blob.
type PlaceTable struct {
	slots []placeSlot // a power of two of them
	used  int
}

// placeSlot holds a place's hash and its number + 1; 0 is a free slot.
type placeSlot struct{ hash, is uint32 }

// NewPlaceTable makes an empty one.
func NewPlaceTable() PlaceTable { return PlaceTable{slots: make([]placeSlot, 1<<10)} }

// Find gives the number of a place, or with isNew the one that it gets now.
func (t *PlaceTable) Find(b []byte, hash uint32, blob []byte, offsets []uint32) (id uint32, isNew bool) {
	if t.used*2 >= len(t.slots) {
		old := t.slots
		t.slots = make([]placeSlot, 2*len(old))
		for _, s := range old {
			if s.is != 0 {
				i := s.hash
				for t.slots[i&uint32(len(t.slots)-1)].is != 0 {
					i++
				}
				t.slots[i&uint32(len(t.slots)-1)] = s
			}
		}
	}
	for i := hash; ; i++ {
		s := &t.slots[i&uint32(len(t.slots)-1)]
		if s.is == 0 {
			t.used++
			*s = placeSlot{hash, uint32(t.used)}
			return uint32(t.used - 1), true
		}
		if s.hash == hash && bytes.Equal(blob[offsets[s.is-1]:offsets[s.is]], b) {
			return s.is - 1, false
		}
	}
}
