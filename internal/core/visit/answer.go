package visit

import (
	"encoding/json"
	"strconv"
	"sync"
	"sync/atomic"

	"github.com/google/uuid"
)

// answersKept bounds how many answers are remembered in their written form.
const answersKept = 20_000

// written remembers answers, since writing one takes longer than all the rest of
// a visit, and visits of one range share it.
var written struct {
	answers sync.Map // by answerKey -> writtenAnswer
	count   atomic.Int64
}

type writtenAnswer struct {
	text json.RawMessage
	id   uuid.UUID
}

// answer gives the JSON of the answer in a card, and its id. The JSON must not be
// changed.
func (c Card) answer() (json.RawMessage, uuid.UUID, error) {
	key := c.answerKey()
	if known, ok := written.answers.Load(key); ok {
		w := known.(writtenAnswer)
		return w.text, w.id, nil
	}
	c.Money.Rate = nil // which is the day's and the site's
	text, err := json.Marshal(Answer{c.Location, c.Network, c.Evidence, c.Money, c.Edition})
	if err != nil {
		return nil, uuid.Nil, err
	}
	w := writtenAnswer{text, AnswerID(text)}
	if written.count.Add(1) > answersKept {
		written.answers.Clear()
		written.count.Store(1)
	}
	written.answers.Store(key, w)
	return w.text, w.id, nil
}

// answerKey tells answers apart: what an edition says is fixed by the ranges that
// its sources were asked in, corrections by what they say.
func (c Card) answerKey() string {
	w, n := c.Location, c.Network
	key := make([]byte, 0, 256)
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
	for _, s := range []*string{w.CountryCode, w.RegionCode, w.City, w.PostalCode, w.TimeZone, w.Names.Region, n.Range, n.Operator} {
		addTo(s)
	}
	for _, f := range []*float64{w.Latitude, w.Longitude, w.RadiusKm} {
		if f != nil {
			key = strconv.AppendFloat(key, *f, 'g', -1, 64)
		}
		key = append(key, 0)
	}
	if n.ASNumber != nil {
		key = strconv.AppendUint(key, uint64(*n.ASNumber), 10)
	}
	for _, e := range c.Evidence {
		add(e.Source)
		addTo(e.Range)
		addTo(e.Reason)
		key = append(key, byte(len(e.Facts)))
	}
	for _, fact := range allMissing {
		key = append(append(key, w.Missing[fact]...), 0)
		key = append(append(key, n.Missing[fact]...), 0)
	}
	return string(key)
}

// allMissing are the facts that may be missing, for a reason.
var allMissing = []string{
	"continent_code", "country_code", "region_code", "city", "postal_code", "latitude", "longitude", "radius_km", "time_zone", "range", "as_number", "operator",
}
