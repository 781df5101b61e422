// Package visitfile writes visits to files and reads them back: CSV, NDJSON,
// GeoJSON (RFC 7946) and Parquet. Both go visit by visit, so that neither needs
// memory for more than a few.
//
// All formats hold whole visits: the flat ones have the facts that people ask for
// as columns, and beside them the card and the trail as JSON, which alone are
// read back. What cannot be read is said with its line, or row, and the rest goes
// on.
package visitfile

import (
	"bufio"
	"bytes"
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
	Attributes  *string   `parquet:"attributes,optional"` // JSON
	Marks       string    `parquet:"marks"`               // with ; between
	Address     *string   `parquet:"address,optional"`
	Kind        *string   `parquet:"kind,optional,dict"`
	Level       string    `parquet:"level,dict"`
	CountryCode *string   `parquet:"country_code,optional,dict"`
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
	"id", "time", "site", "path", "referrer", "user_agent", "link", "attributes", "marks", "address", "kind", "level", "country_code", "region_code", "city",
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
		ID: v.ID.String(), Time: v.Time, Site: v.Site, Path: v.Path, Referrer: v.Referrer, UserAgent: v.UserAgent, Link: v.Link,
		Marks: strings.Join(v.Marks, ";"), Level: string(c.Location.Level), CountryCode: c.Location.CountryCode, RegionCode: c.Location.RegionCode,
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
	v.Time, v.Site, v.Path, v.Referrer, v.UserAgent, v.Link, v.Earlier, v.Marks = at, f.Site, f.Path, f.Referrer, f.UserAgent, f.Link, []visit.EarlierFacts{}, []string{}
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
		f.ID, f.Time.Format("2006-01-02T15:04:05.000Z"), f.Site, f.Path, text(f.Referrer), text(f.UserAgent), text(f.Link), text(f.Attributes), f.Marks, text(f.Address), text(f.Kind),
		f.Level, text(f.CountryCode), text(f.RegionCode), text(f.City), number(f.Latitude), number(f.Longitude), number(f.RadiusKm), text(f.TimeZone),
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

// ErrTooLong is wrapped where a line or record is longer than 1 MB.
var ErrTooLong = errors.New("it is longer than 1 MB")

// Read calls do for every visit of a file, with its line or row, counted from 1.
// What is not a visit has an error instead, which does not end the reading; what do
// gives back does, and so does a file that cannot be read on. Parquet is read from
// a file alone.
func Read(r io.Reader, format string, do func(line int, v visit.Visit, err error) error) error {
	switch format {
	case "csv":
		return readCSV(r, do)
	case "ndjson", "geojson":
		return readLines(r, format == "geojson", do)
	case "parquet":
		file, ok := r.(interface {
			io.ReaderAt
			io.Seeker
		})
		if !ok {
			return errors.New("a Parquet file is read from its end, and this one has none yet")
		}
		return readParquet(file, do)
	}
	return fmt.Errorf("%.20q is not a format of visits: give csv, ndjson, geojson or parquet", format)
}

func readCSV(r io.Reader, do func(int, visit.Visit, error) error) error {
	bound := &recordReader{r: r}
	c := csv.NewReader(bufio.NewReaderSize(bound, 64<<10))
	c.ReuseRecord = true
	head, err := c.Read()
	if err != nil {
		return fmt.Errorf("the line of names: %w", err)
	}
	at := map[string]int{}
	for i, name := range head {
		at[strings.TrimPrefix(name, "\ufeff")] = i
	}
	for _, name := range []string{"id", "site", "path", "card", "trail"} {
		if _, ok := at[name]; !ok {
			return fmt.Errorf("the column %q is missing: give a file that visits export has written", name)
		}
	}
	for line := 1; ; {
		bound.read = 0
		row, err := c.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if errors.Is(err, ErrTooLong) {
			return fmt.Errorf("the record after line %d: %w; perhaps a quote is not closed", line, ErrTooLong)
		}
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			line = wrong.Line
			if err := do(wrong.StartLine, visit.Visit{}, wrong.Err); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		line, _ = c.FieldPos(0)
		cell := func(name string) string {
			if i, ok := at[name]; ok && i < len(row) {
				return row[i]
			}
			return ""
		}
		optional := func(name string) *string {
			if s := cell(name); s != "" {
				return &s
			}
			return nil
		}
		v, err := flat{
			ID: cell("id"), Site: cell("site"), Path: cell("path"), Referrer: optional("referrer"), UserAgent: optional("user_agent"), Link: optional("link"),
			Attributes: optional("attributes"), Marks: cell("marks"), Card: cell("card"), Trail: cell("trail"),
		}.visit()
		if err := do(line, v, err); err != nil {
			return err
		}
	}
}

// recordReader ends where a record takes more than [maxLine] bytes, which a quote that was
// left open does: a record is kept in memory until it is whole.
type recordReader struct {
	r    io.Reader
	read int // since the record began, and a buffer at the most
}

func (b *recordReader) Read(p []byte) (int, error) {
	if b.read > maxLine {
		return 0, ErrTooLong
	}
	n, err := b.r.Read(p)
	b.read += n
	return n, err
}

func readLines(r io.Reader, features bool, do func(int, visit.Visit, error) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	line := 1
	for ; lines.Scan(); line++ {
		body := bytes.TrimSpace(lines.Bytes())
		var v visit.Visit
		var err error
		if features {
			body = bytes.TrimSuffix(body, []byte(","))
			if !bytes.HasPrefix(body, []byte(`{"type":"Feature",`)) {
				continue // what is around the features
			}
			var f feature
			err = json.Unmarshal(body, &f)
			v = f.Properties
		} else if len(body) > 0 {
			err = json.Unmarshal(body, &v)
		} else {
			continue
		}
		if string(v.Attributes) == "null" {
			v.Attributes = nil
		}
		if at, ok := visit.TimeOf(v.ID); err == nil && ok {
			v.Time = at
		} else if err == nil {
			err = fmt.Errorf("id: %s is not a UUID of version 7", v.ID)
		}
		if err := do(line, v, err); err != nil {
			return err
		}
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return fmt.Errorf("line %d: %w", line, ErrTooLong)
	}
	return lines.Err()
}

func readParquet(r interface {
	io.ReaderAt
	io.Seeker
}, do func(int, visit.Visit, error) error,
) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the Parquet file is damaged: %v", p)
		}
	}()
	size, err := r.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	f, err := parquet.OpenFile(r, size)
	if err != nil {
		return fmt.Errorf("the Parquet file: %w", err)
	}
	for i, group := range f.Metadata().RowGroups {
		for _, column := range group.Columns {
			if m := column.MetaData; m.TotalUncompressedSize > maxChunk {
				return fmt.Errorf("the Parquet file: in row group %d the column %s has %d bytes, %d are read: write smaller groups", i+1, strings.Join(m.PathInSchema, "."), m.TotalUncompressedSize, maxChunk)
			}
		}
	}
	rows := parquet.NewGenericReader[flat](f)
	defer rows.Close()
	buffer := make([]flat, 64)
	for line := 1; ; {
		n, err := rows.Read(buffer)
		for _, row := range buffer[:n] {
			v, bad := row.visit()
			if err := do(line, v, bad); err != nil {
				return err
			}
			line++
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the Parquet file: %w", err)
		}
	}
}
