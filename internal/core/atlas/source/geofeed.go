package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/plain"
)

// ReadGeofeed reads a self-published geofeed (RFC 8805) with [Read]. Rejected
// are a prefix that is unreadable, has host bits or stands twice, and an unknown
// country. A region outside its country is dropped and said in Remarks. The
// postal column is ignored, since the RFC deprecates it, unless the reading asks
// for it. A line without any geography, or with the country ZZ, means "do not
// locate".
func ReadGeofeed(r io.Reader, about atlas.About) (*atlas.Source, error) {
	return Read(r, ParseOptions{Format: Geofeed}, about)
}

type geofeedRows struct {
	postal bool
	rest   []byte   // of the last line, behind its prefix
	fields [][]byte // of the last line where it has quotes, else nil
}

func (g *geofeedRows) row(line []byte) (span rangeText, key []byte, skip bool, err error) {
	line = bytes.TrimSpace(line)
	if len(line) == 0 || line[0] == '#' {
		return span, nil, true, nil
	}
	first, rest, _ := bytes.Cut(line, comma)
	g.rest, g.fields = rest, nil
	if bytes.IndexByte(line, '"') >= 0 {
		if g.fields, err = quoted(nil, line, ','); err != nil {
			return span, nil, false, err
		}
		first, rest = g.fields[0], line // the key is the line itself
	}
	return rangeText{first: bytes.TrimSpace(first), strict: true}, rest, false, nil
}

func (g *geofeedRows) place() (p atlas.Place, remark string, passed bool, err error) {
	fields := g.fields
	if fields == nil {
		fields = append([][]byte{nil}, bytes.Split(g.rest, comma)...)
	}
	field := func(i int) string {
		if i < len(fields) {
			return strings.TrimSpace(string(fields[i]))
		}
		return ""
	}
	p = atlas.Place{Country: strings.ToUpper(field(1)), Region: strings.ToUpper(field(2)), City: plain.Clean(field(3), 200)}
	if p.Country == "ZZ" || p.Country == "" && p.Region == "" && p.City == "" {
		return atlas.Place{DoNotLocate: true}, "", false, nil
	}
	if p.Country == "" {
		return p, "", false, errors.New("a region or city stands there without a country")
	}
	if err := almanac.CheckCode(p.Country); err != nil {
		return p, "", false, err
	}
	if g.postal {
		p.Postal = plain.Clean(field(4), 40)
	}
	remark = checkRegion(&p)
	return p, remark, false, nil
}

var comma = []byte{','}

// An Entry is one line of a geofeed.
type Entry struct {
	Line   int
	Text   []byte
	Prefix netip.Prefix
	Place  atlas.Place
	Remark string // what was dropped from it
	Reject error  // why it does not count
}

// Entries gives the lines of a geofeed one by one, as [ReadGeofeed] reads them. The Entry is
// good until the next.
func Entries(text []byte, postal bool, do func(*Entry)) {
	rows := &geofeedRows{postal: postal}
	text = bytes.TrimPrefix(text, byteOrderMark)
	for n := 1; len(text) > 0; n++ {
		line, after, _ := bytes.Cut(text, newline)
		text = after
		span, _, skip, err := rows.row(line)
		if skip {
			continue
		}
		e := Entry{Line: n, Text: line, Reject: err}
		if err == nil && len(line) > maxLine {
			e.Reject = fmt.Errorf("the line is longer than %d bytes", maxLine)
		}
		if e.Reject == nil {
			if row, is4, ok := quickPrefix(span); ok {
				e.Prefix = row.Prefix(is4)
			} else {
				var whole addr.Range
				whole, e.Reject = span.read()
				e.Prefix, _ = whole.Prefix()
			}
		}
		if e.Reject == nil {
			e.Place, e.Remark, _, e.Reject = rows.place()
		}
		do(&e)
	}
}

// AppendEntry appends a line of a geofeed (RFC 8805).
func AppendEntry(b []byte, p netip.Prefix, place *atlas.Place) []byte {
	b = p.AppendTo(b)
	for _, field := range []string{place.Country, place.Region, place.City, place.Postal} {
		b = append(b, ',')
		if strings.ContainsAny(field, ",\"\n#") {
			field = `"` + strings.ReplaceAll(field, `"`, `""`) + `"`
		}
		b = append(b, field...)
	}
	return append(b, '\n')
}

// checkRegion puts the successor in place of a region code that was replaced. It drops a
// region that is none of the country, or has several successors, and says so.
func checkRegion(p *atlas.Place) (remark string) {
	if p.Region == "" {
		return ""
	}
	current, err := almanac.CurrentRegion(p.Region)
	if !strings.HasPrefix(p.Region, p.Country+"-") {
		err = fmt.Errorf("the region %s lies outside %s", p.Region, p.Country)
	}
	if err != nil {
		p.Region = ""
		return err.Error() + "; it was dropped"
	}
	p.Region = current
	return ""
}

// listRows reads ranges, one a line, with a label behind a comma or none.
type listRows struct {
	label string
	said  []byte
}

func (l *listRows) row(line []byte) (span rangeText, key []byte, skip bool, err error) {
	line, _, _ = bytes.Cut(line, []byte{'#'})
	if line = bytes.TrimSpace(line); len(line) == 0 {
		return span, nil, true, nil
	}
	first, rest, _ := bytes.Cut(line, comma)
	l.said = bytes.TrimSpace(rest)
	return rangeText{first: bytes.TrimSpace(first)}, l.said, false, nil
}

func (l *listRows) place() (p atlas.Place, remark string, passed bool, err error) {
	p.Labels = readLabels(string(l.said))
	if len(p.Labels) == 0 {
		p.Labels = readLabels(l.label)
	}
	if len(p.Labels) == 0 {
		return p, "", false, errors.New("the line gives no label, and neither does the source: write label behind a comma, or give the source a label")
	}
	return p, "", false, nil
}
