package visit

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"
)

// A QueuedVisit is a visit on its way into the database.
type QueuedVisit struct {
	Row   Row             `json:"row"`
	Facts json.RawMessage `json:"facts"` // JSON of the [EditionFacts] that the row names
}

// Queued gives the visit as it is queued.
func (v Visit) Queued() (QueuedVisit, error) { return (*Encoder)(nil).Queued(&v) }

// Queued is [Visit.Queued].
func (e *Encoder) Queued(v *Visit) (QueuedVisit, error) {
	row, facts, err := e.Row(v)
	return QueuedVisit{row, facts}, err
}

// An Outcome says what became of a batch.
type Outcome struct {
	Stored    int
	Duplicate int // their ids were stored before
	Erased    int // what they are of was erased
	Expired   int // older than what is kept
	// Conflicts are the places in the batch of those whose ids were stored before,
	// or stand before them in the batch, with other content; the first wins.
	Conflicts []int
}

// A SetApart is a visit that could not be stored.
type SetApart struct {
	ID     uuid.UUID
	Time   time.Time // when it was set apart
	Reason string
	Record []byte // JSON of an [QueuedVisit], or what was in the queue instead
}

// Queued reads the visit that was set apart.
func (q SetApart) Queued() (a QueuedVisit, err error) {
	if err := json.Unmarshal(q.Record, &a); err != nil {
		return a, fmt.Errorf("what was in the queue is not a visit: %w", err)
	}
	return a, nil
}
