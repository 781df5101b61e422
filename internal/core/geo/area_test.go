package geo

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNearestAgreesWithAScan(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	points := make([]Point, 600)
	for i := range points {
		points[i] = Point{r.Float64()*180 - 90, r.Float64()*360 - 180}
	}
	x := NewIndex(points)
	even := func(i int) bool { return i%2 == 0 }
	for range 300 {
		p := Point{r.Float64()*180 - 90, r.Float64()*360 - 180}
		if r.IntN(4) == 0 { // at the antimeridian, and near a pole
			p = Point{[]float64{90, -89.9, 12}[r.IntN(3)], []float64{180, -180, 179.99}[r.IntN(3)]}
		}
		var want []Near
		for i := range points {
			if even(i) {
				want = append(want, Near{i, DistanceKm(p, points[i])})
			}
		}
		slices.SortFunc(want, func(a, b Near) int { return cmp.Compare(a.Km, b.Km) })
		got := x.Nearest(p, 5, even)
		require.Len(t, got, 5)
		for i := range got {
			require.InDelta(t, want[i].Km, got[i].Km, 1e-6)
		}
	}
	assert.Empty(t, x.Nearest(Point{91, 0}, 3, nil))
	assert.Empty(t, NewIndex(nil).Nearest(Point{}, 3, nil))
	assert.Len(t, x.Nearest(Point{}, 1000, nil), 600)
}

const squares = `{"type":"FeatureCollection","features":[
 {"type":"Feature","properties":{"name":"lake"},"geometry":{"type":"Polygon","coordinates":[[[0,0],[10,0],[10,10],[0,10],[0,0]],[[4,4],[6,4],[6,6],[4,6],[4,4]]]}},
 {"type":"Feature","properties":{"name":"east"},"geometry":{"type":"MultiPolygon","coordinates":[[[[10,0],[20,0],[20,10],[10,10],[10,0]]],[[[170,-5],[180,-5],[180,5],[170,5],[170,-5]]]]}}]}`

func TestAreas(t *testing.T) {
	areas, err := ReadAreas([]byte(squares))
	require.NoError(t, err)
	in := func(lat, lon float64) (names []string) {
		for _, a := range areas {
			if a.Contains(Point{lat, lon}) {
				names = append(names, a.Name)
			}
		}
		return names
	}
	assert.Equal(t, []string{"lake"}, in(1, 2))
	assert.Empty(t, in(5, 5), "the hole")
	assert.Equal(t, []string{"east"}, in(0, 175))
	assert.Empty(t, in(0, -175))
	assert.Len(t, in(5, 10), 1, "an edge belongs to one of its areas")

	for says, text := range map[string]string{
		"no GeoJSON":              `{`,
		"give a FeatureColl":      `{"type":"Point","coordinates":[1,2]}`,
		"no property name":        `{"type":"Feature","geometry":{"type":"Polygon","coordinates":[]}}`,
		"is empty":                `{"type":"FeatureCollection","features":[]}`,
		"is a Polygon":            `{"type":"Feature","properties":{"name":"x"},"geometry":{"type":"Point","coordinates":[1,2]}}`,
		"at least 4":              `{"type":"Feature","properties":{"name":"x"},"geometry":{"type":"Polygon","coordinates":[[[0,0],[1,1]]]}}`,
		"where it began":          `{"type":"Feature","properties":{"name":"x"},"geometry":{"type":"Polygon","coordinates":[[[0,0],[1,0],[1,1],[2,2]]]}}`,
		"longitude first":         `{"type":"Feature","properties":{"name":"x"},"geometry":{"type":"Polygon","coordinates":[[[38,139],[39,139],[39,140],[38,139]]]}}`,
		"not on the Earth":        `{"type":"Feature","properties":{"name":"x"},"geometry":{"type":"Polygon","coordinates":[[[0,900],[1,0],[1,1],[0,900]]]}}`,
		"has longitude and":       `{"type":"Feature","properties":{"name":"x"},"geometry":{"type":"Polygon","coordinates":[[[0],[1],[1],[0]]]}}`,
		`two features are called`: `{"type":"FeatureCollection","features":[` + feature + `,` + feature + `]}`,
	} {
		_, err := ReadAreas([]byte(text))
		require.ErrorIs(t, err, ErrAreas)
		assert.ErrorContains(t, err, says)
	}
}

const feature = `{"type":"Feature","properties":{"name":"x"},"geometry":{"type":"Polygon","coordinates":[[[0,0],[1,0],[1,1],[0,0]]]}}`

func TestGeoURI(t *testing.T) {
	assert.Equal(t, "geo:38.72,-9.14;u=25000", Point{38.72, -9.14}.URI(25))
	assert.Equal(t, "geo:0,0", Point{}.URI(0))
	for uri, want := range map[string]Near{"geo:38.72,-9.14;u=25000": {0, 25}, "GEO:38.72,-9.14,12;crs=WGS84;x=1": {}, "geo:38.72,-9.14": {}} {
		p, km, err := ParseURI(uri)
		require.NoError(t, err)
		assert.Equal(t, Point{38.72, -9.14}, p)
		assert.InDelta(t, want.Km, km, 1e-9)
	}
	for _, uri := range []string{"", "geo:", "geo:1", "geo:1,2,3,4", "geo:91,0", "geo:a,b", "geo:NaN,0", "geo:1,2;u=-1", "geo:1,2;crs=moon", "http:1,2"} {
		_, _, err := ParseURI(uri)
		require.Error(t, err, uri)
	}
}

func FuzzAreas(f *testing.F) {
	f.Add([]byte(squares), 1.0, 2.0)
	f.Fuzz(func(_ *testing.T, text []byte, lat, lon float64) {
		areas, err := ReadAreas(text)
		if err == nil {
			for _, a := range areas {
				a.Contains(Point{lat, lon})
			}
		}
	})
}
