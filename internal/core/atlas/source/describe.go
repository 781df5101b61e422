package source

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/rpsl"
)

// A Description says what is in a file of range data before it is loaded.
type Description struct {
	Format  Format            `json:"format"`
	Reason  string            `json:"reason"` // why it looks like that
	Head    bool              `json:"head"`   // its first row names the columns
	Rows    int               `json:"rows"`   // looked at
	Columns []Column          `json:"columns"`
	Mapping map[string]string `json:"mapping"` // proposed: the file's name of a column, by fact
	Sample  [][]string        `json:"sample"`  // rows, of different countries where it can be seen
	Advice  []string          `json:"advice"`  // what is still to be decided
}

// A Column is one column of a file.
type Column struct {
	Name   string   `json:"name"`
	Type   string   `json:"type"` // range, address, country code, region code, time zone, integer, number or text
	Filled float64  `json:"filled"`
	Values []string `json:"values"` // some that differ
	Fact   string   `json:"fact"`   // proposed, "" for none

	odd error // why the first value that is no country code is none
}

// DescribeRowsMost is how many rows are looked at, and describeBytes how much text.
const (
	DescribeRowsMost = 5000
	describeBytes    = 4 << 20
)

// Describe looks at the beginning of a text. The error is that of r, or says why
// it looks like no range data.
func Describe(r io.Reader) (*Description, error) {
	b, err := io.ReadAll(io.LimitReader(r, describeBytes))
	if err != nil {
		return nil, err
	}
	if bytes.HasPrefix(b, []byte("PAR1")) {
		d := whole(Parquet, "it begins with PAR1")
		d.Advice = []string{"Give it as a file, not as a stream: a Parquet file is read from its end."}
		return d, nil
	}
	for o, rest, n := (&rpsl.Object{}), b, 0; len(rest) > 0 && n < 1000; n++ {
		if rest = o.Read(rest); o.IsNetwork() {
			return whole(RPSL, fmt.Sprintf("it has objects such as %s: %.50s (RFC 2622)", o.Class, o.Key)), nil
		}
	}
	if len(b) > 12 && b[4] == 0 && b[5] == 13 && b[6] == 0 { // the type of the first record
		return whole(MRT, "it begins as a dump of a routing table (RFC 6396)"), nil
	}
	return describeText(b)
}

// whole describes a file that has no columns.
func whole(format Format, reason string) *Description {
	return &Description{Format: format, Reason: reason, Columns: []Column{}, Mapping: map[string]string{}, Sample: [][]string{}, Advice: []string{}}
}

// DescribeRows is [Describe] for rows that are taken apart already: some of the
// rows of a table.
func DescribeRows(format Format, reason string, head []string, rows [][]string) *Description {
	d := &Description{Format: format, Reason: reason, Head: true}
	d.describe(head, rows)
	return d
}

func describeText(b []byte) (*Description, error) {
	var lines [][]byte
	scan := bufio.NewScanner(bytes.NewReader(bytes.TrimPrefix(b, byteOrderMark)))
	scan.Buffer(nil, maxLine+1)
	for scan.Scan() && len(lines) < DescribeRowsMost {
		if line := bytes.TrimSpace(scan.Bytes()); len(line) > 0 && line[0] != '#' {
			lines = append(lines, bytes.Clone(line))
		}
	}
	if errors.Is(scan.Err(), bufio.ErrTooLong) && len(lines) == 0 {
		return nil, fmt.Errorf("its lines are longer than %d bytes: this is not range data", maxLine)
	}
	if len(lines) == 0 {
		return nil, errors.New("it holds no line of data")
	}
	first := lines[0]
	d := &Description{}
	if len(lines) > 1 && len(b) == describeBytes {
		lines = lines[:len(lines)-1] // which may be cut
	}
	switch {
	case first[0] == '{':
		d.Format, d.Reason = JSONLines, "its lines are JSON objects"
		head, rows := objects(lines)
		d.describe(head, rows)
	case looksDelegated(lines):
		d.Format, d.Reason = Delegated, "its lines have a registry, a country and a type between |"
		rows := slices.DeleteFunc(rowsOf(lines, '|', false), func(row []string) bool {
			return len(row) < 7 || row[5] == "summary" || row[2] != "ipv4" && row[2] != "ipv6" && row[2] != "asn"
		})
		d.describe([]string{"registry", "country", "type", "start", "value", "date", "status"}, rows)
		d.Mapping, d.Advice = map[string]string{}, []string{"What it says is a registration, not a location: rank it last."}
	case bytes.IndexByte(first, '\t') >= 0:
		d.table(TSV, "its columns are parted by tabs", rowsOf(lines, '\t', false))
	default:
		rows := rowsOf(lines, ',', true)
		if separator := separatorOf(first); separator == ';' && !startsWithRange(rows[0]) {
			rows = rowsOf(lines, separator, true)
		}
		switch {
		case !startsWithRange(rows[0]) && len(rows[0]) > 1:
			by := map[byte]string{',': "commas", ';': "semicolons"}[separatorOf(first)]
			d.table(CSV, "its columns are parted by "+by+", under a head", rows)
		case looksGeofeed(rows):
			d.Format, d.Reason = Geofeed, "it has prefix, country, region, city and postal code, without a head (RFC 8805)"
			d.describe([]string{"prefix", "country", "region", "city", "postal code"}, rows)
			d.Mapping = map[string]string{}
		case startsWithRange(rows[0]):
			d.Format, d.Reason = List, "each line begins with a range and says little else"
			d.describe([]string{"range", "label"}, rows)
			d.Mapping, d.Advice = map[string]string{}, []string{"Give the source a label."}
		default:
			return nil, fmt.Errorf("its first line is neither a range nor the head of a table: %.60q", first)
		}
	}
	return d, nil
}

