package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

func (a *api) listVisits(c *gin.Context) {
	limit, before, err := pageOf(c)
	switch order := c.Query("order"); {
	case order == "sequence":
		limit, err = intOf(c, "limit", 50, 1, 500) // whose cursor is not an id
	case order != "" && order != "time":
		err = invalidField("order", fmt.Sprintf("%.20q is not an order", order), "Give time or sequence.")
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	f, count, ok := a.counted(c)
	if !ok {
		return
	}
	if c.Query("order") == "sequence" {
		a.listStored(c, f, count, limit)
		return
	}
	visits, err := a.Store.Visits(c, f, before, limit+1)
	if err != nil {
		a.fail(c, err)
		return
	}
	var next *string
	if len(visits) > limit {
		visits = visits[:limit]
		id := visits[limit-1].ID.String()
		next = &id
	}
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, gin.H{"visits": append([]visit.Visit{}, visits...), "next": next, "count": count})
}

// listStored lists visits in the order in which they were stored, the oldest
// first. Nothing is ever stored before a cursor, however late it was reported, so
// that whoever copies visits elsewhere misses none.
func (a *api) listStored(c *gin.Context, f visit.Filter, count visit.Count, limit int) {
	after, err := int64(0), error(nil)
	if text := c.Query("cursor"); text != "" {
		if after, err = strconv.ParseInt(text, 10, 64); err != nil || after < 0 {
			a.fail(c, invalidField("cursor", fmt.Sprintf("%.20q is not a sequence number", text), "Give the next of the page before."))
			return
		}
	}
	list, err := a.Store.StoredAfter(c, f, after, limit)
	if err != nil {
		a.fail(c, err)
		return
	}
	visits := []visit.Visit{}
	for _, one := range list {
		visits = append(visits, one.Visit)
		after = one.Sequence
	}
	next := strconv.FormatInt(after, 10) // also of the last page: more will come
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, gin.H{"visits": visits, "next": next, "count": count})
}

func (a *api) getVisit(c *gin.Context) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		a.fail(c, invalidField("id", "this is not a UUID", "Give the id of a visit."))
		return
	}
	a.settle(c)
	v, err := a.Store.Visit(c, id)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, v)
}

// settleWithin bounds how long a question waits for visits that were accepted.
const settleWithin = time.Second

// settle waits for visits that were accepted before, so that whoever has sent
// one finds it.
func (a *api) settle(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c, settleWithin)
	defer cancel()
	a.Intake.Settle(ctx)
}

// counted reads the filter of a list or report and counts what it picks; where
// ok is false the request has been answered with the problem.
func (a *api) counted(c *gin.Context) (f visit.Filter, count visit.Count, ok bool) {
	f, err := a.filter(c)
	if err == nil {
		a.settle(c)
		count, err = a.Store.Count(c, f, a.Now())
	}
	if err != nil {
		a.fail(c, err)
	}
	return f, count, err == nil
}

// filter reads the query of a list or report.
func (a *api) filter(c *gin.Context) (visit.Filter, error) {
	f := visit.Filter{
		Site: c.Query("site"), CountryCode: c.Query("country_code"), City: c.Query("city"),
		Level: atlas.Level(c.Query("level")), Path: c.Query("path"), RegionCode: c.Query("region_code"),
		Referrer: c.Query("referrer"), Language: c.Query("language"), TimeZone: c.Query("time_zone"), Network: c.Query("network"),
		Label: c.Query("label"), Link: c.Query("link"), Mark: c.Query("mark"),
	}
	if _, ok := a.sites[f.Site]; !ok {
		return f, invalidField("site", fmt.Sprintf("%.64q is not a configured site", f.Site), "Configured are "+a.siteList()+".")
	}
	for name, at := range map[string]*time.Time{"from": &f.From, "to": &f.To} {
		if text := c.Query(name); text != "" {
			t, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return f, invalidField(name, fmt.Sprintf("%.40q is not a time", text), "Write it like 2026-11-14T06:00:00Z.")
			}
			*at = t
		}
	}
	if f.CountryCode != "" {
		if err := almanac.CheckCode(f.CountryCode); err != nil {
			return f, invalidField("country_code", err.Error(), "Give an alpha-2 code of ISO 3166-1.")
		}
	}
	switch f.Level {
	case "", atlas.City, atlas.Region, atlas.Country, atlas.Continent, atlas.None:
	default:
		return f, invalidField("level", fmt.Sprintf("%.20q is not a level", string(f.Level)), "Give city, region, country, continent or none.")
	}
	if text := c.Query("skipped"); text != "" {
		aside, err := strconv.ParseBool(text)
		if err != nil {
			return f, invalidField("skipped", fmt.Sprintf("%.20q is neither true nor false", text), "Give true or false.")
		}
		f.Skipped = &aside
	}
	if f.Mark != "" && !slices.Contains(visit.MarkWords, f.Mark) {
		return f, invalidField("mark", fmt.Sprintf("%.20q is not a mark", f.Mark), "Give "+strings.Join(visit.MarkWords, ", ")+".")
	}
	if text := c.Query("prefix"); text != "" {
		prefix, err := addr.ParsePrefix(text)
		if err != nil {
			return f, invalidField("prefix", err.Error(), "Give an address, or a prefix such as 198.18.3.0/24.")
		}
		f.Within = prefix
	}
	if !f.From.IsZero() && !f.To.IsZero() && !f.From.Before(f.To) {
		return f, invalidField("to", "it is not after from", "Give a later time, or leave one of the two out.")
	}
	for name, text := range map[string]string{
		"city": f.City, "path": f.Path, "region_code": f.RegionCode, "referrer": f.Referrer, "language": f.Language,
		"time_zone": f.TimeZone, "network": f.Network, "label": f.Label, "link": f.Link,
	} {
		if err := plain.Check(text, visit.MaxPath); err != nil {
			return f, invalidField(name, err.Error(), "Give it as plain text.")
		}
	}
	return f, nil
}

