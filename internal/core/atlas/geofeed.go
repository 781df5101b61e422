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
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 4096), maxLine)
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimPrefix(lines.Text(), "\ufeff")
		b.digest(text)
		text = strings.TrimSpace(text)
		if text == "" || text[0] == '#' {
			continue
		}
		b.source.Rows++
		rec, remark, err := geofeedLine(text)
		switch {
		case err != nil:
			b.reject(n, text, err.Error())
			continue
		case remark != "":
			b.remark(n, text, remark)
		}
		b.add(n, text, rec)
	}
	if err := lines.Err(); errors.Is(err, bufio.ErrTooLong) {
		return nil, fmt.Errorf("a line is longer than %d bytes: this is no geofeed", maxLine)
	} else if err != nil {
		return nil, err
	}
	return b.build()
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
	rec = record{prefix: prefix, country: strings.ToUpper(field(1)), region: strings.ToUpper(field(2)), city: field(3)}
	if rec.country == "ZZ" || rec.country == "" && rec.region == "" && rec.city == "" {
		return record{prefix: prefix, doNotLocate: true}, "", nil
	}
	if rec.country == "" {
		return record{}, "", errors.New("a region or city stands there without a country")
	}
	if err := almanac.CheckCode(rec.country); err != nil {
		return record{}, "", err
	}
	if rec.region != "" {
		if !strings.HasPrefix(rec.region, rec.country+"-") {
			remark = fmt.Sprintf("the region %s lies outside %s and was dropped", rec.region, rec.country)
			rec.region = ""
		} else if _, ok := almanac.Region(rec.region); !ok {
			remark = fmt.Sprintf("%s is not a region code of ISO 3166-2 and was dropped", rec.region)
			rec.region = ""
		}
	}
	return rec, remark, nil
}

func geofeedPrefix(text string) (netip.Prefix, error) {
	p, err := addr.ParsePrefix(text)
	if err != nil {
		return netip.Prefix{}, errors.New(strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": "))
	}
	return p, nil
}
