package visit

import (
	"net/netip"
	"time"

	"github.com/google/uuid"
)

// An Erasure says what to erase: one visit, or all of an address, of a prefix,
// or of what stands in place of an address.
type Erasure struct {
	ID          uuid.UUID
	Address     netip.Addr
	Prefix      netip.Prefix
	Placeholder []string
}

// Erased says what was erased.
type Erased struct {
	Visits     int `json:"visits"`     // rows
	Days       int `json:"days"`       // whose counts were made anew
	Quarantine int `json:"quarantine"` // visits that were set apart
}

// Holds says whether a row is to be erased.
func (e Erasure) Holds(r Row) bool {
	switch {
	case e.ID != uuid.Nil:
		return r.ID == e.ID
	case e.Address.IsValid():
		return r.Address.Addr == e.Address
	case e.Prefix.IsValid():
		return r.Address.IsValid() && e.Prefix.Contains(r.Address.Addr)
	}
	for _, word := range e.Placeholder {
		if r.Placeholder != nil && *r.Placeholder == word {
			return true
		}
	}
	return false
}

// A CountMismatch is a count that is not what the rows say.
type CountMismatch struct {
	Site        string    `json:"site"` // or the host and path of a link
	Dimension   string    `json:"dimension"`
	Granularity string    `json:"granularity"` // day or quarter: how long the slot is
	Slot        time.Time `json:"slot"`
	Key         string    `json:"key"`
	Counted     int64     `json:"counted"`
	Rows        int64     `json:"rows"`
}

// A StoredVisit is a visit and its number in the order of storing.
type StoredVisit struct {
	Sequence int64
	Visit    Visit
}
