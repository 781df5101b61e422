package httpapi

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// cell is a part of the map and the visits whose points lie in it.
type cell struct {
	Latitude  float64 `json:"latitude"` // of the middle of the visits
	Longitude float64 `json:"longitude"`
	Visits    int64   `json:"visits"`
	Places    int     `json:"places"`
	RadiusKm  float64 `json:"radius_km"` // the largest
}

// cellsAcross is how many cells a tile of the map's zoom level has to a side.
const cellsAcross = 8

// getGrid counts visits by cells of a grid, which gets finer with the zoom
// level: level z parts the world into 2^z tiles a side of 8 cells each.
func (a *api) getGrid(c *gin.Context) {
	zoom, err := intOf(c, "zoom", 2, 0, 12)
	box := [4]float64{-180, -90, 180, 90}
	if text := c.Query("bbox"); err == nil && text != "" {
		box, err = readBox(text)
	}
	f, _, ok := a.countedOr(c, err)
	if !ok {
		return
	}
	t, err := a.Store.Tally(c, f, visit.ByPlace, a.Now())
	if err != nil {
		a.fail(c, err)
		return
	}
	size := 360 / math.Exp2(float64(zoom)) / cellsAcross
	cells := map[[2]int]*cell{}
	var total, outside int64
	for _, k := range t.Keys {
		p := k.Place
		if p.Latitude == nil || p.Longitude == nil {
			continue
		}
		if !inBox(box, *p.Latitude, *p.Longitude) {
			outside += k.Visits
			continue
		}
		at := [2]int{int(math.Floor(*p.Latitude / size)), int(math.Floor(*p.Longitude / size))}
		one := cells[at]
		if one == nil {
			one = &cell{}
			cells[at] = one
		}
		n := float64(k.Visits) / float64(one.Visits+k.Visits)
		one.Latitude += (*p.Latitude - one.Latitude) * n
		one.Longitude += (*p.Longitude - one.Longitude) * n
		one.Visits, one.Places = one.Visits+k.Visits, one.Places+1
		if p.RadiusKm != nil {
			one.RadiusKm = max(one.RadiusKm, *p.RadiusKm)
		}
		total += k.Visits
	}
	rows := []cell{}
	for _, one := range cells {
		rows = append(rows, *one)
	}
	slices.SortFunc(rows, func(a, b cell) int {
		return cmp.Or(cmp.Compare(b.Visits, a.Visits), cmp.Compare(a.Latitude, b.Latitude), cmp.Compare(a.Longitude, b.Longitude))
	})
	said, err := a.answeredBy(c, f, "grid", t, total)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	a.answerList(c, "rows", struct {
		answered
		CellDegrees float64          `json:"cell_degrees"`
		Rows        []cell           `json:"rows"`
		NoPoint     visit.Unmappable `json:"no_point"`
		Outside     int64            `json:"outside"` // the box
	}{said, size, rows, pointless(visit.ByPlace, t), outside})
}

// readBox reads west, south, east, north (RFC 7946, section 5), where west may
// be greater than east, across the antimeridian.
func readBox(text string) (box [4]float64, err error) {
	parts := strings.Split(text, ",")
	bad := invalidField("bbox", fmt.Sprintf("%.60q is not a box", text), "Give west,south,east,north in degrees, such as -10,35,5,45.")
	if len(parts) != 4 {
		return box, bad
	}
	for i, part := range parts {
		if box[i], err = strconv.ParseFloat(strings.TrimSpace(part), 64); err != nil || math.IsNaN(box[i]) {
			return box, bad
		}
	}
	if math.Abs(box[0]) > 180 || math.Abs(box[2]) > 180 || box[1] < -90 || box[3] > 90 || box[1] >= box[3] {
		return box, bad
	}
	return box, nil
}

func inBox(box [4]float64, lat, lon float64) bool {
	inside := lon >= box[0] && lon <= box[2]
	if box[0] > box[2] {
		inside = lon >= box[0] || lon <= box[2]
	}
	return inside && lat >= box[1] && lat <= box[3]
}

// bands are where the rows of the report of distances end, in kilometres.
var bands = []float64{10, 50, 100, 250, 500, 1000, 2500, 5000, 10000, 20040}

// getDistances says how far from a point visits come.
func (a *api) getDistances(c *gin.Context) {
	from, err := requiredPoint(c)
	f, _, ok := a.countedOr(c, err)
	if !ok {
		return
	}
	t, err := a.Store.Tally(c, f, visit.ByPlace, a.Now())
	if err != nil {
		a.fail(c, err)
		return
	}
	type band struct {
		FromKm float64 `json:"from_km"`
		ToKm   float64 `json:"to_km"`
		Visits int64   `json:"visits"`
		Share  float64 `json:"share"`
	}
	type reached struct {
		km     float64
		visits int64
		place  string
	}
	rows := make([]band, len(bands))
	for i, to := range bands {
		rows[i].ToKm = to
		if i > 0 {
			rows[i].FromKm = bands[i-1]
		}
	}
	var all []reached
	var total int64
	for _, k := range t.Keys {
		line, ok := placeLine(k)
		if !ok {
			continue
		}
		km := geo.DistanceKm(from, geo.Point{Latitude: *line.Latitude, Longitude: *line.Longitude})
		i, _ := slices.BinarySearch(bands, km)
		rows[min(i, len(rows)-1)].Visits += k.Visits
		all = append(all, reached{km, k.Visits, plain.Value(line.Name)})
		total += k.Visits
	}
	slices.SortFunc(all, func(a, b reached) int { return cmp.Compare(a.km, b.km) })
	for i := range rows {
		rows[i].Share = float64(rows[i].Visits) / float64(max(1, total))
	}
	var median, farthest *float64
	var where *string
	var seen int64
	for _, r := range all {
		if seen += r.visits; median == nil && 2*seen >= total {
			median = rounded(r.km)
		}
		farthest, where = rounded(r.km), &r.place
	}
	said, err := a.answeredBy(c, f, "distances", t, total)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	a.answerList(c, "rows", struct {
		answered
		Latitude   float64          `json:"latitude"`
		Longitude  float64          `json:"longitude"`
		MedianKm   *float64         `json:"median_km"`
		FarthestKm *float64         `json:"farthest_km"`
		Farthest   *string          `json:"farthest"`
		Rows       []band           `json:"rows"`
		NoPoint    visit.Unmappable `json:"no_point"`
	}{said, from.Latitude, from.Longitude, median, farthest, where, rows, pointless(visit.ByPlace, t)})
}

func rounded(km float64) *float64 {
	r := math.Round(km*10) / 10
	return &r
}
