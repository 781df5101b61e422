// Package notice has notices: what an owner says of one, the layouts and facts that messages are written of, when
// one is due and when it waits. It sends nothing.
package notice

import (
	"errors"
	"time"
)

// A Kind says what has a notice written.
type Kind string

// The kinds.
const (
	OnAsk      Kind = "asked"
	OnCountry  Kind = "country"
	OnLabel    Kind = "label"
	OnRefusals Kind = "refusals"
	OnCheckup  Kind = "checkup"
	OnEdition  Kind = "edition"
)

// Kinds are all of them.
var Kinds = []Kind{OnAsk, OnCountry, OnLabel, OnRefusals, OnCheckup, OnEdition}

// OfVisit says whether notices of the kind are about a visit.
func (k Kind) OfVisit() bool { return k == OnCountry || k == OnLabel }

// Kinds of channels.
const (
	Mail    = "mail"
	Webhook = "webhook"
)

// A Standing says how a channel stands.
type Standing string

// The standings.
const (
	Ready   Standing = "ready"
	Unused  Standing = "not used yet"
	Failing Standing = "fails"
	Gone    Standing = "gone"
)

// A MessageState says what became of a message.
type MessageState string

// The states.
const (
	Waiting   MessageState = "waiting"
	Delivered MessageState = "delivered"
	Failed    MessageState = "failed"
	Dropped   MessageState = "dropped"
)

// Errors of keeping notices.
var (
	ErrNone      = errors.New("there is no notice with this name")
	ErrNoChannel = errors.New("there is no channel with this name")
	ErrNoMessage = errors.New("there is no such message")
	ErrChanged   = errors.New("it was changed meanwhile")
	ErrTooMany   = errors.New("as many were sent as may be in an hour")
	ErrLink      = errors.New("the link is not one of ours, was used before, or its time is over")
	ErrFinished  = errors.New("the message does not wait")
)

// TooMany says which limit was met, and when another message may be asked for. It wraps [ErrTooMany].
type TooMany struct {
	Limit string // in words
	Until time.Time
}

func (e *TooMany) Error() string { return e.Limit }

func (e *TooMany) Unwrap() error { return ErrTooMany }

// An AskedFor is a message that somebody asked for.
type AskedFor struct {
	Notice, Sender string
	To             []string
	At             time.Time
	Counts         bool // for the limit of its notice
}
