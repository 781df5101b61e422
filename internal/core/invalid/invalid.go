// Package invalid has the error of input that is wrong: which field, why, and what would be
// right.
package invalid

import (
	"fmt"
	"strings"
)

// A FieldError says what is wrong with a field of a request.
type FieldError struct {
	Field  string
	Reason string // worded to follow the field and a colon, without a full stop
	Hint   string // what to give instead, in a sentence
}

// Error gives the field and the reason.
func (e *FieldError) Error() string { return e.Field + ": " + e.Reason }

// Field makes a [FieldError].
func Field(field, reason, hint string) error { return &FieldError{field, reason, hint} }

// Word refuses what is none of some words.
func Word(field, word string, words []string) error {
	return Field(field, fmt.Sprintf("%.40q is none of its words", word), "Give "+strings.Join(words, ", ")+".")
}
