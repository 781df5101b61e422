package source

import (
	"bytes"
	"errors"
)

// split cuts a line at a separator, without looking at quotes.
func split(to [][]byte, line []byte, separator byte) [][]byte {
	for {
		i := bytes.IndexByte(line, separator)
		if i < 0 {
			return append(to, line)
		}
		to, line = append(to, line[:i]), line[i+1:]
	}
}

// quoted cuts a line at a separator; fields may stand in quotes (RFC 4180), with
// spaces around them.
func quoted(to [][]byte, line []byte, separator byte) ([][]byte, error) {
	for {
		text := bytes.TrimLeft(line, " ")
		if len(text) == 0 || text[0] != '"' {
			i := bytes.IndexByte(line, separator)
			if i < 0 {
				return append(to, line), nil
			}
			if bytes.IndexByte(line[:i], '"') >= 0 {
				return to, errQuotes
			}
			to, line = append(to, line[:i]), line[i+1:]
			continue
		}
		var field []byte
		text = text[1:]
		for {
			i := bytes.IndexByte(text, '"')
			if i < 0 {
				return to, errQuotes
			}
			field, text = append(field, text[:i]...), text[i+1:]
			if len(text) == 0 || text[0] != '"' {
				break
			}
			field, text = append(field, '"'), text[1:]
		}
		to, text = append(to, field), bytes.TrimLeft(text, " ")
		if len(text) == 0 {
			return to, nil
		}
		if text[0] != separator {
			return to, errQuotes
		}
		line = text[1:]
	}
}

var errQuotes = errors.New("the quotes do not fit; a quoted field may not hold a line break")
