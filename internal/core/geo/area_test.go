package geo

import (
	"cmp"
	"encoding/json"
	"math"
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
	for _, uri := range []string{"", "geo:", "geo:1", "geo:1,2,3,4", "geo:91,0", "geo:a,b", "geo:NaN,0", "geo:1,2;u=-1", "geo:1,2;u=1;crs=wgs84", "geo:1,2;x=1;u=1", "geo:1,2;u=1;u=1", "geo:1e1,2", "geo:+1,2", "geo:0x1,2", "geo:1.,2", "geo:1,2;u=1e3", "geo:1,2;crs=wgs84;crs=wgs84", "geo:1,2;crs=moon", "http:1,2"} {
		_, _, err := ParseURI(uri)
		require.Error(t, err, uri)
	}
}

// Areas that lie over the antimeridian, written as if the map went on there, hold what a
// model says that knows the shape before it was written down: by winding angles, or around
// a pole by the latitude of the line at a meridian.
func TestAreasOverTheAntimeridian(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 8))
	wrap := func(lon float64) float64 {
		lon = math.Mod(lon+540, 360)
		if lon < 0 {
			lon += 360
		}
		if lon -= 180; lon == -180 && r.IntN(2) == 0 {
			return 180
		}
		return lon
	}
	tried, over, poles := 0, 0, 0
	for range 1_500 {
		var line []Point
		var holds func(p Point) bool
		if n := 4 + r.IntN(9); r.IntN(3) > 0 { // a star
			middle := Point{r.Float64()*60 - 30, r.Float64()*360 - 180}
			for i := range n {
				angle, radius := 2*math.Pi*(float64(i)+r.Float64()*0.8)/float64(n), 5+r.Float64()*50
				line = append(line, Point{middle.Latitude + radius*math.Sin(angle), middle.Longitude + radius*math.Cos(angle)})
			}
			if r.IntN(2) == 0 { // with a corner at the antimeridian
				shift := math.Round(line[0].Longitude/180)*180 - line[0].Longitude
				for i := range line {
					line[i].Longitude += shift
				}
			}
			shape := slices.Clone(line)
			holds = func(p Point) bool {
				for k := -2.0; k <= 2; k++ {
					turned := 0.0
					for i, a := range shape {
						b := shape[(i+1)%n]
						from := math.Atan2(a.Latitude-p.Latitude, a.Longitude-p.Longitude-360*k)
						to := math.Atan2(b.Latitude-p.Latitude, b.Longitude-p.Longitude-360*k)
						turned += math.Remainder(to-from, 2*math.Pi)
					}
					if math.Abs(turned) > math.Pi {
						return true
					}
				}
				return false
			}
		} else { // around a pole
			poles++
			north := float64(2*r.IntN(2) - 1)
			begin := r.Float64() * 360
			for i := range n {
				line = append(line, Point{north * (20 + r.Float64()*60), begin + 360*(float64(i)+r.Float64()*0.5)/float64(n)})
			}
			shape := append(slices.Clone(line), Point{line[0].Latitude, line[0].Longitude + 360})
			holds = func(p Point) bool {
				lon := p.Longitude
				for lon < shape[0].Longitude {
					lon += 360
				}
				for lon >= shape[0].Longitude+360 {
					lon -= 360
				}
				i := 0
				for shape[i+1].Longitude <= lon {
					i++
				}
				part := (lon - shape[i].Longitude) / (shape[i+1].Longitude - shape[i].Longitude)
				return north*p.Latitude > north*(shape[i].Latitude*(1-part)+shape[i+1].Latitude*part)
			}
		}
		turn := r.IntN(len(line))
		line = append(slices.Clone(line[turn:]), line[:turn]...)
		if r.IntN(2) == 0 {
			slices.Reverse(line)
		}
		var written [][2]float64
		for _, p := range append(line, line[0]) {
			written = append(written, [2]float64{wrap(p.Longitude), p.Latitude})
		}
		text, err := json.Marshal(map[string]any{"type": "Feature", "properties": map[string]any{"name": "x"}, "geometry": map[string]any{"type": "Polygon", "coordinates": []any{written}}})
		require.NoError(t, err)
		areas, err := ReadAreas(text)
		require.NoError(t, err, string(text))
		crosses := false
		for i := range written[1:] {
			far := math.Abs(written[i+1][0] - written[i][0])
			crosses = crosses || far > 180 && far < 360
		}
		require.Equal(t, crosses, areas[0].Remark != "")
		if crosses {
			over++
		}
		for range 60 {
			p := Point{r.Float64()*180 - 90, r.Float64()*360 - 180}
			tried++
			require.Equal(t, holds(p), areas[0].Contains(p), "%v in %s", p, text)
		}
	}
	t.Logf("%d points tried, 0 differ; %d areas over the antimeridian, %d around a pole", tried, over, poles)

	whole, err := ReadAreas([]byte(`{"type":"Feature","properties":{"name":"north"},"geometry":{"type":"Polygon","coordinates":[[[-180,10],[180,10],[180,90],[-180,90],[-180,10]]]}}`))
	require.NoError(t, err)
	for lat, want := range map[float64]bool{-80: false, 9.9: false, 10.1: true, 89.9: true} {
		for _, lon := range []float64{-180, -179, 0, 90, 179.9, 180} {
			assert.Equal(t, want, whole[0].Contains(Point{lat, lon}), "%g, %g", lat, lon)
		}
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
