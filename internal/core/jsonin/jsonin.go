// Package jsonin reads plain JSON (RFC 8259) by hand, where reflection would cost more than all the rest:
// what most programs write, with texts that escape nothing. What is not plain, or not JSON at all, is for
// encoding/json to read anew, which also words what is wrong with it.
package jsonin

import (
	"encoding/json"
	"unicode/utf8"
)

// A Reader reads a text from its beginning. Each method says whether what it is asked for comes next,
// behind white space, and then stands behind it; where it says no, the reader is of no further use, unless
// it only looked for a mark.
type Reader struct {
	text []byte
	at   int
}

// Read gives a reader of a text, which must not change while it is used.
func Read(text []byte) Reader { return Reader{text: text} }

func (r *Reader) space() {
	for r.at < len(r.text) {
		switch r.text[r.at] {
		case ' ', '\t', '\n', '\r':
			r.at++
		default:
			return
		}
	}
}

// AtEnd says whether only white space is left.
func (r *Reader) AtEnd() bool {
	r.space()
	return r.at == len(r.text)
}

// Mark reads a bracket, brace, comma or colon. Where another comes, it is still there to be read.
func (r *Reader) Mark(mark byte) bool {
	r.space()
	if r.at < len(r.text) && r.text[r.at] == mark {
		r.at++
		return true
	}
	return false
}

// word reads a word such as true. Where another comes, it is still there to be read.
func (r *Reader) word(word string) bool {
	r.space()
	if end := r.at + len(word); end <= len(r.text) && string(r.text[r.at:end]) == word {
		r.at = end
		return true
	}
	return false
}

// Null reads null. Where something else comes, it is still there to be read.
func (r *Reader) Null() bool { return r.word("null") }

// Bool reads true or false.
func (r *Reader) Bool(to *bool) bool {
	if *to = r.word("true"); *to {
		return true
	}
	return r.word("false")
}

// plain reads a text that escapes nothing, and is UTF-8.
func (r *Reader) plain() ([]byte, bool) {
	if !r.Mark('"') {
		return nil, false
	}
	begin, ascii := r.at, true
	for ; r.at < len(r.text); r.at++ {
		switch c := r.text[r.at]; {
		case c == '"':
			text := r.text[begin:r.at]
			r.at++
			return text, ascii || utf8.Valid(text)
		case c < ' ' || c == '\\':
			return nil, false
		case c >= utf8.RuneSelf:
			ascii = false
		}
	}
	return nil, false
}

// String reads a text.
func (r *Reader) String(to *string) bool {
	text, ok := r.plain()
	if ok {
		*to = string(text)
	}
	return ok
}

// Optional reads a text, or null.
func (r *Reader) Optional(to **string) bool {
	if r.Null() {
		*to = nil
		return true
	}
	text := new(string)
	*to = text
	return r.String(text)
}

// Object reads an object: member reads the value of a key, and says whether it knows the key and could. The
// key is of use only until then.
func (r *Reader) Object(member func(key []byte) bool) bool {
	if !r.Mark('{') {
		return false
	}
	if r.Mark('}') {
		return true
	}
	for {
		key, ok := r.plain()
		if !ok || !r.Mark(':') || !member(key) {
			return false
		}
		if r.Mark('}') {
			return true
		}
		if !r.Mark(',') {
			return false
		}
	}
}

// Lines reads a text, or a list of texts.
func (r *Reader) Lines(to *[]string) bool {
	if !r.Mark('[') {
		*to = []string{""}
		return r.String(&(*to)[0])
	}
	list := []string{}
	for !r.Mark(']') {
		var text string
		if len(list) > 0 && !r.Mark(',') || !r.String(&text) {
			return false
		}
		list = append(list, text)
	}
	*to = list
	return true
}

// Value reads an object or a list of anything, as it stands.
func (r *Reader) Value(to *json.RawMessage) bool {
	r.space()
	begin, depth, quoted := r.at, 0, false
	for ; r.at < len(r.text); r.at++ {
		switch c := r.text[r.at]; {
		case quoted && c == '\\':
			r.at++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			depth--
		}
		if depth == 0 && !quoted {
			break
		}
	}
	if r.at >= len(r.text) {
		return false
	}
	r.at++
	text := r.text[begin:r.at]
	if c := text[0]; c != '{' && c != '[' || !json.Valid(text) || !utf8.Valid(text) {
		return false
	}
	*to = append(json.RawMessage{}, text...)
	return true
}
