package source

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// Columns are the facts that a table may have, by our names: range, or first
// and last; those of a card; and labels, parted by semicolons. The country ZZ asks
// not to be located; without a country that of the point is taken.
var Columns = func() []string {
	list := []string{"range", "first", "last"}
	for _, f := range atlas.Facts {
		if f.Called != nil {
			list = append(list, f.Name)
		}
	}
	return append(list, "labels")
}()

// ReadTable reads a table with a head with [Read], its columns parted by commas, semicolons
// or tabs. mapping gives the table's own name of a column for one of [Columns];
// columns that are not in it go by our names, and others are passed over. Ranges
// and addresses may have any spelling of [addr.Read]. A bad row is kept in
// Rejects with the column and the reason; swapped coordinates are recognised. A
// quoted field may not hold a line break.
func ReadTable(r io.Reader, separator rune, mapping map[string]string, about atlas.About) (*atlas.Source, error) {
	format := CSV
	if separator == '\t' {
		format = TSV
	}
	return Read(r, ParseOptions{Format: format, Columns: mapping}, about)
}

// ReadRows reads rows from somewhere else, a database say, as [ReadTable] reads
// those of a table. The fields of each row stand as head names them.
func ReadRows(head []string, rows iter.Seq2[[]string, error], how ParseOptions, about atlas.About) (*atlas.Source, error) {
	about.Basis = atlas.TableClaim
	t, err := newTable(slices.Clone(head), how.Columns)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	return readRows(t, rows, how, about)
}

// table knows at which place of a row each fact stands.
type table struct {
	head   []string
	at     []int // by index in Columns; -1 for none
	others bool  // columns that are no fact stand in the head
	// separator parts the columns of CSV: a comma, or a semicolon where the head has more of these.
	separator byte
}

// Indexes in Columns.
var (
	colRange     = slices.Index(Columns, "range")
	colFirst     = slices.Index(Columns, "first")
	colLast      = slices.Index(Columns, "last")
	colCountry   = slices.Index(Columns, "country_code")
	colRegion    = slices.Index(Columns, "region_code")
	colCity      = slices.Index(Columns, "city")
	colLatitude  = slices.Index(Columns, "latitude")
	colLongitude = slices.Index(Columns, "longitude")
	colRadius    = slices.Index(Columns, "radius_km")
	colZone      = slices.Index(Columns, "time_zone")
	colNumber    = slices.Index(Columns, "as_number")
	colOperator  = slices.Index(Columns, "operator")
	colLabels    = slices.Index(Columns, "labels")
)

// given are the facts that are taken as they stand, and their columns.
var given = func() (list []givenFact) {
	for i := range atlas.Facts {
		if f := &atlas.Facts[i]; f.Given {
			list = append(list, givenFact{f, slices.Index(Columns, f.Name)})
		}
	}
	return list
}()

type givenFact struct {
	*atlas.Fact
	column int // by index in Columns
}

// head reads the first line of a table. JSON Lines have none: the names of the
// mapping and ours are the columns.
func (c *cutter) head(how ParseOptions, about atlas.About) (*table, error) {
	var head []string
	separator := byte(',')
	if how.Format == JSONLines {
		for _, fact := range Columns {
			name := how.Columns[fact]
			if name == "" {
				name = fact
			}
			head = append(head, name)
		}
	} else {
		first, err := c.firstLine()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", about.Name, err)
		}
		var fields [][]byte
		separator = separatorOf(first)
		if how.Format == TSV {
			fields = split(nil, first, '\t')
		} else if fields, err = quoted(nil, first, separator); err != nil {
			return nil, fmt.Errorf("%s: the head of the table: %w", about.Name, err)
		}
		for _, f := range fields {
			head = append(head, string(f))
		}
	}
	t, err := newTable(head, how.Columns)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	t.separator = separator
	return t, nil
}

// separatorOf says what parts the columns under a head of CSV.
func separatorOf(head []byte) byte {
	if bytes.Count(head, []byte{';'}) > bytes.Count(head, comma) {
		return ';'
	}
	return ','
}

// firstLine takes the first line that is not empty off what is to be cut.
func (c *cutter) firstLine() ([]byte, error) {
	buf := make([]byte, 0, maxLine+1)
	for {
		if i := bytes.IndexByte(buf, '\n'); i >= 0 {
			line := bytes.TrimSpace(bytes.TrimPrefix(buf[:i], byteOrderMark))
			c.line++
			buf = buf[i+1:]
			if len(line) > 0 {
				c.rest = bytes.Clone(buf)
				return line, nil
			}
			continue
		}
		if len(buf) > maxLine {
			return nil, fmt.Errorf("the first line is longer than %d bytes: this is not range data", maxLine)
		}
		n, err := c.r.Read(buf[len(buf):min(cap(buf), len(buf)+4096)])
		buf = buf[:len(buf)+n]
		if err != nil && n == 0 {
			if line := bytes.TrimSpace(buf); len(line) > 0 && errors.Is(err, io.EOF) {
				c.line++
				return bytes.TrimPrefix(line, byteOrderMark), nil
			}
			return nil, fmt.Errorf("the table has no head: %w", err)
		}
	}
}

