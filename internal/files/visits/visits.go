// Package visits writes visits to files and reads them back: CSV, NDJSON,
// GeoJSON (RFC 7946) and Parquet. Both go visit by visit, so that neither needs
// memory for more than a few.
//
// All formats hold whole visits: the flat ones have the facts that people ask for
// as columns, and beside them the card and the trail as JSON, which alone are
// read back. What cannot be read is said with its line, or row, and the rest goes
// on.
package visits

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/parquet-go/parquet-go"

	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// Types are the media types of the formats, by their words.
var Types = map[string]string{
	"csv": "text/csv; charset=utf-8", "ndjson": "application/x-ndjson", "geojson": "application/geo+json", "parquet": "application/vnd.apache.parquet",
}

// flat is a visit as a row of a table.
type flat struct {
	ID          string    `parquet:"id"`
	Time        time.Time `parquet:"time,timestamp(millisecond)"`
	Site        string    `parquet:"site,dict"`
	Path        string    `parquet:"path,dict"`
	Referrer    *string   `parquet:"referrer,optional"`
	UserAgent   *string   `parquet:"user_agent,optional,dict"`
	Link        *string   `parquet:"link,optional"`
	Destination *string   `parquet:"destination,optional"`
	Attributes  *string   `parquet:"attributes,optional"` // JSON
	Marks       string    `parquet:"marks"`               // with ; between
	Address     *string   `parquet:"address,optional"`
	Kind        *string   `parquet:"kind,optional,dict"`
	Level       string    `parquet:"level,dict"`
	CountryCode *string   `parquet:"country_code,optional,dict"`
	Basis       *string   `parquet:"basis,optional,dict"`
	RegionCode  *string   `parquet:"region_code,optional,dict"`
	City        *string   `parquet:"city,optional,dict"`
	Latitude    *float64  `parquet:"latitude,optional"`
	Longitude   *float64  `parquet:"longitude,optional"`
	RadiusKm    *float64  `parquet:"radius_km,optional"`
	TimeZone    *string   `parquet:"time_zone,optional,dict"`
	ASNumber    *int64    `parquet:"as_number,optional"`
	Operator    *string   `parquet:"operator,optional,dict"`
	Labels      string    `parquet:"labels,dict"` // with ; between
	Language    string    `parquet:"language,dict"`
	Card        string    `parquet:"card"`  // JSON
	Trail       string    `parquet:"trail"` // JSON
}

// columns are the names of flat's fields.
var columns = []string{
	"id", "time", "site", "path", "referrer", "user_agent", "link", "destination", "attributes", "marks", "address", "kind", "level", "country_code", "basis", "region_code", "city",
	"latitude", "longitude", "radius_km", "time_zone", "as_number", "operator", "labels", "language", "card", "trail",
}

func flatten(v visit.Visit) (flat, error) {
	c := v.Card
	card, err := json.Marshal(c)
	if err != nil {
		return flat{}, fmt.Errorf("card: %w", err)
	}
	trail, err := json.Marshal(v.Trail)
	if err != nil {
		return flat{}, fmt.Errorf("trail: %w", err)
	}
	f := flat{
		ID: v.ID.String(), Time: v.Time, Site: v.Site, Path: v.Path, Referrer: v.Referrer, UserAgent: v.UserAgent, Link: v.Link, Destination: v.Destination,
		Marks: strings.Join(v.Marks, ";"), Level: string(c.Location.Level), CountryCode: c.Location.CountryCode, Basis: c.Location.Basis, RegionCode: c.Location.RegionCode,
		City: c.Location.City, Latitude: c.Location.Latitude, Longitude: c.Location.Longitude, RadiusKm: c.Location.RadiusKm,
		TimeZone: c.Location.TimeZone, Operator: c.Network.Operator, Labels: strings.Join(c.Labels, ";"), Language: c.Locale.Language,
		Card: string(card), Trail: string(trail),
	}
	if len(v.Attributes) > 0 {
		text := string(v.Attributes)
		f.Attributes = &text
	}
	if c.Address.Text.IsValid() {
		text := c.Address.Text.String()
		f.Address = &text
	}
	if c.Address.Kind != nil {
		word := c.Address.Kind.String()
		f.Kind = &word
	}
	if n := c.Network.ASNumber; n != nil {
		wide := int64(*n)
		f.ASNumber = &wide
	}
	return f, nil
}

// visit reads a row back; the columns beside card and trail only say where and
// when the visit was.
func (f flat) visit() (v visit.Visit, err error) {
	if v.ID, err = uuid.Parse(f.ID); err != nil {
		return v, fmt.Errorf("id: %.40q is not a UUID", f.ID)
	}
	at, ok := visit.TimeOf(v.ID)
	if !ok {
		return v, fmt.Errorf("id: %s is not a UUID of version 7", v.ID)
	}
	v.Time, v.Site, v.Path, v.Referrer, v.UserAgent, v.Link, v.Destination, v.Earlier, v.Marks = at, f.Site, f.Path, f.Referrer, f.UserAgent, f.Link, f.Destination, []visit.EarlierFacts{}, []string{}
	if f.Marks != "" {
		v.Marks = strings.Split(f.Marks, ";")
	}
	if f.Attributes != nil {
		v.Attributes = json.RawMessage(*f.Attributes)
	}
	if err := json.Unmarshal([]byte(f.Card), &v.Card); err != nil {
		return v, fmt.Errorf("card: this is not JSON of a card: %w", err)
	}
	if err := json.Unmarshal([]byte(f.Trail), &v.Trail); err != nil {
		return v, fmt.Errorf("trail: this is not JSON of a trail: %w", err)
	}
	return v, nil
}

