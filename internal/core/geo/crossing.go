package geo

import (
	"cmp"
	"slices"
)

// Crossing finds a place where the outline of an area crosses itself, so that what is inside is not
// clear; crosses is false where there is none. Edges that merely touch at a corner, and those of
// different rings, are not looked at. It takes the time of comparing all edges whose longitudes overlap.
func (a Area) Crossing() (at Point, crosses bool) {
	for _, rings := range a.polygons {
		for i := range rings {
			if at, crosses = rings[i].crossing(); crosses {
				return at, true
			}
		}
	}
	return at, false
}

// edge is a side of a ring; the first end is the western one.
type edge struct{ a, b Point }

func (r *ring) crossing() (at Point, crosses bool) {
	edges := make([]edge, 0, len(r.line))
	for i, b := range r.line[1:] {
		a := r.line[i]
		if a == b {
			continue
		}
		if a.Longitude > b.Longitude {
			a, b = b, a
		}
		edges = append(edges, edge{a, b})
	}
	slices.SortFunc(edges, func(x, y edge) int { return cmp.Compare(x.a.Longitude, y.a.Longitude) })
	var open []edge // that reach the longitude that is looked at
	for _, e := range edges {
		open = slices.DeleteFunc(open, func(o edge) bool { return o.b.Longitude < e.a.Longitude })
		for _, o := range open {
			if e.crosses(o) {
				return e.a, true
			}
		}
		open = append(open, e)
	}
	return at, false
}

// crosses says whether the insides of two edges meet in a point of both.
func (e edge) crosses(o edge) bool {
	if min(e.a.Latitude, e.b.Latitude) > max(o.a.Latitude, o.b.Latitude) || max(e.a.Latitude, e.b.Latitude) < min(o.a.Latitude, o.b.Latitude) {
		return false
	}
	return side(e, o.a)*side(e, o.b) < 0 && side(o, e.a)*side(o, e.b) < 0
}

// side says on which side of an edge a point is: 1, -1, or 0 on it.
func side(e edge, p Point) int {
	d := (e.b.Longitude-e.a.Longitude)*(p.Latitude-e.a.Latitude) - (e.b.Latitude-e.a.Latitude)*(p.Longitude-e.a.Longitude)
	switch {
	case d > 0:
		return 1
	case d < 0:
		return -1
	}
	return 0
}
