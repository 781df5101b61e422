// Package visit has the visit, a card that is stored: what is kept of it, how it is queued
// and stored, and the questions asked of many.
package visit

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/plain"
)

// A Visit is a card that was stored.
type Visit struct {
	ID        uuid.UUID `json:"id"`   // version 7; its time is the visit's
	Time      time.Time `json:"time"` // UTC, of millisecond precision
	Site      string    `json:"site"`
	Path      string    `json:"path"`
	Referrer  *string   `json:"referrer"`
	UserAgent *string   `json:"user_agent"`
	Link      *string   `json:"link"` // the code of the link that led here
	// Destination is where a click on a link was led to; nil for other visits.
	Destination *string `json:"destination"`
	// Attributes are the owner's own, a JSON object, or null.
	Attributes json.RawMessage `json:"attributes"`
	Marks      []string        `json:"marks"` // why it is left out of statistics, if it is
	Card       card.Card       `json:"card"`
	Trail      caller.Trail    `json:"trail"`
	// VisitorHash tells visitors of one site and day apart, and nothing more; 0 where
	// they are not counted.
	VisitorHash int64 `json:"-"`
	// Earlier is how the visit read in older editions, the oldest first.
	Earlier []EarlierFacts `json:"earlier"`
}

// EarlierFacts are what one edition said of a visit.
type EarlierFacts struct {
	Edition  string         `json:"edition"`
	Location atlas.Location `json:"location"`
	Network  atlas.Network  `json:"network"`
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
	MaxPath       = 2048
	MaxReferrer   = 2048
	MaxAgent      = 512
	MaxLink       = 64
	MaxAttributes = 2048
)

// maxDepth bounds how deep attributes may nest.
const maxDepth = 4

// CheckAttributes says what is wrong with a visit's own attributes: they are one
// JSON object of at most [MaxAttributes] bytes and four levels, of text that can
// be stored. The reason is worded to follow "it". Compact is the shortest form;
// nil for null.
func CheckAttributes(text json.RawMessage) (compact json.RawMessage, err error) {
	if len(text) == 0 || string(text) == "null" {
		return nil, nil
	}
	if text[0] != '{' {
		return nil, errors.New("it is not a JSON object")
	}
	var short bytes.Buffer
	if err := json.Compact(&short, text); err != nil {
		return nil, errors.New("it is not JSON")
	}
	if short.Len() > MaxAttributes {
		return nil, fmt.Errorf("it has %d bytes, %d are allowed", short.Len(), MaxAttributes)
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	depth := 0
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return short.Bytes(), nil
		}
		if err != nil {
			return nil, errors.New("it is not JSON")
		}
		switch t := token.(type) {
		case json.Delim:
			if depth++; t == '}' || t == ']' {
				depth -= 2
			}
			if depth > maxDepth {
				return nil, fmt.Errorf("it nests deeper than %d levels", maxDepth)
			}
		case json.Number:
			if n, err := strconv.ParseFloat(string(t), 64); err != nil || math.IsInf(n, 0) || len(t) > 32 {
				return nil, fmt.Errorf("it holds a number that is too large: %.20s", string(t))
			}
		case string:
			if err := plain.Check(t, MaxAttributes); err != nil {
				return nil, fmt.Errorf("a text in it: %w", err)
			}
		}
	}
}
