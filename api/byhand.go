package api

import (
	"strconv"

	"github.com/google/uuid"

	"eastporch/internal/core/jsonin"
	"eastporch/internal/core/jsonout"
)

// ReadPlain reads a visit that is written in plain JSON, as encoding/json would. Where it says no, the
// visit is as it was.
func (v *NewVisit) ReadPlain(r *jsonin.Reader) bool {
	var read NewVisit
	ok := r.Object(func(key []byte) bool {
		switch string(key) {
		case "site":
			return r.Null() || r.String(&read.Site)
		case "path":
			return r.Null() || r.String(&read.Path)
		case "referrer":
			return r.Optional(&read.Referrer)
		case "user_agent":
			return r.Optional(&read.UserAgent)
		case "link":
			return r.Optional(&read.Link)
		case "destination":
			return r.Optional(&read.Destination)
		case "nonce":
			return r.Optional(&read.Nonce)
		case "id":
			return r.Optional(&read.ID)
		case "time":
			return r.Optional(&read.Time)
		case "address":
			return r.Optional(&read.Address)
		case "peer":
			return r.Optional(&read.Peer)
		case "test":
			return r.Null() || r.Bool(&read.Test)
		case "dry_run":
			return r.Null() || r.Bool(&read.DryRun)
		case "attributes":
			return r.Value(&read.Attributes)
		case "headers":
			read.Headers = Headers{}
			return r.Object(func(name []byte) bool {
				var lines []string
				ok := r.Lines(&lines)
				read.Headers[string(name)] = lines
				return ok
			})
		}
		return false
	})
	if ok {
		*v = read
	}
	return ok
}

// AppendJSON appends what whoever sends a visit hears, as encoding/json writes it.
func (t *Taken) AppendJSON(b []byte) []byte {
	b = appendID(append(b, `{"id":`...), t.ID)
	b = jsonout.Time(append(b, `,"time":`...), &t.Time)
	b = jsonout.String(append(b, `,"state":`...), t.State)
	b = jsonout.Strings(append(b, `,"marks":`...), t.Marks)
	if t.Visit != nil {
		b = jsonout.Any(append(b, `,"visit":`...), t.Visit)
	}
	if t.Card != nil {
		b = jsonout.Any(append(b, `,"card":`...), t.Card)
	}
	return append(b, '}')
}

// AppendJSON appends what whoever sends a list of visits hears, as encoding/json writes it.
func (m *Many) AppendJSON(b []byte) []byte {
	b = append(b, `{"visits":[`...)
	for i := range m.Visits {
		if i > 0 {
			b = append(b, ',')
		}
		b = m.Visits[i].appendJSON(b)
	}
	b = strconv.AppendInt(append(b, `],"accepted":`...), int64(m.Accepted), 10)
	b = strconv.AppendInt(append(b, `,"refused":`...), int64(m.Refused), 10)
	return append(b, '}')
}

func (t *TakenOne) appendJSON(b []byte) []byte {
	b = strconv.AppendInt(append(b, `{"index":`...), int64(t.Index), 10)
	if t.ID != nil {
		b = appendID(append(b, `,"id":`...), *t.ID)
	}
	if t.Time != nil {
		b = jsonout.Time(append(b, `,"time":`...), t.Time)
	}
	if t.State != nil {
		b = jsonout.String(append(b, `,"state":`...), *t.State)
	}
	if len(t.Marks) > 0 {
		b = jsonout.Strings(append(b, `,"marks":`...), t.Marks)
	}
	if t.Visit != nil {
		b = jsonout.Any(append(b, `,"visit":`...), t.Visit)
	}
	if t.Problem != nil {
		b = jsonout.Any(append(b, `,"problem":`...), t.Problem)
	}
	return append(b, '}')
}

func appendID(b []byte, id uuid.UUID) []byte {
	return append(append(append(b, '"'), id.String()...), '"')
}
