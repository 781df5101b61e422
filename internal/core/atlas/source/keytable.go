package source

import "hash/maphash"

// keyTable remembers what became of the keys of rows. It knows a key by 96 bits
// of hash with a secret seed, so that one read of memory tells whether it
// is there; two keys that share them are not to be expected in the lifetime of
// the Earth.
type keyTable struct {
	seeds    [2]maphash.Seed
	slots    []keySlot // a power of two
	used     int
	hits     int // of keys that were remembered
	verdicts []remarks
}

type keyHash struct {
	a uint64
	b uint32
}

// keySlot holds a key and what became of it: a place's number + 1, or with said
// the index of a verdict that says more. 0 is a free slot.
type keySlot struct {
	keyHash
	is uint32
}

const said = 1 << 31

// maxKnown bounds the keys that are remembered, where every row has its own.
const maxKnown = 1 << 21

func newKeyTable() keyTable {
	return keyTable{seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}, slots: make([]keySlot, 1<<12)}
}

func (t *keyTable) hash(key []byte) keyHash {
	return keyHash{maphash.Bytes(t.seeds[0], key), uint32(maphash.Bytes(t.seeds[1], key))}
}

// ask reads where a key would stand, so that memory has it at hand when get asks.
func (t *keyTable) ask(k keyHash) uint32 { return t.slots[k.a&uint64(len(t.slots)-1)].b }

func (t *keyTable) get(k keyHash) (v verdict, ok bool) {
	for i := k.a; ; i++ {
		s := &t.slots[i&uint64(len(t.slots)-1)]
		switch {
		case s.is == 0:
			return verdict{}, false
		case s.keyHash == k && s.is < said:
			t.hits++
			return verdict{place: s.is - 1}, true
		case s.keyHash == k:
			return verdict{more: &t.verdicts[s.is-said]}, true
		}
	}
}

func (t *keyTable) put(k keyHash, v verdict) {
	if t.used >= maxKnown || t.used >= 1<<16 && t.hits < t.used/2 { // rows say something of their own
		return
	}
	if t.used*2 >= len(t.slots) {
		old := t.slots
		t.slots = make([]keySlot, 2*len(old))
		for _, s := range old {
			if s.is != 0 {
				t.insert(s)
			}
		}
	}
	t.used++
	is := v.place + 1
	if v.more != nil {
		is = said + uint32(len(t.verdicts))
		t.verdicts = append(t.verdicts, *v.more)
	}
	t.insert(keySlot{k, is})
}

func (t *keyTable) insert(s keySlot) {
	i := s.a
	for t.slots[i&uint64(len(t.slots)-1)].is != 0 {
		i++
	}
	t.slots[i&uint64(len(t.slots)-1)] = s
}
