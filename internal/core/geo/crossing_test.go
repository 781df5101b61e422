package geo

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func area(t *testing.T, coordinates string) Area {
	t.Helper()
	areas, err := ReadAreas([]byte(`{"type":"Feature","properties":{"name":"a"},"geometry":{"type":"Polygon","coordinates":[` + coordinates + `]}}`))
	require.NoError(t, err)
	return areas[0]
}

func TestCrossing(t *testing.T) {
	for coordinates, want := range map[string]bool{
		"[[0,0],[10,0],[10,10],[0,10],[0,0]]":                                 false,
		"[[0,0],[10,10],[10,0],[0,10],[0,0]]":                                 true,
		"[[0,0],[10,0],[10,10],[0,10],[0,0]],[[2,2],[2,4],[4,4],[4,2],[2,2]]": false,
		"[[170,-20],[-170,-20],[-170,20],[170,20],[170,-20]]":                 false, // over the date line
		"[[170,-20],[-170,20],[-170,-20],[170,20],[170,-20]]":                 true,
		"[[-180,70],[-90,70],[0,70],[90,70],[180,70],[-180,70]]":              false, // around a pole
		"[[0,0],[5,5],[10,0],[10,10],[5,5],[0,10],[0,0]]":                     false, // it touches itself at a corner
	} {
		_, crosses := area(t, coordinates).Crossing()
		assert.Equal(t, want, crosses, coordinates)
	}
}

// A star-shaped outline never crosses itself; with two of its corners exchanged it does.
func TestCrossingOfRandomOutlines(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 4))
	for range 500 {
		n := 5 + r.IntN(60)
		corners := make([][2]float64, n)
		for i := range corners {
			angle, far := 2*math.Pi*float64(i)/float64(n), 5+30*r.Float64()
			corners[i] = [2]float64{far * math.Cos(angle), far * math.Sin(angle)}
		}
		outline := func() string {
			text := "["
			for _, c := range corners {
				text += fmt.Sprintf("[%f,%f],", c[0], c[1])
			}
			return text + fmt.Sprintf("[%f,%f]]", corners[0][0], corners[0][1])
		}
		at, crosses := area(t, outline()).Crossing()
		require.False(t, crosses, "%v of %s", at, outline())
		i := r.IntN(n - 3)
		corners[i+1], corners[i+2] = corners[i+2], corners[i+1]
		want := false // by every pair of edges
		for a := range n {
			for b := range a {
				e := edge{Point{corners[a][1], corners[a][0]}, Point{corners[(a+1)%n][1], corners[(a+1)%n][0]}}
				o := edge{Point{corners[b][1], corners[b][0]}, Point{corners[(b+1)%n][1], corners[(b+1)%n][0]}}
				want = want || e.crosses(o)
			}
		}
		_, crosses = area(t, outline()).Crossing()
		require.Equal(t, want, crosses)
	}
}
