package geo

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// An Area is a named polygon, or several, each perhaps with holes.
type Area struct {
	Name string
	// Remark says what was taken otherwise than it is written; "" where nothing was.
	Remark   string
	polygons [][]ring // the first ring of each is its outline
}

// ring is a closed line of points; the last is the first again, or around a pole 360 degrees
// further.
type ring struct {
	line       []Point
	west, east float64 // the ends of its longitudes
	pole       float64 // that it goes around, 1 north and -1 south; otherwise 0
	over       bool    // an edge crosses the antimeridian
}

// ErrAreas is wrapped by the errors of [ReadAreas].
var ErrAreas = errors.New("no usable areas")

// maxCorners bounds the corners of all areas of a file.
const maxCorners = 1_000_000

// ReadAreas reads a GeoJSON FeatureCollection or Feature (RFC 7946) of polygons
// and multipolygons, longitude first. Each is named by its property name, which
// must differ. An edge is straight on the map of longitude and latitude, as the RFC has it.
// The RFC wants polygons cut at the antimeridian; of one that is not, an edge of more than
// 180 degrees goes the short way round, with a remark. A ring around the Earth holds the
// pole that is nearer to it. The error wraps [ErrAreas] and names the feature.
func ReadAreas(text []byte) ([]Area, error) {
	type feature struct {
		Type       string         `json:"type"`
		Properties map[string]any `json:"properties"`
		Geometry   struct {
			Type        string          `json:"type"`
			Coordinates json.RawMessage `json:"coordinates"`
		} `json:"geometry"`
	}
	var whole struct {
		feature
		Features []feature `json:"features"`
	}
	if err := json.Unmarshal(text, &whole); err != nil {
		return nil, fmt.Errorf("%w: no GeoJSON: %w", ErrAreas, err)
	}
	features := whole.Features
	switch whole.Type {
	case "FeatureCollection":
	case "Feature":
		features = []feature{whole.feature}
	default:
		return nil, fmt.Errorf("%w: the GeoJSON is a %q: give a FeatureCollection of polygons", ErrAreas, whole.Type)
	}
	var areas []Area
	names, corners := map[string]bool{}, 0
	for i, f := range features {
		name, _ := f.Properties["name"].(string)
		if name = strings.TrimSpace(name); name == "" {
			return nil, fmt.Errorf("%w: feature %d has no property name", ErrAreas, i+1)
		}
		if names[name] {
			return nil, fmt.Errorf("%w: two features are called %q", ErrAreas, name)
		}
		names[name] = true
		var lines [][][][]float64
		var err error
		switch f.Geometry.Type {
		case "Polygon":
			lines = make([][][][]float64, 1)
			err = json.Unmarshal(f.Geometry.Coordinates, &lines[0])
		case "MultiPolygon":
			err = json.Unmarshal(f.Geometry.Coordinates, &lines)
		default:
			err = fmt.Errorf("it is a %q, and an area is a Polygon or MultiPolygon", f.Geometry.Type)
		}
		area := Area{Name: name}
		for _, polygon := range lines {
			if err != nil {
				break
			}
			var rings []ring
			for _, line := range polygon {
				r, problem := closed(line)
				if problem != nil {
					err = problem
					break
				}
				corners += len(r.line)
				rings = append(rings, r)
				if r.over {
					area.Remark = "an edge of more than 180 degrees of longitude was taken the short way, over the antimeridian; cut the polygon there (RFC 7946, section 3.1.9)"
				}
			}
			if len(rings) > 0 {
				area.polygons = append(area.polygons, rings)
			}
		}
		if err == nil && len(area.polygons) == 0 {
			err = errors.New("it has no outline")
		}
		if err != nil {
			return nil, fmt.Errorf("%w: feature %q: %w", ErrAreas, name, err)
		}
		if corners > maxCorners {
			return nil, fmt.Errorf("%w: more than %d corners", ErrAreas, maxCorners)
		}
		areas = append(areas, area)
	}
	if len(areas) == 0 {
		return nil, fmt.Errorf("%w: the collection is empty", ErrAreas)
	}
	return areas, nil
}

func closed(line [][]float64) (ring, error) {
	if len(line) < 4 {
		return ring{}, fmt.Errorf("a ring has %d positions, and at least 4 close one", len(line))
	}
	r := make([]Point, len(line))
	for i, position := range line {
		if len(position) < 2 {
			return ring{}, errors.New("a position has longitude and latitude")
		}
		r[i] = Point{Latitude: position[1], Longitude: position[0]}
		if !r[i].Valid() {
			if (Point{Latitude: position[0], Longitude: position[1]}).Valid() {
				return ring{}, fmt.Errorf("latitude %g is beyond 90 degrees; GeoJSON has longitude first: are they swapped?", position[1])
			}
			return ring{}, fmt.Errorf("the position %g, %g is not on the Earth", position[0], position[1])
		}
	}
	if first, last := r[0], r[len(r)-1]; first.Latitude != last.Latitude || math.Remainder(first.Longitude-last.Longitude, 360) != 0 {
		return ring{}, errors.New("a ring does not end where it began")
	}
	return unrolled(r), nil
}

