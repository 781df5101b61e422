package visit

import "encoding/binary"

// Major types of CBOR (RFC 8949, section 3.1), and the simple value true.
const (
	cborUnsigned = iota << 5
	cborNegative
	cborBytes
	cborText
	cborList
	cborMap

	cborTrue = 0xf5
)

// AppendCBOR appends the row in CBOR (RFC 8949): a map from the numbers of its fields, without those that
// are empty. A library reads it into a [Row]; to write it by hand costs a tenth of what reflection does.
func (r *Row) AppendCBOR(b []byte) []byte {
	w := rowWriter{b: append(b, cborMap)}
	w.bytes(1, r.ID[:])
	w.text(2, r.Site)
	w.text(3, r.Path)
	w.optional(4, r.Referrer)
	w.optional(5, r.UserAgent)
	w.optional(6, r.Link)
	w.bytes(7, r.Attributes)
	w.list(8, r.Marks)
	if r.Address.IsValid() {
		address, _ := r.Address.AppendBinary(make([]byte, 0, 32)) // which fails for none
		w.bytes(9, address)
	}
	w.optional(10, r.Placeholder)
	if r.Kind != nil {
		word := r.Kind.String()
		w.optional(11, &word)
	}
	if r.Skipped {
		w.key(12)
		w.b = append(w.b, cborTrue)
	}
	w.list(13, r.Labels)
	w.text(14, r.Language)
	if r.WeekHour != nil {
		w.number(15, int64(*r.WeekHour))
	}
	if r.Unverified != 0 {
		w.number(16, int64(r.Unverified))
	}
	if r.VisitorHash != 0 {
		w.number(17, r.VisitorHash)
	}
	w.bytes(18, r.Card)
	w.bytes(19, r.Trail)
	w.bytes(20, r.FactsID[:])
	w.optional(22, r.Destination)
	w.text(21, r.Gate)
	w.b[len(b)] |= w.members // of which there are fewer than 24, so that the first byte holds their count
	return w.b
}

// RoomCBOR is about how many bytes [Row.AppendCBOR] appends, and seldom less.
func (r *Row) RoomCBOR() int {
	const heads = 256 // of all members, with ids, address and numbers
	room := heads + len(r.Site) + len(r.Path) + len(r.Attributes) + len(r.Card) + len(r.Trail)
	for _, text := range []*string{r.Referrer, r.UserAgent, r.Link, r.Placeholder, r.Destination} {
		if text != nil {
			room += len(*text)
		}
	}
	return room
}

// rowWriter appends the members of a map.
type rowWriter struct {
	b       []byte
	members byte
}

func (w *rowWriter) key(n byte) {
	w.b = append(w.b, cborUnsigned|n) // below 24
	w.members++
}

func (w *rowWriter) bytes(key byte, text []byte) {
	if len(text) > 0 {
		w.key(key)
		w.b = append(cborHead(w.b, cborBytes, uint64(len(text))), text...)
	}
}

func (w *rowWriter) text(key byte, text string) {
	if text != "" {
		w.optional(key, &text)
	}
}

// optional writes also an empty text.
func (w *rowWriter) optional(key byte, text *string) {
	if text != nil {
		w.key(key)
		w.b = append(cborHead(w.b, cborText, uint64(len(*text))), *text...)
	}
}

func (w *rowWriter) list(key byte, texts []string) {
	if len(texts) > 0 {
		w.key(key)
		w.b = cborHead(w.b, cborList, uint64(len(texts)))
		for _, text := range texts {
			w.b = append(cborHead(w.b, cborText, uint64(len(text))), text...)
		}
	}
}

func (w *rowWriter) number(key byte, n int64) {
	w.key(key)
	if n < 0 {
		w.b = cborHead(w.b, cborNegative, uint64(-1-n))
		return
	}
	w.b = cborHead(w.b, cborUnsigned, uint64(n))
}

// cborHead appends a major type with its argument in as few bytes as hold it.
func cborHead(b []byte, major byte, n uint64) []byte {
	switch {
	case n < 24:
		return append(b, major|byte(n))
	case n < 1<<8:
		return append(b, major|24, byte(n))
	case n < 1<<16:
		return binary.BigEndian.AppendUint16(append(b, major|25), uint16(n))
	case n < 1<<32:
		return binary.BigEndian.AppendUint32(append(b, major|26), uint32(n))
	}
	return binary.BigEndian.AppendUint64(append(b, major|27), n)
}
