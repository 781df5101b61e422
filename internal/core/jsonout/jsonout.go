// Package jsonout appends JSON by hand, byte for byte as encoding/json writes it, where
// reflection would cost more than all the rest.
package jsonout

import (
	"encoding/json"
	"math"
	"strconv"
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

// escapes are the bytes that make a text want escaping; U+2028 and U+2029 begin with
// 0xe2.
var escapes = func() (set [256]bool) {
	for c := range ' ' {
		set[c] = true
	}
	for _, c := range []byte("\"\\<>&\x7f\xe2") {
		set[c] = true
	}
	return set
}()

// String writes a text; one with anything that wants escaping, as encoding/json
// does it for HTML too, is left to that.
func String(b []byte, s string) []byte {
	high := false
	for i := 0; i < len(s); i++ {
		if escapes[s[i]] {
			return Any(b, s)
		}
		high = high || s[i] >= utf8.RuneSelf
	}
	if high && !utf8.ValidString(s) {
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
	var buffer [16]string
	keys := buffer[:0]
	for key := range m {
		at := len(keys)
		keys = append(keys, key)
		for ; at > 0 && keys[at-1] > key; at-- {
			keys[at] = keys[at-1]
		}
		keys[at] = key
	}
	b = append(b, '{')
	for i, key := range keys {
		if i > 0 {
			b = append(b, ',')
		}
		b = String(b, key)
		b = append(b, ':')
		b = String(b, m[key])
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
