package visit

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"sync"

	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/variant"
)

// EditionFacts are the part of a card that all addresses of a range share: what one
// edition says of it.
type EditionFacts struct {
	Location atlas.Location   `json:"location"`
	Network  atlas.Network    `json:"network"`
	Evidence []atlas.Evidence `json:"evidence"`
	Money    locale.Money     `json:"money"`
	Edition  card.EditionRef  `json:"edition"`
}

// A Row is a visit as it is queued and stored. The edition facts stand apart, since
// many visits share them; FactsID is made of its content. Card and Trail are
// JSON that nothing on the way needs to read.
type Row struct {
	ID          uuid.UUID       `json:"id" cbor:"1,keyasint,omitempty"`
	Site        string          `json:"site" cbor:"2,keyasint,omitempty"`
	Path        string          `json:"path" cbor:"3,keyasint,omitempty"`
	Referrer    *string         `json:"referrer,omitempty" cbor:"4,keyasint,omitempty"`
	UserAgent   *string         `json:"user_agent,omitempty" cbor:"5,keyasint,omitempty"`
	Link        *string         `json:"link,omitempty" cbor:"6,keyasint,omitempty"`
	Attributes  json.RawMessage `json:"attributes,omitempty" cbor:"7,keyasint,omitempty"`
	Marks       []string        `json:"marks,omitempty" cbor:"8,keyasint,omitempty"`
	Address     addr.Optional   `json:"address" cbor:"9,keyasint,omitempty"`
	Placeholder *string         `json:"placeholder,omitempty" cbor:"10,keyasint,omitempty"`
	Kind        *addr.Kind      `json:"kind,omitempty" cbor:"11,keyasint,omitempty"`
	Skipped     bool            `json:"skipped,omitempty" cbor:"12,keyasint,omitempty"`
	Labels      []string        `json:"labels,omitempty" cbor:"13,keyasint,omitempty"`
	Language    string          `json:"language" cbor:"14,keyasint,omitempty"`
	WeekHour    *int16          `json:"week_hour,omitempty" cbor:"15,keyasint,omitempty"` // hours since Monday began where the visitor is
	Unverified  int             `json:"unverified,omitempty" cbor:"16,keyasint,omitempty"`
	// VisitorHash tells visitors of one site and day apart, and nothing more; 0 where
	// they are not counted.
	VisitorHash int64           `json:"visitor_hash,omitempty" cbor:"17,keyasint,omitempty"`
	Card        json.RawMessage `json:"card,omitempty" cbor:"18,keyasint,omitempty"`
	Trail       json.RawMessage `json:"trail,omitempty" cbor:"19,keyasint,omitempty"`
	FactsID     uuid.UUID       `json:"facts" cbor:"20,keyasint,omitempty"`
	Destination *string         `json:"destination,omitempty" cbor:"22,keyasint,omitempty"`
	Gate        string          `json:"gate,omitempty" cbor:"21,keyasint,omitempty"` // one of the words below; "" where no gate stands
}

// What a gate said of a visit: those that it refuses are no visits.
const (
	GateAdmitted    = "admit"
	GateWouldRefuse = "would refuse" // a gate that only watches
)

// Row splits a visit into its row and the JSON of the facts that it shares.
func (v Visit) Row() (Row, json.RawMessage, error) { return (*Encoder)(nil).Row(&v) }

// Row is [Visit.Row]; the JSON must not be changed.
func (e *Encoder) Row(v *Visit) (Row, json.RawMessage, error) {
	c := &v.Card
	r := Row{
		ID: v.ID, Site: v.Site, Path: v.Path, Referrer: v.Referrer, UserAgent: v.UserAgent, Link: v.Link, Destination: v.Destination, Attributes: v.Attributes, Marks: v.Marks,
		Address: c.Address.Text, Placeholder: c.Address.Placeholder, Kind: c.Address.Kind, Skipped: c.Address.Skipped, Labels: c.Labels,
		Language: c.Locale.Language, WeekHour: weekHour(c.Clock), Unverified: v.Trail.Unverified(), VisitorHash: v.VisitorHash, Gate: gateWord(c.Gate),
	}
	facts, id, err := e.factsOf(c)
	if err != nil {
		return r, nil, fmt.Errorf("facts: %w", err)
	}
	r.FactsID = id
	at := texts.Get().(*[]byte)
	*at = appendPersonal((*at)[:0], c)
	own := len(*at)
	*at = v.Trail.AppendJSON(*at)
	both := bytes.Clone(*at) // no longer than they are
	texts.Put(at)
	r.Card, r.Trail = both[:own:own], both[own:]
	return r, facts, nil
}

// texts are where rows' JSON is written, whose length is not known before.
var texts = sync.Pool{New: func() any { return new([]byte) }}

