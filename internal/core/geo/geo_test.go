package geo

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDistance(t *testing.T) {
	london, paris := Point{51.5074, -0.1278}, Point{48.8566, 2.3522}
	assert.InDelta(t, 343.5, DistanceKm(london, paris), 1)
	assert.InDelta(t, DistanceKm(paris, london), DistanceKm(london, paris), 1e-9)
	assert.Zero(t, DistanceKm(london, london))
	assert.InDelta(t, math.Pi*earthKm, DistanceKm(Point{0, 0}, Point{0, 180}), 1)
	assert.InDelta(t, 111.2, DistanceKm(Point{0, 179.5}, Point{0, -179.5}), 0.1, "across the antimeridian")
}

func TestMiddle(t *testing.T) {
	m, ok := Middle([]Weighted{{Point{0, 179}, 1}, {Point{0, -179}, 1}})
	assert.True(t, ok)
	assert.InDelta(t, 180, math.Abs(m.Longitude), 1e-9, "not at Greenwich")
	m, _ = Middle([]Weighted{{Point{10, 0}, 3}, {Point{20, 0}, 1}})
	assert.InDelta(t, 12.5, m.Latitude, 0.1)
	_, ok = Middle(nil)
	assert.False(t, ok)
}

func TestRadius(t *testing.T) {
	points := []Weighted{{Point{0, 0}, 95}, {Point{0, 1}, 5}}
	assert.Zero(t, RadiusKm(Point{0, 0}, points, 0.95))
	assert.InDelta(t, 111.2, RadiusKm(Point{0, 0}, points, 0.96), 0.1)
	assert.Zero(t, RadiusKm(Point{}, nil, 0.95))
}
