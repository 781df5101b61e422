// Package geo measures on the sphere: distances, middles and the radius that
// holds most of a population. Angles are degrees, distances kilometres; the
// Earth is a sphere of radius 6371 km, which is right within 0.6%.
package geo

import (
	"cmp"
	"math"
	"slices"
)

const earthKm = 6371.0088

// A Point is a place on the sphere, in degrees.
type Point struct{ Latitude, Longitude float64 }

// DistanceKm is the great-circle distance between a and b (haversine).
func DistanceKm(a, b Point) float64 {
	dLat, dLon := rad(b.Latitude-a.Latitude), rad(b.Longitude-a.Longitude)
	sLat, sLon := math.Sin(dLat/2), math.Sin(dLon/2)
	h := sLat*sLat + math.Cos(rad(a.Latitude))*math.Cos(rad(b.Latitude))*sLon*sLon
	return 2 * earthKm * math.Asin(math.Sqrt(min(1, h)))
}

// A Weighted point counts as much as its weight.
type Weighted struct {
	Point
	Weight float64
}

// Middle is the weighted middle of points on the sphere, right across the
// antimeridian too. Without points of positive weight it is ok == false.
func Middle(points []Weighted) (middle Point, ok bool) {
	var x, y, z, sum float64
	for _, p := range points {
		lat, lon := rad(p.Latitude), rad(p.Longitude)
		x += p.Weight * math.Cos(lat) * math.Cos(lon)
		y += p.Weight * math.Cos(lat) * math.Sin(lon)
		z += p.Weight * math.Sin(lat)
		sum += p.Weight
	}
	if sum <= 0 || x == 0 && y == 0 && z == 0 {
		return Point{}, false
	}
	return Point{
		Latitude:  math.Atan2(z, math.Hypot(x, y)) * 180 / math.Pi,
		Longitude: math.Atan2(y, x) * 180 / math.Pi,
	}, true
}

// RadiusKm is the smallest distance from middle within which share (0 to 1) of
// the weight lies; 0 without points.
func RadiusKm(middle Point, points []Weighted, share float64) float64 {
	type ring struct{ km, weight float64 }
	rings, sum := make([]ring, len(points)), 0.0
	for i, p := range points {
		rings[i] = ring{DistanceKm(middle, p.Point), p.Weight}
		sum += p.Weight
	}
	slices.SortFunc(rings, func(a, b ring) int { return cmp.Compare(a.km, b.km) })
	reached := 0.0
	for _, r := range rings {
		if reached += r.weight; reached >= share*sum {
			return r.km
		}
	}
	return 0
}

func rad(degrees float64) float64 { return degrees * math.Pi / 180 }

// Valid says whether p lies on the sphere: latitude within 90 degrees, longitude
// within 180, neither of them NaN.
func (p Point) Valid() bool {
	return math.Abs(p.Latitude) <= 90 && math.Abs(p.Longitude) <= 180
}
