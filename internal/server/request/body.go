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
	"eastporch/internal/server/problem"
)

// JSON reads one JSON value into body. A field that body does not have, a
// wrong type and anything after the value are problems that name the place.
func JSON(c *gin.Context, body any, mayBeEmpty bool) error {
	text, err := io.ReadAll(c.Request.Body)
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

// Decode is [JSON] of a text; the error is [ErrNotUTF8] where that is all that is wrong.
func Decode(text []byte, body any) error {
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
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if _, err := decoder.Token(); err != nil { // the bracket
		return invalidJSON(err, nil, nil)
	}
	for decoder.More() {
		begin := decoder.InputOffset()
		err := do(func(body any) error {
			err := decoder.Decode(body)
			return invalidJSON(err, text[begin:decoder.InputOffset()], body)
		})
		if err != nil {
			return err
		}
	}
	_, err := decoder.Token()
	if err == nil && decoder.More() {
		err = errors.New("something follows the JSON object")
	}
	return invalidJSON(err, nil, nil)
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
