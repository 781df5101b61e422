package caller

import (
	"strconv"

	"eastporch/internal/core/jsonout"
)

// AppendJSON appends a trail as JSON, byte for byte as encoding/json writes it.
func (t *Trail) AppendJSON(b []byte) []byte {
	b = append(b, `{"visitor":`...)
	b = jsonout.Address(b, t.Visitor)
	b = append(b, `,"obtained":`...)
	b = jsonout.String(b, t.Obtained)
	b = append(b, `,"own_network":`...)
	b = strconv.AppendBool(b, t.OwnNetwork)
	b = append(b, `,"reason":`...)
	b = jsonout.String(b, t.Reason)
	b = append(b, `,"hops":`...)
	if t.Hops == nil {
		b = append(b, "null"...)
	} else {
		b = append(b, '[')
		for i := range t.Hops {
			if i > 0 {
				b = append(b, ',')
			}
			b = t.Hops[i].appendJSON(b)
		}
		b = append(b, ']')
	}
	b = append(b, `,"omitted":`...)
	b = strconv.AppendInt(b, int64(t.Omitted), 10)
	b = append(b, `,"notes":`...)
	b = jsonout.Strings(b, t.Notes)
	return append(b, '}')
}

func (h *Hop) appendJSON(b []byte) []byte {
	b = append(b, `{"source":`...)
	b = jsonout.String(b, h.Source)
	b = append(b, `,"index":`...)
	b = strconv.AppendInt(b, int64(h.Index), 10)
	b = append(b, `,"of":`...)
	b = strconv.AppendInt(b, int64(h.Of), 10)
	b = append(b, `,"text":`...)
	b = jsonout.String(b, h.Text)
	b = append(b, `,"address":`...)
	b = jsonout.Address(b, h.Address)
	b = append(b, `,"kind":`...)
	if h.Kind != nil {
		b = jsonout.String(b, h.Kind.String())
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"labels":`...)
	b = jsonout.Strings(b, h.Labels)
	b = append(b, `,"verdict":`...)
	b = jsonout.String(b, string(h.Verdict))
	b = append(b, `,"rule":`...)
	b = jsonout.Optional(b, h.Rule)
	b = append(b, `,"reason":`...)
	b = jsonout.String(b, h.Reason)
	return append(b, '}')
}
