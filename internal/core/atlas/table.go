package atlas

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// Columns are the facts that a table may have, by our names: range, or first
// and last; and those of a card.
var Columns = []string{
	"range", "first", "last", "country_code", "region_code", "city", "latitude", "longitude", "radius_km", "time_zone", "as_number", "operator",
}

// ReadTable reads a table with a head, its columns parted by separator. mapping
// gives the table's own name of a column for one of [Columns]; columns that are
// not in it go by our names, and others are passed over. Ranges and addresses
// may have any spelling of [addr.Read]. A bad row is kept in Rejects with the
// column and the reason; swapped coordinates are recognised.
func ReadTable(r io.Reader, separator rune, mapping map[string]string, about About) (*Source, error) {
	about.Basis = TableClaim
	b := newBuilder(about)
	rows := csv.NewReader(r)
	rows.Comma, rows.FieldsPerRecord, rows.LazyQuotes, rows.ReuseRecord = separator, -1, separator == '\t', true
	head, err := rows.Read()
	if err != nil {
		return nil, fmt.Errorf("%s: the table has no head: %w", about.Name, err)
	}
	t, err := newTable(slices.Clone(head), mapping)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	b.digest(strings.Join(head, "\x1f"))
	for {
		fields, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return b.build()
		}
		b.source.Rows++
		var broken *csv.ParseError
		switch {
		case errors.As(err, &broken):
			b.reject(broken.StartLine, "", broken.Err.Error())
			continue
		case err != nil:
			return nil, err
		}
		line, _ := rows.FieldPos(0)
		text := strings.Join(fields, string(separator))
		b.digest(text)
		rec, remark, err := t.record(fields)
		if err != nil {
			b.reject(line, text, err.Error())
			continue
		}
		if remark != "" {
			b.remark(line, text, remark)
		}
		b.add(line, text, rec)
	}
}

// table knows at which place of a row each fact stands.
type table struct{ at map[string]int }

func newTable(head []string, mapping map[string]string) (table, error) {
	t := table{at: map[string]int{}}
	for i, name := range head {
		head[i] = strings.TrimSpace(strings.TrimPrefix(name, "\ufeff"))
	}
	for fact := range mapping {
		if !slices.Contains(Columns, fact) {
			return t, fmt.Errorf("%q is no fact that a column can be for: known are %s", fact, strings.Join(Columns, ", "))
		}
	}
	for _, fact := range Columns {
		name, mapped := mapping[fact]
		if !mapped {
			name = fact
		}
		i := slices.Index(head, name)
		if i >= 0 {
			t.at[fact] = i
		} else if mapped {
			return t, fmt.Errorf("the table has no column %q for %s: its columns are %s", name, fact, strings.Join(head, ", "))
		}
	}
	_, ranged := t.at["range"]
	_, first := t.at["first"]
	_, last := t.at["last"]
	if !ranged && !(first && last) {
		return t, fmt.Errorf("no column holds the range: map range, or first and last, to one of %s", strings.Join(head, ", "))
	}
	return t, nil
}

func (t table) get(fields []string, fact string) string {
	if i, ok := t.at[fact]; ok && i < len(fields) {
		return strings.TrimSpace(fields[i])
	}
	return ""
}

func (t table) record(fields []string) (rec record, remark string, err error) {
	text := t.get(fields, "range")
	if text == "" {
		text = t.get(fields, "first") + "-" + t.get(fields, "last")
	}
	if rec.span, err = addr.ParseRange(text); err != nil {
		return rec, "", fmt.Errorf("range: %s", strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": "))
	}
	rec.country, rec.region, rec.city = strings.ToUpper(t.get(fields, "country_code")), strings.ToUpper(t.get(fields, "region_code")), t.get(fields, "city")
	if rec.country != "" {
		if err := almanac.CheckCode(rec.country); err != nil {
			return rec, "", fmt.Errorf("country_code: %w", err)
		}
	} else if rec.region+rec.city != "" {
		return rec, "", errors.New("country_code: a region or city stands there without a country")
	}
	remark = rec.checkRegion()
	if rec.point, err = t.point(fields); err != nil {
		return rec, "", err
	}
	if rec.radiusKm, err = t.number(fields, "radius_km", 0, 20_100); err != nil {
		return rec, "", err
	}
	if rec.zone = t.get(fields, "time_zone"); rec.zone != "" {
		if _, err := time.LoadLocation(rec.zone); err != nil {
			return rec, "", fmt.Errorf("time_zone: %.40q is no zone of the IANA database", rec.zone)
		}
	}
	rec.operator = plain.Clean(t.get(fields, "operator"), 200)
	if as := t.get(fields, "as_number"); as != "" {
		n, err := strconv.ParseUint(strings.TrimPrefix(strings.ToUpper(as), "AS"), 10, 32)
		if err != nil || n == 0 {
			return rec, "", fmt.Errorf("as_number: %.20q is no AS number", as)
		}
		rec.asNumber = uint32(n)
	}
	if !rec.locates() && !rec.names() {
		return rec, "", errors.New("the row says nothing of its range")
	}
	return rec, remark, nil
}

func (t table) point(fields []string) (*geo.Point, error) {
	lat, lon := t.get(fields, "latitude"), t.get(fields, "longitude")
	if lat == "" && lon == "" {
		return nil, nil
	}
	latitude, err := t.number(fields, "latitude", -180, 180)
	if err != nil {
		return nil, err
	}
	longitude, err := t.number(fields, "longitude", -180, 180)
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

func (t table) number(fields []string, fact string, least, most float64) (float64, error) {
	text := t.get(fields, fact)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsNaN(n) || n < least || n > most {
		return 0, fmt.Errorf("%s: %.20q is no number from %g to %g", fact, text, least, most)
	}
	return n, nil
}