// unrolled has each edge of a ring go the short way round, so that longitudes go on beyond
// 180 degrees. An edge from -180 to 180 stays: it goes all the way round.
func unrolled(line []Point) ring {
	r := ring{line: []Point{line[0]}, west: line[0].Longitude, east: line[0].Longitude}
	latitudes := 0.0
	for i, p := range line[1:] {
		step := p.Longitude - line[i].Longitude
		if far := math.Abs(step); far > 180 && far < 360 {
			step -= math.Copysign(360, step)
			r.over = true
		}
		at := r.line[i].Longitude + step
		r.line = append(r.line, Point{Latitude: p.Latitude, Longitude: at})
		r.west, r.east = min(r.west, at), max(r.east, at)
		latitudes += p.Latitude
	}
	if round := r.line[len(r.line)-1].Longitude - r.line[0].Longitude; math.Abs(round) > 180 {
		r.pole = math.Copysign(1, latitudes)
	}
	return r
}

// Contains says whether p lies in the area; a point on an edge may count either
// way, but belongs to one of two areas that share the edge, never to both.
func (a Area) Contains(p Point) bool {
	for _, rings := range a.polygons {
		inside := false
		for _, r := range rings {
			if r.contains(p) {
				inside = !inside // a hole takes out again
			}
		}
		if inside {
			return true
		}
	}
	return false
}

// contains counts the edges that a line to the east crosses, or around a pole those that
// the meridian crosses on its way there; the ring's longitudes may lie beyond 180 degrees.
func (r ring) contains(p Point) bool {
	inside := r.pole != 0
	for lon := p.Longitude + 360*math.Ceil((r.west-p.Longitude)/360); lon <= r.east; lon += 360 {
		for i, a := range r.line[:len(r.line)-1] {
			b := r.line[i+1]
			switch {
			case r.pole == 0:
				if (a.Latitude > p.Latitude) != (b.Latitude > p.Latitude) &&
					lon < (b.Longitude-a.Longitude)*(p.Latitude-a.Latitude)/(b.Latitude-a.Latitude)+a.Longitude {
					inside = !inside
				}
			case (a.Longitude > lon) != (b.Longitude > lon):
				if at := a.Latitude + (b.Latitude-a.Latitude)*(lon-a.Longitude)/(b.Longitude-a.Longitude); (at > p.Latitude) == (r.pole > 0) {
					inside = !inside
				}
			}
		}
	}
	return inside
}

// URI gives the geo URI of a point (RFC 5870), with its uncertainty in metres
// where radiusKm is more than 0.
func (p Point) URI(radiusKm float64) string {
	uri := "geo:" + strconv.FormatFloat(p.Latitude, 'f', -1, 64) + "," + strconv.FormatFloat(p.Longitude, 'f', -1, 64)
	if radiusKm > 0 {
		uri += ";u=" + strconv.FormatFloat(math.Round(radiusKm*1000), 'f', -1, 64)
	}
	return uri
}

// uriNumber is a coordinate (RFC 5870, section 3.3).
var uriNumber = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)

// ParseURI reads a geo URI (RFC 5870) of the WGS 84 reference system. Altitude
// and unknown parameters are passed over; radiusKm is 0 where it gives no
// uncertainty. Of the parameters crs comes first and then u, as the RFC has it.
func ParseURI(uri string) (p Point, radiusKm float64, err error) {
	scheme, rest, ok := strings.Cut(uri, ":")
	if !ok || !strings.EqualFold(scheme, "geo") {
		return p, 0, fmt.Errorf("%.60q has not the scheme geo", uri)
	}
	parts := strings.Split(rest, ";")
	numbers := strings.Split(parts[0], ",")
	if len(numbers) != 2 && len(numbers) != 3 {
		return p, 0, fmt.Errorf("%.60q has not two or three coordinates", uri)
	}
	values := make([]float64, len(numbers))
	for i, text := range numbers {
		values[i], err = strconv.ParseFloat(text, 64)
		if err != nil || !uriNumber.MatchString(text) {
			return p, 0, fmt.Errorf("%.60q: %.20q is not a number", uri, text)
		}
	}
	if p = (Point{Latitude: values[0], Longitude: values[1]}); !p.Valid() {
		return Point{}, 0, fmt.Errorf("%.60q lies beyond 90 or 180 degrees", uri)
	}
	for i, parameter := range parts[1:] {
		name, value, _ := strings.Cut(parameter, "=")
		switch name = strings.ToLower(name); {
		case name == "crs" && i > 0:
			return Point{}, 0, fmt.Errorf("%.60q: crs must be the first parameter (RFC 5870)", uri)
		case name == "crs" && !strings.EqualFold(value, "wgs84"):
			return Point{}, 0, fmt.Errorf("%.60q: the reference system %.20q is not wgs84", uri, value)
		case name == "u":
			if before, _, _ := strings.Cut(parts[i], "="); i > 1 || i == 1 && !strings.EqualFold(before, "crs") {
				return Point{}, 0, fmt.Errorf("%.60q: u must be the first parameter, or follow crs (RFC 5870)", uri)
			}
			u, err := strconv.ParseFloat(value, 64)
			if err != nil || !uriNumber.MatchString(value) || u < 0 {
				return Point{}, 0, fmt.Errorf("%.60q: %.20q is not an uncertainty", uri, value)
			}
			radiusKm = u / 1000
		}
	}
	return p, radiusKm, nil
}