func (d *Description) table(format Format, reason string, rows [][]string) {
	d.Format, d.Reason, d.Head = format, reason, true
	d.describe(rows[0], rows[1:])
}

func rowsOf(lines [][]byte, separator byte, quotes bool) [][]string {
	rows := make([][]string, 0, len(lines))
	for _, line := range lines {
		fields := split(nil, line, separator)
		if quotes && bytes.IndexByte(line, '"') >= 0 {
			if q, err := quoted(nil, line, separator); err == nil {
				fields = q
			}
		}
		row := make([]string, len(fields))
		for i, f := range fields {
			row[i] = strings.TrimSpace(string(f))
		}
		rows = append(rows, row)
	}
	return rows
}

func objects(lines [][]byte) (head []string, rows [][]string) {
	names := map[string]int{}
	var list []map[string]any
	for _, line := range lines {
		object, err := readObject(line)
		if err != nil {
			continue
		}
		list = append(list, object)
		for _, name := range sortedKeys(object) {
			if _, ok := names[name]; !ok {
				names[name] = len(head)
				head = append(head, name)
			}
		}
	}
	for _, object := range list {
		row := make([]string, len(head))
		for name, value := range object {
			row[names[name]] = textOf(value)
		}
		rows = append(rows, row)
	}
	return head, rows
}

func looksDelegated(lines [][]byte) bool {
	for _, line := range lines[:min(len(lines), 20)] {
		f := bytes.Split(line, bar)
		if len(f) >= 7 && (string(f[2]) == "ipv4" || string(f[2]) == "ipv6" || string(f[2]) == "asn") {
			return true
		}
	}
	return false
}

// looksGeofeed says whether rows without a head are those of a geofeed (RFC 8805): most
// of those that say more than a range have a country, or that it must not be located. A
// bare prefix may stand in a geofeed as well as in a list.
func looksGeofeed(rows [][]string) bool {
	more, good := 0, 0
	for _, row := range rows {
		if len(row) < 2 || !startsWithRange(row) {
			continue
		}
		more++
		if row[1] == "" && len(row) > 2 || row[1] == "ZZ" || len(row[1]) == 2 && almanac.CheckCode(strings.ToUpper(row[1])) == nil {
			good++
		}
	}
	return good*2 > more
}

// startsWithRange says whether a row begins with a range, host bits or not.
func startsWithRange(row []string) bool {
	_, err := addr.ParseRange(row[0])
	return err == nil || looksLikeRange(row[0])
}

// describe fills columns, mapping and sample.
func (d *Description) describe(head []string, rows [][]string) {
	d.Rows, d.Columns, d.Mapping, d.Sample, d.Advice = len(rows), []Column{}, map[string]string{}, [][]string{}, []string{}
	for i, name := range head {
		c := Column{Name: name, Values: []string{}}
		var values []string
		for _, row := range rows {
			if i < len(row) && row[i] != "" {
				values = append(values, row[i])
				if c.odd == nil {
					c.odd = almanac.CheckCode(strings.ToUpper(row[i]))
				}
				if len(c.Values) < 3 && !slices.Contains(c.Values, row[i]) {
					c.Values = append(c.Values, row[i])
				}
			}
		}
		if len(rows) > 0 {
			c.Filled = float64(len(values)) / float64(len(rows))
		}
		c.Type = typeOf(values)
		d.Columns = append(d.Columns, c)
	}
	d.propose()
	d.pick(rows)
}

// looksLikeRange knows a prefix, with host bits too, and first-last.
func looksLikeRange(v string) bool {
	first, _, ok := strings.Cut(v, "/")
	if !ok {
		first, _, ok = strings.Cut(v, "-")
	}
	_, isAddress := addr.Quick(first)
	return ok && isAddress
}

