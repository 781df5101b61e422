package notice

import (
	"time"

	"github.com/google/uuid"
)

// A Kept is a notice as it is stored.
type Kept struct {
	Site, Name string
	Said       Said
	Revision   int64
	MadeBy     string
	ChangedAt  time.Time
}

// A KeptChannel is a channel as it is stored, and how it stands.
type KeptChannel struct {
	Site, Name string
	Said       ChannelSaid
	Revision   int64
	MadeBy     string
	ChangedAt  time.Time
	ChannelHealth
}

// ChannelHealth says whether the other side of a channel answers.
type ChannelHealth struct {
	Used     bool
	Failures int    // in a row
	Reason   string // of the last one
	Since    time.Time
	NextTry  time.Time // before then nothing is sent
	Gone     bool      // until the channel is saved again
}

// HealthOf is how a channel stood that was saved as a revision.
type HealthOf struct {
	Revision int64
	ChannelHealth
}

// Standing is that of the channel.
func (h *ChannelHealth) Standing() Standing {
	switch {
	case h.Gone:
		return Gone
	case h.Failures > 0:
		return Failing
	case !h.Used:
		return Unused
	}
	return Ready
}

// A Triggered is a reason to write a notice that is not written yet.
type Triggered struct {
	ID           int64
	Site, Notice string
	// Key is what limits are counted by: the country, label, finding or edition.
	Key   string
	At    time.Time
	Visit *uuid.UUID
	Facts map[string]string // what was met, where it is not about a visit
	Times int64             // how often it was met at once
}

// A Letter is a message as it waits to be delivered.
type Letter struct {
	ID            uuid.UUID
	Site, Notice  string
	Channel, Kind string
	Keys          []string // that limits are counted by
	Visits        []uuid.UUID
	Created       time.Time
	Subject       string
	Text, HTML    string
	Facts         map[string]string // those that the layout has, for webhooks
	Recipients    []Recipient
	State         MessageState
	Result        string
	Tries         []Attempt
	Tried         int
	NextTry       time.Time
	Finished      *time.Time
	Test          bool
	AgainOf       *uuid.UUID
	Sender        string // who asked for it, as limits tell them apart
}

// A Recipient is one of a mail's, and what became of it.
type Recipient struct {
	Address string       `json:"address"`
	State   MessageState `json:"state"`
	Result  string       `json:"result"`
	// Tried counts attempts to deliver it to this one.
	Tried int `json:"tried"`
}

// Message shows a letter to its owner: recipients are masked.
func (l *Letter) Message() Message {
	m := Message{
		ID: l.ID, Time: l.Created, Site: l.Site, Notice: l.Notice, Channel: l.Channel, Kind: l.Kind, Subject: l.Subject, To: []string{}, State: l.State, Result: l.Result,
		Attempts: l.Tried, AttemptsMost: AttemptsMost, Finished: l.Finished, Test: l.Test, AgainOf: l.AgainOf,
	}
	for _, r := range l.Recipients {
		m.To = append(m.To, MaskRecipient(r.Address))
	}
	if l.State == Waiting {
		m.NextTry = &l.NextTry
	}
	return m
}

// AttemptsMost is how often a message is tried.
const AttemptsMost = 6

// pauses follow the attempts, all but the last.
var pauses = [AttemptsMost - 1]time.Duration{time.Minute, 5 * time.Minute, 30 * time.Minute, 2 * time.Hour, 6 * time.Hour}

// Pause is how long to wait after so many attempts; ok is false where there is no other.
func Pause(tried int) (pause time.Duration, ok bool) {
	if tried < 1 || tried > len(pauses) {
		return 0, tried < 1
	}
	return pauses[tried-1], true
}

// KeptFor is how long messages are kept after they were written.
const KeptFor = 7 * 24 * time.Hour

// Counts are what is counted of a notice's messages.
type Counts struct {
	LastSent         *time.Time
	Waiting, LeftOut int64
	Failed           string // the result of the newest message, where it failed
}

// Traffic is what is counted of a channel.
type Traffic struct{ Sent, Waiting int64 }

// A Written is what became of triggers: they are gone, letters wait in their place, and so many were left out.
type Written struct {
	Site, Notice string
	Triggers     []int64
	Letters      []Letter
	LeftOut      int64
}

// A Pending is a question of somebody whose mail address is not confirmed yet.
type Pending struct {
	ID                  uuid.UUID
	Site, Notice        string
	Recipient, Question string
	Sender              string
	Created             time.Time
}
