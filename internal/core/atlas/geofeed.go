package atlas

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
)

// ErrTooManyRejects is wrapped by [ReadGeofeed] when more than half of the
// rows are rejected: then it is probably no geofeed at all.
var ErrTooManyRejects = errors.New("more than half of the rows were rejected")

// maxLine bounds a line of a source, in bytes.
const maxLine = 64 << 10

// ReadGeofeed reads a self-published geofeed (RFC 8805). A bad line is kept in
// the source's Rejects with its reason and does not stop the reading: a prefix
// that is unreadable, has host bits or stands twice, or an unknown country. A
// region outside its country is dropped and said in Remarks. The postal column
// is ignored, since the RFC deprecates it. A line without any geography, or
// with the country ZZ, means "do not locate". The error is that of r, or wraps
// [ErrTooManyRejects].
func ReadGeofeed(r io.Reader, about About) (*Source, error) {
	about.Basis = SelfPublished
	b := newBuilder(about)
	err := eachLine(r, func(n int, text string) {
		b.digest(text)
		text = strings.TrimSpace(text)
		if text == "" || text[0] == '#' {
			return
		}
		b.source.Rows++
		rec, remark, err := geofeedLine(text)
		if err != nil {
			b.reject(n, text, err.Error())
			return
		}
		if remark != "" {
			b.remark(n, text, remark)
		}
		b.add(n, text, rec)
	})
	if err != nil {
		return nil, err
	}
	return b.build()
}

// eachLine calls do for every line, counted from 1; one that is too long ends
// the reading, for then it is no text of lines.
func eachLine(r io.Reader, do func(n int, text string)) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 4096), maxLine)
	for n := 1; lines.Scan(); n++ {
		do(n, strings.TrimPrefix(lines.Text(), "\ufeff"))
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("a line is longer than %d bytes: this is no range data", maxLine)
	} else if err != nil {
		return err
	}
	return nil
}

func geofeedLine(text string) (rec record, remark string, err error) {
	row := csv.NewReader(strings.NewReader(text))
	row.FieldsPerRecord = -1
	fields, err := row.Read()
	if err != nil {
		return record{}, "", errors.New("the quotes do not fit")
	}
	field := func(i int) string {
		if i < len(fields) {
			return strings.TrimSpace(fields[i])
		}
		return ""
	}
	prefix, err := geofeedPrefix(field(0))
	if err != nil {
		return record{}, "", err
	}
	rec = record{span: addr.RangeOf(prefix), country: strings.ToUpper(field(1)), region: strings.ToUpper(field(2)), city: field(3)}
	if rec.country == "ZZ" || rec.country == "" && rec.region == "" && rec.city == "" {
		return record{span: addr.RangeOf(prefix), doNotLocate: true}, "", nil
	}
	if rec.country == "" {
		return record{}, "", errors.New("a region or city stands there without a country")
	}
	if err := almanac.CheckCode(rec.country); err != nil {
		return record{}, "", err
	}
	remark = rec.checkRegion()
	return rec, remark, nil
}

// checkRegion drops a region that is none of the country, and says so.
func (r *record) checkRegion() (remark string) {
	if r.region == "" {
		return ""
	}
	if _, ok := almanac.Region(r.region); !strings.HasPrefix(r.region, r.country+"-") {
		remark = fmt.Sprintf("the region %s lies outside %s and was dropped", r.region, r.country)
	} else if !ok {
		remark = fmt.Sprintf("%s is not a region code of ISO 3166-2 and was dropped", r.region)
	}
	if remark != "" {
		r.region = ""
	}
	return remark
}

func geofeedPrefix(text string) (netip.Prefix, error) {
	p, err := addr.ParsePrefix(text)
	if err != nil {
		return netip.Prefix{}, errors.New(strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": "))
	}
	return p, nil
}