func newTable(head []string, mapping map[string]string) (*table, error) {
	t := &table{head: head, at: make([]int, len(Columns))}
	for i, name := range head {
		head[i] = strings.TrimSpace(strings.TrimPrefix(name, "\ufeff"))
	}
	for fact := range mapping {
		if !slices.Contains(Columns, fact) {
			return t, fmt.Errorf("%q is not a fact that a column can be for: known are %s", fact, strings.Join(Columns, ", "))
		}
	}
	used := 0
	for f, fact := range Columns {
		name, mapped := mapping[fact]
		if !mapped {
			name = fact
		}
		t.at[f] = slices.Index(head, name)
		if t.at[f] >= 0 {
			used++
		} else if mapped {
			return t, fmt.Errorf("the table has no column %q for %s: its columns are %s", name, fact, strings.Join(head, ", "))
		}
	}
	t.others = used < len(head)
	if t.at[colRange] < 0 && (t.at[colFirst] < 0 || t.at[colLast] < 0) {
		return t, fmt.Errorf("no column holds the range: map range, or first and last, to one of %s", strings.Join(head, ", "))
	}
	return t, nil
}

func (t *table) rows(format Format) rowFormat {
	switch format {
	case TSV:
		return &tableRows{t: t, separator: '\t'}
	case JSONLines:
		return &jsonRows{tableRows: tableRows{t: t}}
	}
	return &tableRows{t: t, separator: cmp.Or(t.separator, ','), quotes: true}
}

// tableRows reads the rows of a table.
type tableRows struct {
	t         *table
	separator byte
	quotes    bool
	parts     [][]byte // the fields of the row
	whole     []byte   // or what of it follows the range
	key       []byte
}

func (r *tableRows) row(line []byte) (span rangeText, key []byte, skip bool, err error) {
	if len(bytes.TrimSpace(line)) == 0 {
		return span, nil, true, nil
	}
	isQuoted := r.quotes && bytes.IndexByte(line, '"') >= 0
	if r.t.at[colRange] == 0 && !r.t.others && !isQuoted { // the rest of the line is the key
		if first, rest, ok := bytes.Cut(line, []byte{r.separator}); ok && len(first) > 0 {
			r.whole = rest
			return rangeText{first: first}, rest, false, nil
		}
	}
	r.whole = nil
	if isQuoted {
		if r.parts, err = quoted(r.parts[:0], line, r.separator); err != nil {
			return span, nil, false, err
		}
	} else {
		r.parts = split(r.parts[:0], line, r.separator)
	}
	span, key = r.ranged()
	return span, key, false, nil
}

// fields takes a row that is apart already.
func (r *tableRows) fields(fields []string) (rangeText, []byte) {
	r.parts = r.parts[:0]
	for _, f := range fields {
		r.parts = append(r.parts, []byte(f))
	}
	return r.ranged()
}

// ranged gives the range of a row, and as its key all facts but the range.
func (r *tableRows) ranged() (span rangeText, key []byte) {
	r.key = r.key[:0]
	for f := colCountry; f < len(r.t.at); f++ {
		r.key = append(append(r.key, r.get(f)...), '\x1f')
	}
	span.first = r.get(colRange)
	if len(span.first) == 0 && r.t.at[colFirst] >= 0 {
		span.first, span.last = r.get(colFirst), r.get(colLast)
		if span.last == nil {
			span.last = []byte{}
		}
	}
	return span, r.key
}

func (r *tableRows) get(f int) []byte {
	if i := r.t.at[f]; i >= 0 && i < len(r.parts) {
		return bytes.TrimSpace(r.parts[i])
	}
	return nil
}