// typeOf says what nearly all values are.
func typeOf(values []string) string {
	if len(values) == 0 {
		return "empty"
	}
	most := func(is func(string) bool) bool {
		n := 0
		for _, v := range values {
			if is(v) {
				n++
			}
		}
		return n*20 >= len(values)*19
	}
	isInteger := func(v string) bool { _, err := strconv.ParseInt(v, 10, 64); return err == nil }
	isNumber := func(v string) bool { _, err := strconv.ParseFloat(v, 64); return err == nil }
	switch {
	case most(isInteger):
		return "integer"
	case most(isNumber):
		return "number"
	case most(looksLikeRange):
		return "range"
	case most(func(v string) bool { _, ok := addr.Quick(v); return ok }):
		return "address"
	case most(func(v string) bool { return len(v) == 2 && almanac.CheckCode(strings.ToUpper(v)) == nil }):
		return "country code"
	case most(func(v string) bool { _, err := almanac.CurrentRegion(strings.ToUpper(v)); return err == nil }):
		return "region code"
	case most(func(v string) bool {
		_, err := time.LoadLocation(v)
		return err == nil && strings.Contains(v, "/")
	}):
		return "time zone"
	}
	return "text"
}

// A calling is what columns for a fact are called, in lower case without
// anything but letters, and what type they have.
type calling struct {
	fact  string
	names []string
	types []string
}

var callings = func() []calling {
	list := []calling{
		{"range", []string{"range", "prefix", "network", "net", "cidr", "block", "subnet", "iprange"}, []string{"range", "address"}},
		{"first", []string{"first", "start", "from", "begin", "firstip", "startip", "firstaddress", "startaddress", "low"}, []string{"address", "integer"}},
		{"last", []string{"last", "end", "to", "lastip", "endip", "lastaddress", "endaddress", "high"}, []string{"address", "integer"}},
	}
	for _, f := range atlas.Facts {
		if f.Called != nil {
			list = append(list, calling{f.Name, f.Called, f.Holds})
		}
	}
	return append(list, calling{"labels", []string{"labels", "label", "tags", "tag"}, nil})
}()

// propose maps columns by their names, and by what they hold where only one
// column has it.
func (d *Description) propose() {
	take := func(c *Column, fact string) {
		if c.Fact == "" && d.Mapping[fact] == "" {
			c.Fact = fact
			d.Mapping[fact] = c.Name
		}
	}
	for i := range d.Columns {
		c := &d.Columns[i]
		name := letters(c.Name)
		for _, k := range callings {
			if slices.Contains(k.names, name) && (k.types == nil || slices.Contains(k.types, c.Type)) {
				take(c, k.fact)
			}
		}
	}
	for _, only := range []struct{ kind, fact string }{
		{"range", "range"}, {"country code", "country_code"}, {"region code", "region_code"}, {"time zone", "time_zone"},
	} {
		var found []*Column
		for i := range d.Columns {
			if d.Columns[i].Type == only.kind {
				found = append(found, &d.Columns[i])
			}
		}
		if len(found) == 1 {
			take(found[0], only.fact)
		}
	}
	d.Advice = append(d.Advice, d.Lacks()...)
}

// Lacks says why a source that is mapped as proposed would locate nothing, in sentences; none for
// a file that needs no columns named.
func (d *Description) Lacks() (why []string) {
	if slices.Contains([]Format{Geofeed, List, Delegated, RPSL, MRT}, d.Format) {
		return nil
	}
	if d.Mapping["range"] == "" && (d.Mapping["first"] == "" || d.Mapping["last"] == "") {
		why = append(why, "No column was recognised as the range: map range, or first and last.")
	}
	if d.Mapping["country_code"] == "" && d.Mapping["as_number"] == "" && d.Mapping["labels"] == "" {
		text := "No column was recognised as the country code, so it would locate nothing."
		for _, c := range d.Columns {
			if c.odd != nil && slices.ContainsFunc(callings, func(k calling) bool { return k.fact == "country_code" && slices.Contains(k.names, letters(c.Name)) }) {
				return append(why, text+fmt.Sprintf(" Column %q: %v", c.Name, c.odd))
			}
		}
		why = append(why, text)
	}
	return why
}

// letters is a name in lower case, without anything but letters.
func letters(name string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, strings.ToLower(name))
}

// pick takes sample rows of different countries, or the first ones.
func (d *Description) pick(rows [][]string) {
	at := slices.IndexFunc(d.Columns, func(c Column) bool { return c.Fact == "country_code" })
	seen := map[string]bool{}
	for _, row := range rows {
		key := strings.Join(row, ",")
		if at >= 0 && at < len(row) {
			key = row[at]
		}
		if !seen[key] && len(d.Sample) < 6 {
			seen[key] = true
			d.Sample = append(d.Sample, row)
		}
	}
}
