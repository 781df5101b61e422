package visit

import (
	"encoding/binary"
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
)

// A Visit is a card that was stored.
type Visit struct {
	ID       uuid.UUID    `json:"id"`   // version 7; its time is the visit's
	Time     time.Time    `json:"time"` // UTC, of millisecond precision
	Site     string       `json:"site"`
	Path     string       `json:"path"`
	Referrer *string      `json:"referrer"`
	Agent    *string      `json:"agent"`
	Card     Card         `json:"card"`
	Trail    caller.Trail `json:"trail"`
	// Earlier is how the visit read in older editions, the oldest first.
	Earlier []Reading `json:"earlier"`
}

// A Reading is what one edition said of a visit.
type Reading struct {
	Edition     string            `json:"edition"`
	Whereabouts atlas.Whereabouts `json:"whereabouts"`
	Network     atlas.Network     `json:"network"`
}

// Reread makes the card of a stored visit anew from the edition in use. ok is
// false where it was made from that already, where it has no address to look up,
// or where the address was truncated: its neighbours may be elsewhere.
func (p *Pipeline) Reread(v Visit) (card Card, ok bool) {
	a := v.Card.Address.Text.Addr
	if !a.IsValid() || v.Card.Address.SetAside || addr.Truncate(a) == a || v.Card.Edition.Name == p.Atlas.Current().Name() {
		return v.Card, false
	}
	card = p.Card(a, v.Card.Address.Obtained, "", v.Time)
	card.Locale, card.Address, card.Labels = v.Card.Locale, v.Card.Address, v.Card.Labels
	return card, true
}

// Keep gives the visit as mode lets it be stored: nothing of the address
// beyond the mode is left anywhere in it. Where the policy names a word to
// store instead of the address, the address goes in every mode.
func (v Visit) Keep(mode Mode) Visit {
	if mode != Whole {
		v.Card, v.Trail = v.Card.Truncate(), v.Trail.Truncate()
	}
	if v.Card.Address.StoredAs != nil {
		v.Card.Address.Text, v.Card.Address.Embedded = addr.Optional{}, addr.Optional{}
		v.Trail = v.Trail.Forget(*v.Card.Address.StoredAs)
	}
	return v
}

// NewID makes a UUID of version 7 (RFC 9562) whose time is t, to the
// millisecond, and whose other bits come from random.
func NewID(t time.Time, random io.Reader) (uuid.UUID, error) {
	var id uuid.UUID
	if _, err := io.ReadFull(random, id[6:]); err != nil {
		return uuid.Nil, fmt.Errorf("random bits of an id: %w", err)
	}
	var ms [8]byte
	binary.BigEndian.PutUint64(ms[:], uint64(t.UnixMilli()))
	copy(id[:6], ms[2:])
	id[6] = id[6]&0x0f | 0x70
	id[8] = id[8]&0x3f | 0x80
	return id, nil
}

// TimeOf reads the time of a UUID of version 7; ok is false for other ids.
func TimeOf(id uuid.UUID) (t time.Time, ok bool) {
	if id.Version() != 7 {
		return time.Time{}, false
	}
	var ms [8]byte
	copy(ms[2:], id[:6])
	return time.UnixMilli(int64(binary.BigEndian.Uint64(ms[:]))).UTC(), true
}

// Limits of what a visit may say, in bytes.
const (
	MaxPath     = 2048
	MaxReferrer = 2048
	MaxAgent    = 512
)