func (r *tableRows) place() (p atlas.Place, remark string, passed bool, err error) {
	if r.whole != nil {
		r.parts = split(append(r.parts[:0], nil), r.whole, r.separator)
	}
	text := func(f int) string { return string(r.get(f)) }
	p.Country, p.Region, p.City = strings.ToUpper(text(colCountry)), strings.ToUpper(text(colRegion)), plain.Clean(text(colCity), 200)
	for _, f := range given {
		f.Fill(&p, text(f.column))
	}
	if p.Point, err = ReadPoint(text(colLatitude), text(colLongitude)); err != nil {
		return p, "", false, err
	}
	switch {
	case p.Country == "ZZ":
		p = atlas.Place{DoNotLocate: true}
	case p.Country != "":
		if err := almanac.CheckCode(p.Country); err != nil {
			return p, "", false, fmt.Errorf("country_code: %w", err)
		}
	case p.Point != nil:
		if err := takeCountry(&p); err != nil {
			return p, "", false, err
		}
	case p.Region+p.City != "":
		return p, "", false, errors.New("country_code: a region or city stands there without a country")
	}
	remark = checkRegion(&p)
	if p.Point != nil && !p.ByPoint && swapped(&p) {
		p.Point, remark = nil, joinRemarks(remark, fmt.Sprintf("the coordinates lie far from %s and would lie in it if latitude and longitude were swapped; they were dropped", p.Country))
	}
	radius, err := number("radius_km", text(colRadius), 0, 20_100)
	if err != nil {
		return p, "", false, err
	}
	zone := text(colZone)
	if zone != "" {
		if _, err := time.LoadLocation(zone); err != nil {
			return p, "", false, fmt.Errorf("time_zone: %.40q is not a zone of the IANA database", zone)
		}
	}
	if !p.DoNotLocate {
		p.RadiusKm, p.Zone = radius, zone
	}
	p.Operator = plain.Clean(text(colOperator), 200)
	if as := text(colNumber); as != "" {
		n, err := strconv.ParseUint(strings.TrimPrefix(strings.ToUpper(as), "AS"), 10, 32)
		if err != nil || n == 0 {
			return p, "", false, fmt.Errorf("as_number: %.20q is not an AS number", as)
		}
		p.AsNumber = uint32(n)
	}
	p.Labels = readLabels(text(colLabels))
	if !p.Locates() && !p.Names() && len(p.Labels) == 0 {
		return p, "", false, errors.New("the row says nothing of its range")
	}
	return p, remark, false, nil
}

// readLabels reads labels, which may hold spaces, with semicolons between them.
func readLabels(text string) (labels []string) {
	for label := range strings.SplitSeq(text, ";") {
		if label = plain.Clean(strings.TrimSpace(label), 60); label != "" {
			labels = append(labels, label)
		}
	}
	return labels
}

// farthest is how far a point may be from every town and still have a country, in km.
const farthest = 300

// takeCountry takes the country of the town that is nearest to the point.
func takeCountry(p *atlas.Place) error {
	near := gazetteer.Near(*p.Point, 1, 0)
	if len(near) == 0 || near[0].Km > farthest {
		return fmt.Errorf("country_code: none stands there, and no town is within %d km of the point", farthest)
	}
	p.Country, p.ByPoint = near[0].Country, true
	return nil
}

// ReadPoint reads a point from the texts of its coordinates; nil where both are empty.
func ReadPoint(lat, lon string) (*geo.Point, error) {
	if lat == "" && lon == "" {
		return nil, nil
	}
	latitude, err := number("latitude", lat, -180, 180)
	if err != nil {
		return nil, err
	}
	longitude, err := number("longitude", lon, -180, 180)
	switch {
	case err != nil:
		return nil, err
	case lat == "" || lon == "":
		return nil, errors.New("latitude, longitude: one stands there without the other")
	case math.Abs(latitude) > 90 && math.Abs(longitude) <= 90:
		return nil, fmt.Errorf("latitude: %s is beyond 90 degrees; are latitude and longitude swapped?", lat)
	case math.Abs(latitude) > 90:
		return nil, fmt.Errorf("latitude: %s is beyond 90 degrees", lat)
	}
	return &geo.Point{Latitude: latitude, Longitude: longitude}, nil
}

// swapped says whether the point lies far from its country, and would not with
// latitude and longitude swapped.
func swapped(p *atlas.Place) bool {
	area, ok := gazetteer.Country(p.Country)
	if !ok || math.Abs(p.Point.Latitude-area.Middle.Latitude) < 10 && math.Abs(p.Point.Longitude-area.Middle.Longitude) < 15 {
		return false
	}
	other := geo.Point{Latitude: p.Point.Longitude, Longitude: p.Point.Latitude}
	near := func(q geo.Point) bool { return geo.DistanceKm(area.Middle, q) < 300+2*area.RadiusKm }
	return other.Valid() && !near(*p.Point) && near(other)
}

func joinRemarks(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

func number(fact, text string, least, most float64) (float64, error) {
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsNaN(n) || n < least || n > most {
		return 0, fmt.Errorf("%s: %.20q is not a number from %g to %g", fact, text, least, most)
	}
	return n, nil
}
