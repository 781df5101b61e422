// Package plain checks and cleans text from outside, so that it can be stored
// and shown: PostgreSQL refuses NUL, and terminals obey control characters.
package plain

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Check says what is wrong with a text: longer than maxBytes, not UTF-8, or
// with control characters. The reason is worded to follow "it".
func Check(text string, maxBytes int) error {
	switch {
	case len(text) > maxBytes:
		return fmt.Errorf("it has %d bytes, %d are allowed", len(text), maxBytes)
	case isPrintable(text):
		return nil
	case !utf8.ValidString(text):
		return errors.New("it is not valid UTF-8")
	case strings.ContainsFunc(text, unicode.IsControl):
		return errors.New("it holds a control character")
	}
	return nil
}

// isPrintable says whether a text is of ASCII without control characters, as most are.
func isPrintable(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c >= 0x7f {
			return false
		}
	}
	return true
}

// Clean makes any text pass [Check]: what exceeds maxBytes is cut and "…" put
// in its place (within the bound), control characters and invalid UTF-8 become
// U+FFFD.
func Clean(text string, maxBytes int) string {
	const ellipsis = "…"
	if len(text) <= maxBytes && isPrintable(text) {
		return text
	}
	replaced := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return unicode.ReplacementChar
		}
		return r
	}, text) // which turns invalid UTF-8 into U+FFFD too
	if len(replaced) <= maxBytes {
		return replaced
	}
	end := max(0, maxBytes-len(ellipsis))
	for end > 0 && !utf8.RuneStart(replaced[end]) {
		end--
	}
	return replaced[:end] + ellipsis
}

// Misleads says whether a character shows a text as another than it is: direction marks of
// Unicode's bidirectional algorithm (UAX #9), and separators of lines and paragraphs.
func Misleads(c rune) bool {
	return c >= 0x202a && c <= 0x202e || c >= 0x2066 && c <= 0x2069 || c == 0x2028 || c == 0x2029
}

// Visible writes characters that mislead ([Misleads]) as their numbers, such as ⟨U+202E⟩.
func Visible(text string) string {
	if !strings.ContainsFunc(text, Misleads) {
		return text
	}
	var b strings.Builder
	for _, c := range text {
		if Misleads(c) {
			fmt.Fprintf(&b, "⟨U+%04X⟩", c)
		} else {
			b.WriteRune(c)
		}
	}
	return b.String()
}

// harmless begins like a formula and is none: a number, or an offset from UTC.
var harmless = regexp.MustCompile(`^[+-][0-9]+(\.[0-9]+|:[0-9]{2})?$`)

// Guard makes a cell of CSV harmless that a spreadsheet would take for a formula: one that
// begins with =, +, -, @, their full-width forms, a tab or a carriage return gets an
// apostrophe in front, and no longer reads back as it was. Numbers and offsets from UTC
// stay as they are. It is meant for text from outside.
func Guard(cell string) string {
	first, _ := utf8.DecodeRuneInString(cell)
	if cell != "" && strings.ContainsRune("=+-@＝＋－＠\t\r", first) && !harmless.MatchString(cell) {
		return "'" + cell
	}
	return cell
}

// Optional gives a text, nil for "".
func Optional(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

// Value gives what an optional text holds, "" for nil.
func Value(text *string) string {
	if text == nil {
		return ""
	}
	return *text
}

// Decimal gives a number in as many digits as it takes, without an exponent.
func Decimal(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// UpperFirst gives a text of ASCII beginning with a capital, to make a sentence of a reason.
func UpperFirst(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
