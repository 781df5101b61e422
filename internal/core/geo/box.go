package geo

import (
	"errors"
	"math"
	"strconv"
	"strings"
)

// A Box is a part of the map between two meridians and two parallels, in degrees. West may be
// greater than East: then the box crosses the antimeridian.
type Box struct{ West, South, East, North float64 }

// World is the box that holds every point.
var World = Box{-180, -90, 180, 90}

// ParseBox reads west,south,east,north (RFC 7946, section 5).
func ParseBox(text string) (b Box, err error) {
	parts := strings.Split(text, ",")
	if len(parts) != 4 {
		return b, errBox
	}
	for i, to := range []*float64{&b.West, &b.South, &b.East, &b.North} {
		if *to, err = strconv.ParseFloat(strings.TrimSpace(parts[i]), 64); err != nil || math.IsNaN(*to) {
			return Box{}, errBox
		}
	}
	if math.Abs(b.West) > 180 || math.Abs(b.East) > 180 || b.South < -90 || b.North > 90 || b.South >= b.North {
		return Box{}, errBox
	}
	return b, nil
}

var errBox = errors.New("not four numbers west,south,east,north within the world")

// Holds says whether a point lies in the box or on its edge.
func (b Box) Holds(p Point) bool {
	inside := p.Longitude >= b.West && p.Longitude <= b.East
	if b.West > b.East {
		inside = p.Longitude >= b.West || p.Longitude <= b.East
	}
	return inside && p.Latitude >= b.South && p.Latitude <= b.North
}