// gateWord is what visits are counted by.
func gateWord(d *gate.Decision) string {
	switch {
	case d == nil || d.By == gate.ByNothing:
		return ""
	case d.Would == gate.Refuse:
		return GateWouldRefuse
	}
	return GateAdmitted
}

// FactsID names facts by their content.
func FactsID(facts json.RawMessage) uuid.UUID {
	sum := sha256.Sum256(facts)
	id, _ := uuid.FromBytes(sum[:16]) // which are 16
	return id
}

// Visit puts a row and its facts together again. What stands in Earlier is for
// the caller to fill.
func (r Row) Visit(facts json.RawMessage) (Visit, error) {
	at, _ := TimeOf(r.ID)
	v := Visit{
		ID: r.ID, Time: at, Site: r.Site, Path: r.Path, Referrer: r.Referrer, UserAgent: r.UserAgent, Link: r.Link, Destination: r.Destination,
		Attributes: r.Attributes, Marks: append([]string{}, r.Marks...), VisitorHash: r.VisitorHash, Earlier: []EarlierFacts{},
	}
	var own personal
	var shared EditionFacts
	if err := json.Unmarshal(r.Card, &own); err != nil {
		return v, fmt.Errorf("card: %w", err)
	}
	if err := json.Unmarshal(facts, &shared); err != nil {
		return v, fmt.Errorf("facts: %w", err)
	}
	if err := json.Unmarshal(r.Trail, &v.Trail); err != nil {
		return v, fmt.Errorf("trail: %w", err)
	}
	v.Card = card.Card{
		Address: own.Address, Labels: own.Labels, Locale: own.Locale.whole(shared.Location.CountryCode), Clock: own.Clock, Variants: own.Variants, Gate: own.Gate,
		Location: shared.Location, Network: shared.Network, Evidence: shared.Evidence, Money: shared.Money, Edition: shared.Edition,
	}
	if v.Card.Variants == nil { // stored before there were any
		v.Card.Variants = variant.Choices{}
	}
	if v.Card.Money.Also == nil {
		v.Card.Money.Also = []string{}
	}
	return v, nil
}

// Same says whether two rows with one id tell of one visit, so that the second is
// merely the first again. What was made of it may differ. Of attributes the order of
// members does not count.
func (r Row) Same(other Row) bool {
	return r.Site == other.Site && r.Path == other.Path && r.Address == other.Address &&
		same(r.Referrer, other.Referrer) && same(r.UserAgent, other.UserAgent) && same(r.Link, other.Link) &&
		string(sorted(r.Attributes)) == string(sorted(other.Attributes))
}

func same(a, b *string) bool { return (a == nil) == (b == nil) && plain.Value(a) == plain.Value(b) }

// sorted gives JSON with the members of its objects in order, or what is none as it is.
func sorted(text json.RawMessage) []byte {
	reader := json.NewDecoder(bytes.NewReader(text))
	reader.UseNumber()
	var value any
	if err := reader.Decode(&value); err != nil {
		return text
	}
	written, err := json.Marshal(value)
	if err != nil {
		return text
	}
	return written
}

// Counted says whether statistics count the visit.
func (r Row) Counted() bool {
	for _, m := range r.Marks {
		if m != MarkPrivate {
			return false
		}
	}
	return true
}

// The marks of visits.
const (
	MarkBot     = "bot"     // a program that says so, or comes from where programs are
	MarkMonitor = "monitor" // the owner's own
	MarkTest    = "test"    // sent to try something out
	MarkPreview = "preview" // of a click: a program that shows what a link leads to, or a browser that fetches ahead
	MarkRepeat  = "repeat"  // of a click: the same visitor followed the link a moment before
	MarkPrivate = "private" // it asked not to be tracked (Sec-GPC); it is counted
)

// MarkWords are the marks.
var MarkWords = []string{MarkBot, MarkMonitor, MarkPreview, MarkRepeat, MarkTest, MarkPrivate}

// weekHour gives the hours since Monday began, 0 to 167, at a clock's place.
func weekHour(c locale.Clock) *int16 {
	if c.LocalTime.IsZero() {
		return nil
	}
	h := int16((int(c.LocalTime.Weekday())+6)%7*24 + c.LocalTime.Hour())
	return &h
}

// ReferrerHost gives the host that a visit was referred by; "" where there is
// none, or where it is the site's own.
func ReferrerHost(referrer *string, site string) string {
	if referrer == nil {
		return ""
	}
	u, err := url.Parse(*referrer)
	if err != nil || strings.EqualFold(u.Hostname(), site) {
		return ""
	}
	return strings.ToLower(u.Hostname())
}

// NetworkKey is the one text that stands for a network in counts, "" for none.
func NetworkKey(n atlas.Network) string {
	if n.ASNumber == nil && n.Operator == nil {
		return ""
	}
	number := ""
	if n.ASNumber != nil {
		number = strconv.FormatUint(uint64(*n.ASNumber), 10)
	}
	return number + " " + plain.Value(n.Operator)
}