// readJSON reads one JSON value into body. A field that body does not have, a
// wrong type and anything after the value are problems that name the place.
func readJSON(c *gin.Context, body any, mayBeEmpty bool) error {
	text, err := io.ReadAll(c.Request.Body)
	if err != nil {
		return err
	}
	if mayBeEmpty && len(bytes.TrimSpace(text)) == 0 {
		return nil
	}
	if err = decode(text, body); errors.Is(err, errNotUTF8) {
		return noJSON("It is not valid UTF-8.")
	}
	return err
}

// decode is readJSON of a text; the error is [errNotUTF8] where that is all that is wrong.
func decode(text []byte, body any) error {
	if len(bytes.TrimSpace(text)) == 0 {
		return badRequest("invalid-json", "Invalid JSON", "The body is empty.", "Send a JSON object.")
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(body)
	if err == nil && decoder.More() {
		err = errors.New("something follows the JSON object")
	}
	return invalidJSON(err, text)
}

// eachOf reads a list of JSON, element by element: do gets what decodes the next, as decode
// does, and has to call it. An error of do ends the reading.
func eachOf(text []byte, do func(decode func(any) error) error) error {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if _, err := decoder.Token(); err != nil { // the bracket
		return invalidJSON(err, nil)
	}
	for decoder.More() {
		begin := decoder.InputOffset()
		err := do(func(body any) error {
			err := decoder.Decode(body)
			return invalidJSON(err, text[begin:decoder.InputOffset()])
		})
		if err != nil {
			return err
		}
	}
	_, err := decoder.Token()
	if err == nil && decoder.More() {
		err = errors.New("something follows the JSON object")
	}
	return invalidJSON(err, nil)
}

// Of what is read as JSON: it is none, after which nothing more can be read; or it is, but is not
// UTF-8, and U+FFFD was read in place of what is not.
var (
	errNoJSON  = errors.New("no JSON")
	errNotUTF8 = errors.New("not UTF-8")
)

// invalidJSON says what is wrong with JSON that err came from, which may be nil.
func invalidJSON(err error, text []byte) error {
	var wrongType *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case err == nil && !utf8.Valid(text):
		return errNotUTF8
	case err == nil:
		return nil
	case errors.As(err, &wrongType):
		field := strings.TrimPrefix(wrongType.Field, "seen.")
		if field == "" {
			field = "body"
		}
		return invalidField(field, fmt.Sprintf("expected %s, got %s", jsonKind(wrongType.Type), article(strings.Fields(wrongType.Value)[0])), "See /openapi.json for its type.")
	case errors.As(err, &syntax):
		return noJSON(fmt.Sprintf("At byte %d: %s.", syntax.Offset, syntax))
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	if field, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		return invalidField(strings.Trim(field, `"`), "this field is not known", "See /openapi.json for the fields.")
	}
	return noJSON(strings.TrimPrefix(err.Error(), "json: ") + ".")
}

func noJSON(detail string) problem {
	p := badRequest("invalid-json", "Invalid JSON", detail, "Send a JSON object.")
	p.cause = errNoJSON
	return p
}

// jsonKind names what JSON a Go type is read from.
func jsonKind(t reflect.Type) string {
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
	}
	return "a number"
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
