// Package rpsl reads objects of the Routing Policy Specification Language (RFC 2622, RFC 4012)
// as registries publish them in bulk: networks, and what AS numbers are called.
package rpsl

import (
	"bytes"
	"unicode/utf8"
)

// An Object is what is read of one object. Its fields lie in the text it was read of, but those
// whose lines were folded. The zero Object is empty.
type Object struct {
	Class   []byte // the name of its first attribute, such as inetnum
	Key     []byte // and its value: a range, or an AS number
	Netname []byte
	Status  []byte
	Country []byte
	// Countries is how many different ones it names.
	Countries int
	ASName    []byte
	Descr     []byte // the first line of its description
	// Geofeed is where its network's geofeed is (RFC 9632, section 3), of the attribute or else of a remark.
	Geofeed  []byte
	ByRemark bool
	// Skipped are empty lines and comments before it, up to Begin in the text; Lines are its own.
	Skipped, Begin, Lines int
}

// Read reads the object that text begins with, and gives what follows. Empty lines part
// objects; lines that begin with % or # are comments; a line that begins with a space, a tab or
// a plus sign goes on with the one before (RFC 2622, section 2). At the end of the text, and where a
// text has no attribute, Class is nil.
func (o *Object) Read(text []byte) (rest []byte) {
	*o = Object{}
	whole := len(text)
	for len(text) > 0 {
		line, after := cut(text)
		switch {
		case isComment(line) || isBlank(line):
			if o.Lines > 0 && isBlank(line) {
				return text
			}
			text = after
			if o.Lines == 0 {
				o.Skipped++
				o.Begin = whole - len(text)
			} else {
				o.Lines++
			}
			continue
		case goesOn(line) && o.Lines > 0: // of an attribute that nobody asks for
			o.Lines++
			text = after
			continue
		}
		o.Lines++
		name, value, ok := line, line, false
		if o.Class == nil || asked[line[0]|0x20] {
			name, value, ok = bytes.Cut(line, colon)
		}
		if text = after; ok {
			value, text = o.unfold(value, after)
			o.take(name, value)
		}
	}
	return nil
}

var colon = []byte{':'}

// asked are the letters that attributes begin with which an Object has.
var asked = [256]bool{'n': true, 's': true, 'c': true, 'a': true, 'd': true, 'g': true, 'r': true}

func cut(text []byte) (line, after []byte) {
	i := bytes.IndexByte(text, '\n')
	if i < 0 {
		return text, nil
	}
	return text[:i+1], text[i+1:]
}

func isBlank(line []byte) bool { return line[0] <= ' ' && len(bytes.TrimSpace(line)) == 0 }

func isComment(line []byte) bool { return line[0] == '%' || line[0] == '#' }

func goesOn(line []byte) bool { return line[0] == ' ' || line[0] == '\t' || line[0] == '+' }

// unfold gives a value with the lines that go on with it, without comments.
func (o *Object) unfold(value, after []byte) (whole, rest []byte) {
	value = bare(value)
	if len(after) == 0 || !goesOn(after) && !isComment(after) {
		return value, after
	}
	whole = bytes.Clone(value)
	for len(after) > 0 && (goesOn(after) || isComment(after)) {
		line, next := cut(after)
		if isBlank(line) {
			break
		}
		o.Lines++
		after = next
		if isComment(line) {
			continue
		}
		if more := bare(line[1:]); len(more) > 0 {
			if len(whole) > 0 {
				whole = append(whole, ' ')
			}
			whole = append(whole, more...)
		}
	}
	return whole, after
}

// bare gives a value without its comment.
func bare(value []byte) []byte {
	if i := bytes.IndexByte(value, '#'); i >= 0 {
		value = value[:i]
	}
	return bytes.TrimSpace(value)
}

func (o *Object) take(name, value []byte) {
	name = bytes.TrimSpace(name)
	if o.Class == nil {
		o.Class, o.Key = name, value
		return
	}
	switch {
	case is(name, "netname"):
		first(&o.Netname, value)
	case is(name, "status"):
		first(&o.Status, value)
	case is(name, "as-name"):
		first(&o.ASName, value)
	case is(name, "descr"):
		first(&o.Descr, value)
	case is(name, "country"):
		if o.Countries == 0 || !bytes.EqualFold(o.Country, value) {
			o.Countries++
		}
		first(&o.Country, value)
	case is(name, "geofeed"):
		if o.ByRemark || o.Geofeed == nil {
			o.Geofeed, o.ByRemark = value, false
		}
	case is(name, "remarks") && o.Geofeed == nil:
		word, at, _ := bytes.Cut(value, []byte{' '})
		if at = bytes.TrimSpace(at); is(word, "geofeed") && bytes.Contains(at, []byte("://")) {
			o.Geofeed, o.ByRemark = at, true
		}
	}
}

func first(field *[]byte, value []byte) {
	if *field == nil {
		*field = value
	}
}

// is compares a name with one in lower case.
func is(name []byte, want string) bool {
	if len(name) != len(want) {
		return false
	}
	for i := range name {
		c := name[i]
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if c != want[i] {
			return false
		}
	}
	return true
}

// IsNetwork says whether the object is of a range of addresses.
func (o *Object) IsNetwork() bool { return is(o.Class, "inetnum") || is(o.Class, "inet6num") }

// IsAS says whether the object is of an AS number.
func (o *Object) IsAS() bool { return is(o.Class, "aut-num") }

// Text gives a value as UTF-8: text that is none is taken for Latin-1 (ISO 8859-1), which many
// registries use.
func Text(value []byte) string {
	if utf8.Valid(value) {
		return string(value)
	}
	runes := make([]rune, len(value))
	for i, b := range value {
		runes[i] = rune(b)
	}
	return string(runes)
}
