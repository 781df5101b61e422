package atlas

import (
	"encoding/binary"
	"errors"
	"math"
	"strings"

	"eastporch/internal/core/geo"
)

// Place is what one row says, apart from its range. Rows that say the same
// share one.
type Place struct {
	Country, Region, City string
	Postal                string
	Point                 *geo.Point // the source's own
	RadiusKm              float64    // the source's own; 0 for none
	Zone                  string     // the source's own
	AsNumber              uint32     // 0 for none
	Operator              string
	Origins               []uint32 // other AS numbers from which the network is routed, at most [MaxOrigins]
	Labels                []string
	DoNotLocate           bool
	ByPoint               bool // the country is derived from the point
}

// MaxOrigins is how many other AS numbers a place has.
const MaxOrigins = 8

// Locates says whether a place says something of a location, be it that there is to be none.
func (p *Place) Locates() bool { return p.DoNotLocate || p.Country != "" }

// Names says whether a place names a network.
func (p *Place) Names() bool { return p.AsNumber != 0 || p.Operator != "" }

// Level is how fine the place is.
func (p *Place) Level() Level {
	switch {
	case p.City != "":
		return City
	case p.Region != "":
		return Region
	case p.Country != "":
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
	hasOrigins
)

// Append writes p as an edition holds it: flags, the country's two letters or
// none, then region, town, postal code, zone, operator and labels, each with its
// length before it, then the numbers that the flags name. It is described in
// docs/formats/edition.md.
func (p *Place) Append(b []byte) []byte {
	var flags byte
	set := func(on bool, flag byte) {
		if on {
			flags |= flag
		}
	}
	set(p.Point != nil, hasPoint)
	set(p.RadiusKm > 0, hasRadius)
	set(p.AsNumber != 0, hasNumber)
	set(p.DoNotLocate, notLocated)
	set(p.ByPoint, countryByPoint)
	set(len(p.Origins) > 0, hasOrigins)
	b = append(b, flags)
	text := func(s string) { b = append(binary.AppendUvarint(b, uint64(len(s))), s...) }
	for _, s := range p.texts() {
		if s != nil {
			text(*s)
		}
	}
	text(strings.Join(p.Labels, "\n"))
	if p.Point != nil {
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(p.Point.Latitude))
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(p.Point.Longitude))
	}
	if p.RadiusKm > 0 {
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(p.RadiusKm))
	}
	if p.AsNumber != 0 {
		b = binary.LittleEndian.AppendUint32(b, p.AsNumber)
	}
	if len(p.Origins) > 0 {
		b = append(b, byte(len(p.Origins)))
		for _, as := range p.Origins {
			b = binary.LittleEndian.AppendUint32(b, as)
		}
	}
	return b
}

// A Class is what coverage asks of a place.
type Class struct {
	Country      [2]byte
	Region, City bool
	Locates      bool
}

// ClassOf reads the class of a place that append wrote, and no more of it.
func ClassOf(b []byte) (c Class, err error) {
	if len(b) < 4 {
		return c, errPlace
	}
	c.Locates = b[0]&notLocated != 0
	at := 1
	for i := range 3 {
		n, size := binary.Uvarint(b[at:])
		if size <= 0 || n > uint64(len(b)-at-size) || i == 0 && n != 0 && n != 2 {
			return c, errPlace
		}
		switch {
		case i == 0 && n == 2:
			c.Country, c.Locates = [2]byte(b[at+size:]), true
		case i == 1:
			c.Region = n > 0
		case i == 2:
			c.City = n > 0
		}
		at += size + int(n)
	}
	return c, nil
}

var errPlace = errors.New("a place of the edition is damaged")

// ReadPlace reads what append wrote. The strings are copies.
func ReadPlace(b []byte) (*Place, error) {
	if len(b) == 0 {
		return nil, errPlace
	}
	p, flags := &Place{}, b[0]
	b = b[1:]
	var labels string
	texts := p.texts()
	for _, s := range append(texts[:], &labels) {
		if s == nil {
			continue
		}
		n, size := binary.Uvarint(b)
		if size <= 0 || n > uint64(len(b)-size) {
			return nil, errPlace
		}
		*s = string(b[size : size+int(n)])
		b = b[size+int(n):]
	}
	if labels != "" {
		p.Labels = strings.Split(labels, "\n")
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
		p.Point = &geo.Point{Latitude: number(), Longitude: number()}
		if !p.Point.Valid() {
			return nil, errPlace
		}
	}
	if flags&hasRadius != 0 {
		p.RadiusKm = number()
	}
	if flags&hasNumber != 0 {
		if len(b) < 4 {
			return nil, errPlace
		}
		p.AsNumber, b = binary.LittleEndian.Uint32(b), b[4:]
	}
	if flags&hasOrigins != 0 {
		if len(b) == 0 || b[0] > MaxOrigins || len(b) < 1+4*int(b[0]) {
			return nil, errPlace
		}
		for i := range int(b[0]) {
			p.Origins = append(p.Origins, binary.LittleEndian.Uint32(b[1+4*i:]))
		}
	}
	p.DoNotLocate, p.ByPoint = flags&notLocated != 0, flags&countryByPoint != 0
	if flags > hasPoint|hasRadius|hasNumber|notLocated|countryByPoint|hasOrigins || math.IsNaN(p.RadiusKm) || p.RadiusKm < 0 ||
		p.Country != "" && len(p.Country) != 2 {
		return nil, errPlace
	}
	return p, nil
}
