package geo

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// An Area is a named polygon, or several, each perhaps with holes.
type Area struct {
	Name     string
	polygons [][]ring // the first ring of each is its outline
}

// ring is a closed line of points; the last is not the first again.
type ring []Point

// ErrAreas is wrapped by the errors of [ReadAreas].
var ErrAreas = errors.New("no usable areas")

// maxCorners bounds the corners of all areas of a file.
const maxCorners = 1_000_000

// ReadAreas reads a GeoJSON FeatureCollection or Feature (RFC 7946) of polygons
// and multipolygons, longitude first. Each is named by its property name, which
// must differ. An edge is straight on the map of longitude and latitude, as the
// RFC has it; a polygon that crosses the antimeridian must be cut there. The error
// wraps [ErrAreas] and names the feature.
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
				corners += len(r)
				rings = append(rings, r)
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
		return nil, fmt.Errorf("a ring has %d positions, and at least 4 close one", len(line))
	}
	r := make(ring, len(line))
	for i, position := range line {
		if len(position) < 2 {
			return nil, errors.New("a position has longitude and latitude")
		}
		r[i] = Point{Latitude: position[1], Longitude: position[0]}
		if !r[i].Valid() {
			if (Point{Latitude: position[0], Longitude: position[1]}).Valid() {
				return nil, fmt.Errorf("latitude %g is beyond 90 degrees; GeoJSON has longitude first: are they swapped?", position[1])
			}
			return nil, fmt.Errorf("the position %g, %g is not on the Earth", position[0], position[1])
		}
	}
	if r[0] != r[len(r)-1] {
		return nil, errors.New("a ring does not end where it began")
	}
	return r[:len(r)-1], nil
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

// contains counts the edges that a line to the east crosses.
func (r ring) contains(p Point) bool {
	inside := false
	for i, j := 0, len(r)-1; i < len(r); j, i = i, i+1 {
		a, b := r[i], r[j]
		if (a.Latitude > p.Latitude) != (b.Latitude > p.Latitude) &&
			p.Longitude < (b.Longitude-a.Longitude)*(p.Latitude-a.Latitude)/(b.Latitude-a.Latitude)+a.Longitude {
			inside = !inside
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

// ParseURI reads a geo URI (RFC 5870) of the WGS 84 reference system. Altitude
// and unknown parameters are passed over; radiusKm is 0 where it gives no
// uncertainty.
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
		if values[i], err = strconv.ParseFloat(text, 64); err != nil {
			return p, 0, fmt.Errorf("%.60q: %.20q is no number", uri, text)
		}
	}
	if p = (Point{Latitude: values[0], Longitude: values[1]}); !p.Valid() {
		return Point{}, 0, fmt.Errorf("%.60q lies beyond 90 or 180 degrees", uri)
	}
	for _, parameter := range parts[1:] {
		name, value, _ := strings.Cut(parameter, "=")
		switch strings.ToLower(name) {
		case "crs":
			if !strings.EqualFold(value, "wgs84") {
				return Point{}, 0, fmt.Errorf("%.60q: the reference system %.20q is not wgs84", uri, value)
			}
		case "u":
			u, err := strconv.ParseFloat(value, 64)
			if err != nil || u < 0 || math.IsNaN(u) {
				return Point{}, 0, fmt.Errorf("%.60q: %.20q is no uncertainty", uri, value)
			}
			radiusKm = u / 1000
		}
	}
	return p, radiusKm, nil
}
