package atlas

import (
	"encoding/binary"
	"errors"
	"math"
	"strings"

	"eastporch/internal/core/geo"
)

// place is what one row says, apart from its range. Rows that say the same
// share one.
type place struct {
	country, region, city string
	postal                string
	point                 *geo.Point // the source's own
	radiusKm              float64    // the source's own; 0 for none
	zone                  string     // the source's own
	asNumber              uint32     // 0 for none
	operator              string
	labels                []string
	doNotLocate           bool
	byPoint               bool // the country is derived from the point
}

func (p *place) locates() bool { return p.doNotLocate || p.country != "" }

func (p *place) names() bool { return p.asNumber != 0 || p.operator != "" }

func (p *place) level() Level {
	switch {
	case p.city != "":
		return City
	case p.region != "":
		return Region
	case p.country != "":
		return Country
	}
	return None
}

// The first byte of a place in an edition.
const (
	hasPoint = 1 << iota
	hasRadius
	hasNumber
	notLocated
	countryByPoint
)

// append writes p as an edition holds it: flags, the country's two letters or
// none, then region, town, postal code, zone, operator and labels, each with its
// length before it, then the numbers that the flags name. It is described in
// docs/formats/edition.md.
func (p *place) append(b []byte) []byte {
	var flags byte
	set := func(on bool, flag byte) {
		if on {
			flags |= flag
		}
	}
	set(p.point != nil, hasPoint)
	set(p.radiusKm > 0, hasRadius)
	set(p.asNumber != 0, hasNumber)
	set(p.doNotLocate, notLocated)
	set(p.byPoint, countryByPoint)
	b = append(b, flags)
	for _, s := range []string{p.country, p.region, p.city, p.postal, p.zone, p.operator, strings.Join(p.labels, "\n")} {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	if p.point != nil {
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(p.point.Latitude))
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(p.point.Longitude))
	}
	if p.radiusKm > 0 {
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(p.radiusKm))
	}
	if p.asNumber != 0 {
		b = binary.LittleEndian.AppendUint32(b, p.asNumber)
	}
	return b
}

var errPlace = errors.New("a place of the edition is damaged")

// readPlace reads what append wrote. The strings are copies.
func readPlace(b []byte) (*place, error) {
	if len(b) == 0 {
		return nil, errPlace
	}
	p, flags := &place{}, b[0]
	b = b[1:]
	var labels string
	for _, s := range []*string{&p.country, &p.region, &p.city, &p.postal, &p.zone, &p.operator, &labels} {
		n, size := binary.Uvarint(b)
		if size <= 0 || n > uint64(len(b)-size) {
			return nil, errPlace
		}
		*s = string(b[size : size+int(n)])
		b = b[size+int(n):]
	}
	if labels != "" {
		p.labels = strings.Split(labels, "\n")
	}
	number := func() float64 {
		if len(b) < 8 {
			b, flags = nil, 0xff
			return 0
		}
		v := math.Float64frombits(binary.LittleEndian.Uint64(b))
		b = b[8:]
		return v
	}
	if flags&hasPoint != 0 {
		p.point = &geo.Point{Latitude: number(), Longitude: number()}
		if !p.point.Valid() {
			return nil, errPlace
		}
	}
	if flags&hasRadius != 0 {
		p.radiusKm = number()
	}
	if flags&hasNumber != 0 {
		if len(b) < 4 {
			return nil, errPlace
		}
		p.asNumber = binary.LittleEndian.Uint32(b)
	}
	p.doNotLocate, p.byPoint = flags&notLocated != 0, flags&countryByPoint != 0
	if flags > hasPoint|hasRadius|hasNumber|notLocated|countryByPoint || math.IsNaN(p.radiusKm) || p.radiusKm < 0 ||
		p.country != "" && len(p.country) != 2 {
		return nil, errPlace
	}
	return p, nil
}
