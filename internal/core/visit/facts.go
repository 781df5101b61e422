package visit

import (
	"encoding/json"
	"hash/maphash"
	"sync"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
)

// factsKept bounds how many facts are remembered in their written form.
const factsKept = 20_000

// An Encoder makes the rows of visits. It remembers facts as JSON, since to encode them takes
// longer than all the rest of a visit, and visits of one range share it. It is safe for
// concurrent use; nil remembers nothing.
type Encoder struct {
	facts *lru.Cache[uint64, encodedFacts] // by the hash of their key
	seed  maphash.Seed
	keys  sync.Pool // of *[]byte, to write them in
}

// NewEncoder makes an encoder that remembers.
func NewEncoder() *Encoder {
	facts, _ := lru.New[uint64, encodedFacts](factsKept) // which fails for no size above 0
	return &Encoder{facts: facts, seed: maphash.MakeSeed(), keys: sync.Pool{New: func() any { return new([]byte) }}}
}

type encodedFacts struct {
	key  string
	text json.RawMessage
	id   uuid.UUID
}

// factsOf gives the JSON of the edition facts in a card, and their id. The JSON must not be
// changed.
func (e *Encoder) factsOf(c *card.Card) (json.RawMessage, uuid.UUID, error) {
	if e == nil {
		w, err := encodeFacts(c)
		return w.text, w.id, err
	}
	key := e.keys.Get().(*[]byte)
	defer e.keys.Put(key)
	*key = appendFactsKey((*key)[:0], c)
	hash := maphash.Bytes(e.seed, *key)
	if known, ok := e.facts.Get(hash); ok && known.key == string(*key) {
		return known.text, known.id, nil
	}
	w, err := encodeFacts(c)
	if err != nil {
		return nil, uuid.Nil, err
	}
	w.key = string(*key)
	e.facts.Add(hash, w)
	return w.text, w.id, nil
}

func encodeFacts(c *card.Card) (encodedFacts, error) {
	money := c.Money
	money.Rate = nil // which is the day's and the site's
	text, err := json.Marshal(EditionFacts{c.Location, c.Network, c.Evidence, money, c.Edition})
	return encodedFacts{text: text, id: FactsID(text)}, err
}

// appendFactsKey appends what tells facts apart: what an edition says is fixed by the ranges that
// its sources were asked in, corrections by what they say.
func appendFactsKey(key []byte, c *card.Card) []byte {
	w, n := &c.Location, &c.Network
	add := func(s string) { key = append(append(key, s...), 0) }
	addTo := func(s *string) {
		if s != nil {
			key = append(key, 1)
			key = append(key, *s...)
		}
		key = append(key, 0)
	}
	add(c.Edition.Name)
	add(string(w.Level))
	addTo(w.Names.Region)
	for i := range atlas.Facts {
		key = atlas.Facts[i].AppendKey(key, w, n)
	}
	for _, e := range c.Evidence {
		add(e.Source)
		key = atlas.AppendRange(key, e.Range.Range)
		addTo(e.Reason)
		key = append(key, byte(len(e.Facts)))
	}
	return key
}
