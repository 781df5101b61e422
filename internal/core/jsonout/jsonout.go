// Package jsonout appends JSON by hand, byte for byte as encoding/json writes it, where
// reflection would cost more than all the rest.
package jsonout

import (
	"encoding/json"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"eastporch/internal/core/addr"
)

// Address writes an address as a text, or null.
func Address(b []byte, a addr.Optional) []byte {
	if !a.IsValid() {
		return append(b, "null"...)
	}
	if a.Zone() != "" { // which may hold anything
		return Any(b, a)
	}
	b = append(b, '"')
	b = a.AppendTo(b)
	return append(b, '"')
}

// Range writes a range as a text, or null.
func Range(b []byte, r addr.OptionalRange) []byte {
	if !r.IsValid() {
		return append(b, "null"...)
	}
	b = append(b, '"')
	b = r.AppendTo(b)
	return append(b, '"')
}

// Kind writes the word of a kind, or null.
func Kind(b []byte, k *addr.Kind) []byte {
	if k == nil {
		return append(b, "null"...)
	}
	return String(b, k.String())
}

// Time writes a time (RFC 3339), or null.
func Time(b []byte, t *time.Time) []byte {
	if t == nil {
		return append(b, "null"...)
	}
	b = append(b, '"')
	b = t.AppendFormat(b, time.RFC3339Nano)
	return append(b, '"')
}

// LocalTime writes a time with its offset in numbers, also where that is none, or null for
// the zero time.
func LocalTime(b []byte, t time.Time) []byte {
	if t.IsZero() {
		return append(b, "null"...)
	}
	b = append(b, '"')
	b = t.AppendFormat(b, time.RFC3339)
	if b[len(b)-1] == 'Z' {
		b = append(b[:len(b)-1], "+00:00"...)
	}
	return append(b, '"')
}

// Bool writes true or false, or null.
func Bool(b []byte, v *bool) []byte {
	if v == nil {
		return append(b, "null"...)
	}
	return strconv.AppendBool(b, *v)
}

// Uint32 writes a whole number, or null.
func Uint32(b []byte, n *uint32) []byte {
	if n == nil {
		return append(b, "null"...)
	}
	return strconv.AppendUint(b, uint64(*n), 10)
}

// Any leaves to encoding/json what is seldom there; null where that cannot write it.
func Any(b []byte, v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		return append(b, "null"...)
	}
	return append(b, text...)
}

// Optional writes a text, or null.
func Optional(b []byte, s *string) []byte {
	if s == nil {
		return append(b, "null"...)
	}
	return String(b, *s)
}

// Classes of bytes: those that make a text want escaping, those of runes beyond ASCII, and the
// one that U+2028 and U+2029, which want escaping, begin with.
const (
	beyond = 1 << iota
	escaped
	separator
)

var classes = func() (class [256]uint8) {
	for c := range class {
		switch {
		case c == 0xe2:
			class[c] = beyond | separator
		case c >= utf8.RuneSelf:
			class[c] = beyond
		case c < ' ' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' || c == 0x7f:
			class[c] = escaped
		}
	}
	return class
}()

// String writes a text; one with anything that wants escaping, as encoding/json
// does it for HTML too, is left to that.
func String(b []byte, s string) []byte {
	class := uint8(0)
	for i := range len(s) {
		class |= classes[s[i]]
	}
	if class&escaped != 0 || class&beyond != 0 && !utf8.ValidString(s) ||
		class&separator != 0 && (strings.Contains(s, "\u2028") || strings.Contains(s, "\u2029")) {
		return Any(b, s)
	}
	b = append(b, '"')
	b = append(b, s...)
	return append(b, '"')
}

// Number writes a number, or null.
func Number(b []byte, f *float64) []byte {
	if f == nil {
		return append(b, "null"...)
	}
	if size := math.Abs(*f); size != 0 && (size < 1e-6 || size >= 1e21) || math.IsNaN(size) {
		return Any(b, *f)
	}
	return strconv.AppendFloat(b, *f, 'f', -1, 64)
}

// Strings writes a list of texts, null for a nil one.
func Strings(b []byte, list []string) []byte {
	if list == nil {
		return append(b, "null"...)
	}
	b = append(b, '[')
	for i, s := range list {
		if i > 0 {
			b = append(b, ',')
		}
		b = String(b, s)
	}
	return append(b, ']')
}

// Map writes a map in the order of its keys.
func Map(b []byte, m map[string]string) []byte {
	if m == nil {
		return append(b, "null"...)
	}
	type entry struct{ key, value string }
	var buffer [16]entry
	list := buffer[:0]
	for key, value := range m {
		at := len(list)
		list = append(list, entry{})
		for ; at > 0 && list[at-1].key > key; at-- {
			list[at] = list[at-1]
		}
		list[at] = entry{key, value}
	}
	b = append(b, '{')
	for i := range list {
		if i > 0 {
			b = append(b, ',')
		}
		b = String(b, list[i].key)
		b = append(b, ':')
		b = String(b, list[i].value)
	}
	return append(b, '}')
}

// Int writes a whole number, or null.
func Int(b []byte, n *int) []byte {
	if n == nil {
		return append(b, "null"...)
	}
	return strconv.AppendInt(b, int64(*n), 10)
}
