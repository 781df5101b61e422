// Package request reads requests: their bodies, and what stands in their addresses and headers.
// What is wrong with them is an [invalid.FieldError] or a [problem.Problem].
package request

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/jsonin"
	"eastporch/internal/server/problem"
)

// Body reads all of a body.
func Body(c *gin.Context) ([]byte, error) {
	const most = 1 << 20 // that is made room for because a request says so
	room := max(512, min(c.Request.ContentLength+bytes.MinRead, most))
	text := bytes.NewBuffer(make([]byte, 0, room))
	_, err := text.ReadFrom(c.Request.Body)
	return text.Bytes(), err
}

// JSON reads one JSON value into body. A field that body does not have, a
// wrong type and anything after the value are problems that name the place.
func JSON(c *gin.Context, body any, mayBeEmpty bool) error {
	text, err := Body(c)
	if err != nil {
		return err
	}
	if mayBeEmpty && len(bytes.TrimSpace(text)) == 0 {
		return nil
	}
	if err = Decode(text, body); errors.Is(err, ErrNotUTF8) {
		return noJSON("It is not valid UTF-8.")
	}
	return err
}

// byHand is what can be read by hand where it is written in plain JSON.
type byHand interface {
	ReadPlain(r *jsonin.Reader) bool
}

// Decode is [JSON] of a text; the error is [ErrNotUTF8] where that is all that is wrong.
func Decode(text []byte, body any) error {
	if by, ok := body.(byHand); ok {
		if r := jsonin.Read(text); by.ReadPlain(&r) && r.AtEnd() {
			return nil
		}
	}
	if len(bytes.TrimSpace(text)) == 0 {
		return problem.BadRequest("invalid-json", "Invalid JSON", "The body is empty.", "Send a JSON object.")
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(body)
	if err == nil && decoder.More() {
		err = errors.New("something follows the JSON object")
	}
	return invalidJSON(err, text, body)
}

// EachOf reads a list of JSON, element by element: do gets what decodes the next, as [Decode]
// does, and has to call it. An error of do ends the reading.
func EachOf(text []byte, do func(decode func(any) error) error) error {
	l := &list{text: text, by: jsonin.Read(text)}
	if !l.by.Mark('[') || l.by.AtEnd() {
		l.slow()
	}
	for l.more() {
		if err := do(l.decode); err != nil {
			return err
		}
		l.read++
	}
	if l.decoder == nil {
		return nil
	}
	_, err := l.decoder.Token()
	if err == nil && l.decoder.More() {
		err = errors.New("something follows the JSON object")
	}
	return invalidJSON(err, nil, nil)
}

// A list is read by hand as long as it is plain, and by a decoder from then on.
type list struct {
	text    []byte
	by      jsonin.Reader
	read    int // elements
	decoder *json.Decoder
}

// slow has the rest read by a decoder, which reads again what was read, so that it tells where it is.
func (l *list) slow() {
	l.decoder = json.NewDecoder(bytes.NewReader(l.text))
	l.decoder.DisallowUnknownFields()
	_, _ = l.decoder.Token() // the bracket
	for range l.read {
		var past json.RawMessage
		_ = l.decoder.Decode(&past) // which was read
	}
}

// more says whether another element comes.
func (l *list) more() bool {
	if l.decoder == nil {
		switch ends := l.by.Mark(']'); {
		case ends && l.by.AtEnd():
			return false
		case !ends && (l.read == 0 || l.by.Mark(',')):
			return true
		}
		l.slow()
	}
	return l.decoder.More()
}

func (l *list) decode(body any) error {
	if l.decoder == nil {
		if p, ok := body.(byHand); ok && p.ReadPlain(&l.by) {
			return nil
		}
		l.slow()
	}
	begin := l.decoder.InputOffset()
	err := l.decoder.Decode(body)
	return invalidJSON(err, l.text[begin:l.decoder.InputOffset()], body)
}

// Of what is read as JSON: it is none, after which nothing more can be read; or it is, but is not
// UTF-8, and U+FFFD was read in place of what is not.
var (
	ErrNoJSON  = errors.New("no JSON")
	ErrNotUTF8 = errors.New("not UTF-8")
)

// invalidJSON says what is wrong with JSON that err came from, which may be nil, when it was read
// into body.
func invalidJSON(err error, text []byte, body any) error {
	var wrongType *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case err == nil && !utf8.Valid(text):
		return ErrNotUTF8
	case err == nil:
		return nil
	case errors.As(err, &wrongType):
		field := strings.TrimPrefix(wrongType.Field, "seen.")
		if field == "" {
			field = "body"
		}
		return invalid.Field(field, fmt.Sprintf("expected %s, got %s", jsonKind(wrongType.Type), article(strings.Fields(wrongType.Value)[0])), "See /openapi.json for its type.")
	case errors.As(err, &syntax):
		return noJSON(fmt.Sprintf("At byte %d: %s.", syntax.Offset, syntax))
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	if field, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		return unknown(strings.Trim(field, `"`), body)
	}
	return noJSON(strings.TrimPrefix(err.Error(), "json: ") + ".")
}

func noJSON(detail string) problem.Problem {
	p := problem.BadRequest("invalid-json", "Invalid JSON", detail, "Send a JSON object.")
	p.Cause = ErrNoJSON
	return p
}

// jsonKind names what JSON a Go type is read from.
func jsonKind(t reflect.Type) string {
	if own, ok := reflect.Zero(t).Interface().(interface{ JSONKind() string }); ok {
		return own.JSONKind()
	}
	switch t.Kind() {
	case reflect.Pointer:
		return jsonKind(t.Elem())
	case reflect.Slice, reflect.Array:
		if t.Elem().Kind() == reflect.Uint8 { // netip, UUIDs and the like are texts
			return "a string"
		}
		return "an array"
	case reflect.Map, reflect.Struct:
		return "an object"
	case reflect.Bool:
		return "a boolean"
	case reflect.String:
		return "a string"
	case reflect.Float32, reflect.Float64:
		return "a number"
	}
	return "a whole number"
}

// article puts a or an before a kind of JSON.
func article(kind string) string {
	switch kind {
	case "array", "object":
		return "an " + kind
	case "bool":
		return "a boolean"
	}
	return "a " + kind
}
