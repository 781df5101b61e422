package report

import (
	"cmp"
	"context"
	"math"
	"slices"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// noPoint counts the visits that no map can show, where places were counted, with the owner's words that
// stand in place of locations.
func (r *Reports) noPoint(ctx context.Context, f visit.Filter, t visit.Tally) (NoPoint, error) {
	n := NoPointOf(t)
	if n.Skipped+n.NotFound == 0 {
		return n, nil
	}
	words, err := r.counts.Tally(ctx, f, visit.ByPlaceholder, r.now())
	for _, k := range words.Keys {
		if k.Key != "" {
			n.Placeholders[k.Key] += k.Visits
		}
	}
	return n, err
}

// NoPointOf counts the visits that no map can show, where places were counted; the owner's words for them
// are counted apart.
func NoPointOf(t visit.Tally) NoPoint {
	n := NoPoint{Placeholders: map[string]int64{}}
	for _, k := range t.Keys {
		switch place := k.Place; {
		case place.Level == "skipped":
			n.Skipped += k.Visits
		case place.Level == "not found":
			n.NotFound += k.Visits
		case place.Latitude == nil:
			n.Unknown += k.Visits
		}
	}
	return n
}

// byRegistration counts the visits whose country is known by registration only.
func (r *Reports) byRegistration(ctx context.Context, f visit.Filter) (*int64, error) {
	t, err := r.counts.Tally(ctx, f, visit.ByBasis, r.now())
	n := int64(0)
	for _, k := range t.Keys {
		if k.Key == string(atlas.Registration) {
			n += k.Visits
		}
	}
	return &n, err
}

// cellsAcross is how many cells a tile of the map's zoom level has to a side.
const cellsAcross = 8

// Grid counts visits by cells of a grid within a box, which gets finer with the zoom
// level: level z parts the world into 2^z tiles a side of 8 cells each.
func (r *Reports) Grid(ctx context.Context, f visit.Filter, zoom int, box geo.Box) (Grid, error) {
	t, err := r.counts.Tally(ctx, f, visit.ByPlace, r.now())
	if err != nil {
		return Grid{}, err
	}
	answer := Grid{CellDegrees: 360 / math.Exp2(float64(zoom)) / cellsAcross, Rows: []Cell{}}
	if answer.NoPoint, err = r.noPoint(ctx, f, t); err != nil {
		return Grid{}, err
	}
	cells, total := map[[2]int]*Cell{}, int64(0)
	for _, k := range t.Keys {
		p := k.Place
		if p.Latitude == nil || p.Longitude == nil {
			continue
		}
		if !box.Holds(geo.Point{Latitude: *p.Latitude, Longitude: *p.Longitude}) {
			answer.Outside += k.Visits
			continue
		}
		at := [2]int{int(math.Floor(*p.Latitude / answer.CellDegrees)), int(math.Floor(*p.Longitude / answer.CellDegrees))}
		if cells[at] == nil {
			cells[at] = &Cell{}
		}
		cells[at].add(p, k.Visits)
		total += k.Visits
	}
	for _, one := range cells {
		answer.Rows = append(answer.Rows, *one)
	}
	slices.SortFunc(answer.Rows, func(a, b Cell) int {
		return cmp.Or(cmp.Compare(b.Visits, a.Visits), cmp.Compare(a.Latitude, b.Latitude), cmp.Compare(a.Longitude, b.Longitude))
	})
	answer.Answered, err = r.answered(ctx, f, "grid", t, total)
	return answer, err
}

// add counts the visits of a place, and moves the middle of the cell's visits.
func (c *Cell) add(p visit.Place, visits int64) {
	c.Visits, c.Places = c.Visits+visits, c.Places+1
	weight := float64(visits) / float64(c.Visits)
	c.Latitude += (*p.Latitude - c.Latitude) * weight
	c.Longitude += (*p.Longitude - c.Longitude) * weight
	if p.RadiusKm != nil {
		c.RadiusKm = max(c.RadiusKm, *p.RadiusKm)
	}
}

// bands are where the rows of the report of distances end, in kilometres; the last is half of
// the Earth's circumference.
var bands = []float64{10, 50, 100, 250, 500, 1000, 2500, 5000, 10000, 20040}

// Distances says how far from a point visits come.
func (r *Reports) Distances(ctx context.Context, f visit.Filter, from geo.Point) (Distances, error) {
	t, err := r.counts.Tally(ctx, f, visit.ByPlace, r.now())
	if err != nil {
		return Distances{}, err
	}
	answer := Distances{Latitude: from.Latitude, Longitude: from.Longitude, Rows: make([]Band, len(bands))}
	if answer.NoPoint, err = r.noPoint(ctx, f, t); err != nil {
		return Distances{}, err
	}
	for i, to := range bands {
		answer.Rows[i].ToKm = to
		if i > 0 {
			answer.Rows[i].FromKm = bands[i-1]
		}
	}
	type reached struct {
		km     float64
		visits int64
		place  string
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
		answer.Rows[min(i, len(bands)-1)].Visits += k.Visits
		all = append(all, reached{km, k.Visits, plain.Value(line.Name)})
		total += k.Visits
	}
	slices.SortFunc(all, func(a, b reached) int { return cmp.Compare(a.km, b.km) })
	for i := range answer.Rows {
		answer.Rows[i].Share = float64(answer.Rows[i].Visits) / float64(max(1, total))
	}
	var seen int64
	for _, one := range all {
		if seen += one.visits; answer.MedianKm == nil && 2*seen >= total {
			answer.MedianKm = rounded(one.km)
		}
		answer.FarthestKm, answer.Farthest = rounded(one.km), &one.place
	}
	answer.Answered, err = r.answered(ctx, f, "distances", t, total)
	return answer, err
}

func rounded(km float64) *float64 {
	r := math.Round(km*10) / 10
	return &r
}