// A Writer writes visits. Close ends the file; it does not close what is below.
type Writer interface {
	Write(v visit.Visit) error
	Close() error
}

// NewWriter writes in a format of [Types]. Unless raw, a text that a spreadsheet
// would take for a formula is made harmless in CSV, by an apostrophe in front,
// and does not read back as it was.
func NewWriter(w io.Writer, format string, raw bool) (Writer, error) {
	out := bufio.NewWriterSize(w, 64<<10)
	switch format {
	case "csv":
		c := &csvWriter{out: out, w: csv.NewWriter(out), raw: raw}
		return c, c.w.Write(columns)
	case "ndjson":
		e := json.NewEncoder(out)
		e.SetEscapeHTML(false)
		return &ndjsonWriter{out, e}, nil
	case "geojson":
		return &geojsonWriter{out: out}, nil
	case "parquet":
		return &parquetWriter{out, parquet.NewGenericWriter[flat](out, parquet.Compression(&parquet.Zstd)), 0}, nil
	}
	return nil, fmt.Errorf("%.20q is not a format of visits: give csv, ndjson, geojson or parquet", format)
}

type csvWriter struct {
	out *bufio.Writer
	w   *csv.Writer
	raw bool
}

func (c *csvWriter) Write(v visit.Visit) error {
	f, err := flatten(v)
	if err != nil {
		return err
	}
	number := func(n *float64) string {
		if n == nil {
			return ""
		}
		return strconv.FormatFloat(*n, 'f', -1, 64)
	}
	asNumber := ""
	if f.ASNumber != nil {
		asNumber = strconv.FormatInt(*f.ASNumber, 10)
	}
	row := []string{
		f.ID, f.Time.Format("2006-01-02T15:04:05.000Z"), f.Site, f.Path, text(f.Referrer), text(f.UserAgent), text(f.Link), text(f.Destination), text(f.Attributes), f.Marks, text(f.Address), text(f.Kind),
		f.Level, text(f.CountryCode), text(f.Basis), text(f.RegionCode), text(f.City), number(f.Latitude), number(f.Longitude), number(f.RadiusKm), text(f.TimeZone),
		asNumber, text(f.Operator), f.Labels, f.Language, f.Card, f.Trail,
	}
	for i, cell := range row {
		if !c.raw {
			row[i] = plain.Guard(cell)
		}
	}
	return c.w.Write(row)
}

func (c *csvWriter) Close() error {
	c.w.Flush()
	return errors.Join(c.w.Error(), c.out.Flush())
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

type ndjsonWriter struct {
	out *bufio.Writer
	e   *json.Encoder
}

func (n *ndjsonWriter) Write(v visit.Visit) error { return n.e.Encode(v) }
func (n *ndjsonWriter) Close() error              { return n.out.Flush() }

type geojsonWriter struct {
	out   *bufio.Writer
	begun bool
}

type feature struct {
	Type       string      `json:"type"`
	ID         string      `json:"id"`
	Geometry   *geometry   `json:"geometry"`
	Properties visit.Visit `json:"properties"`
}

type geometry struct {
	Type        string     `json:"type"`
	Coordinates [2]float64 `json:"coordinates"` // longitude first
}

// Write writes a feature a line.
func (g *geojsonWriter) Write(v visit.Visit) error {
	head := ",\n"
	if !g.begun {
		head, g.begun = `{"type":"FeatureCollection","features":[`+"\n", true
	}
	f := feature{Type: "Feature", ID: v.ID.String(), Properties: v}
	if w := v.Card.Location; w.Latitude != nil && w.Longitude != nil {
		f.Geometry = &geometry{"Point", [2]float64{*w.Longitude, *w.Latitude}}
	}
	body, err := json.Marshal(f)
	if err != nil {
		return err
	}
	_, _ = g.out.WriteString(head) // the last write says what was wrong
	_, err = g.out.Write(body)
	return err
}

func (g *geojsonWriter) Close() error {
	if !g.begun {
		_, _ = g.out.WriteString(`{"type":"FeatureCollection","features":[`)
	}
	_, _ = g.out.WriteString("\n]}\n")
	return g.out.Flush()
}

// groupRows is how many rows a group of a Parquet file has.
const groupRows = 2000

type parquetWriter struct {
	out  *bufio.Writer
	w    *parquet.GenericWriter[flat]
	rows int
}

func (p *parquetWriter) Write(v visit.Visit) error {
	f, err := flatten(v)
	if err != nil {
		return err
	}
	if _, err := p.w.Write([]flat{f}); err != nil {
		return err
	}
	if p.rows++; p.rows%groupRows == 0 {
		return p.w.Flush()
	}
	return nil
}

func (p *parquetWriter) Close() error { return errors.Join(p.w.Close(), p.out.Flush()) }

// maxLine bounds, in bytes, a line of NDJSON or GeoJSON and a record of CSV, and
// maxChunk what one column of a group of a Parquet file may unpack to.
const (
	maxLine  = 1 << 20
	maxChunk = 32 << 20
)
