package source

import (
	"bytes"
	"errors"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/rpsl"
)

// rpslRows reads a registry's objects of networks, inetnum and inet6num: the range, and the
// country that its holder gave, which is a registration. What the range is called says nothing
// of a place. Passed over and counted are ranges of several countries or of none, those that
// nobody holds, and those that are wider than any network, as a registry's own. Objects of
// other kinds are no rows.
type rpslRows struct {
	last rpsl.Object
	of   *byte // where the text of last begins, nil where last is none
	span rangeText
	key  string // why the last row is passed over; "" where it counts
}

func (r *rpslRows) object(text []byte) (row, rest []byte, skipped, lines int) {
	rest = r.last.Read(text)
	row = text[r.last.Begin : len(text)-len(rest)]
	if r.of = nil; len(row) > 0 { // empty lines at the end are no object
		r.of = &row[0]
	}
	return row, rest, r.last.Skipped, r.last.Lines
}

func (r *rpslRows) row(text []byte) (span rangeText, key []byte, skip bool, err error) {
	if r.of != &text[0] {
		r.object(text)
	}
	o := &r.last
	switch {
	case o.Class == nil:
		return span, nil, false, errors.New("no attribute, such as inetnum: 192.0.2.0 - 192.0.2.255, stands in it")
	case !o.IsNetwork():
		return span, nil, true, nil
	case len(o.Key) == 0:
		return span, nil, false, errors.New("the object has no range")
	}
	span.first = o.Key
	if first, last, pair := bytes.Cut(o.Key, []byte{'-'}); pair {
		span.first, span.last = bytes.TrimSpace(first), bytes.TrimSpace(last)
	}
	r.span, r.key = span, r.passed(span)
	if r.key != "" {
		return span, []byte(r.key), false, nil
	}
	return span, o.Country, false, nil
}

// passed says why the last object says nothing of a network, "" where it does.
func (r *rpslRows) passed(span rangeText) string {
	switch o := &r.last; {
	case o.Countries > 1:
		return "the object names several countries"
	case len(o.Country) == 0:
		return "the object names no country"
	case unheld[strings.ToLower(string(o.Status))]:
		return "nobody holds the range: its status says so"
	case span.last != nil && bytes.HasPrefix(span.first, []byte("0.0.0.0")),
		bytes.HasSuffix(span.first, []byte("/0")), bytes.HasSuffix(span.first, []byte("::/3")):
		return "the range is wider than any network"
	}
	return ""
}

// unheld are values of the attribute status where nobody uses a range.
var unheld = map[string]bool{"unallocated": true, "available": true, "reserved": true, "free": true}

func (r *rpslRows) place() (p atlas.Place, remark string, passed bool, err error) {
	if r.key != "" {
		return p, r.key + "; passed over", true, nil
	}
	p.Country = strings.ToUpper(string(r.last.Country))
	if err := almanac.CheckCode(p.Country); err != nil {
		return p, err.Error() + "; passed over", true, nil
	}
	return p, "", false, nil
}

func (r *rpslRows) feed() (f geofeed.Referral, ok bool) {
	if len(r.last.Geofeed) == 0 {
		return f, false
	}
	span, err := r.span.read()
	if err != nil {
		return f, false
	}
	return geofeed.Referral{
		URL: rpsl.Text(r.last.Geofeed), Range: addr.OptionalRange{Range: span}, ByRemark: r.last.ByRemark, Network: plain.Clean(rpsl.Text(r.last.Netname), 80),
	}, true
}
