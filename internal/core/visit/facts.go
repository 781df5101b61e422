package visit

import (
	"encoding/json"

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
	facts *lru.Cache[string, encodedFacts]
}

// NewEncoder makes an encoder that remembers.
func NewEncoder() *Encoder {
	facts, _ := lru.New[string, encodedFacts](factsKept) // which fails for no size above 0
	return &Encoder{facts}
}

type encodedFacts struct {
	text json.RawMessage
	id   uuid.UUID
}

// factsOf gives the JSON of the edition facts in a card, and their id. The JSON must not be
// changed.
func (e *Encoder) factsOf(c *card.Card) (json.RawMessage, uuid.UUID, error) {
	key := ""
	if e != nil {
		key = factsKey(c)
		if known, ok := e.facts.Get(key); ok {
			return known.text, known.id, nil
		}
	}
	money := c.Money
	money.Rate = nil // which is the day's and the site's
	text, err := json.Marshal(EditionFacts{c.Location, c.Network, c.Evidence, money, c.Edition})
	if err != nil {
		return nil, uuid.Nil, err
	}
	w := encodedFacts{text, FactsID(text)}
	if e != nil {
		e.facts.Add(key, w)
	}
	return w.text, w.id, nil
}

// factsKey tells facts apart: what an edition says is fixed by the ranges that
// its sources were asked in, corrections by what they say.
func factsKey(c *card.Card) string {
	w, n := &c.Location, &c.Network
	key := make([]byte, 0, 1024)
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
	return string(key)
}
