package compare

import (
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
)

// An Overlap says how much two sources both say something of.
type Overlap struct {
	First  string   `json:"first"`
	Second string   `json:"second"`
	IPv4   float64  `json:"ipv4_addresses"`
	IPv6   float64  `json:"ipv6_48s"`
	Agree  *float64 `json:"agree"` // share of what both locate with the same country, nil where that is nothing
}

// Overlaps compares every two sources of an edition, by going through the whole
// of it. Pairs without an overlap are left out.
func Overlaps(a *atlas.Atlas) []Overlap {
	sources := a.Sources()
	n := len(sources)
	sums, both, same := make([][2]float64, n*n), make([]float64, n*n), make([]float64, n*n)
	countries := make([]string, n)
	for family, space := range atlas.Spaces {
		atlas.Sweep(space, func(cell addr.Range) bool {
			w := atlas.Weight(cell)
			for i, s := range sources {
				countries[i] = "-"
				if !s.Holds(cell.First) {
					continue
				}
				countries[i] = ""
				if rec, ok := s.Find(cell.First, (*atlas.Place).Locates); ok {
					countries[i] = rec.Country
				}
				for j := range i {
					if countries[j] == "-" {
						continue
					}
					sums[j*n+i][family] += w
					if countries[i] != "" && countries[j] != "" {
						both[j*n+i] += w
						if countries[i] == countries[j] {
							same[j*n+i] += w
						}
					}
				}
			}
			return true
		}, a)
	}
	list := []Overlap{}
	for j := range n {
		for i := j + 1; i < n; i++ {
			at := j*n + i
			if sums[at] == [2]float64{} {
				continue
			}
			o := Overlap{First: sources[j].Name, Second: sources[i].Name, IPv4: sums[at][0], IPv6: sums[at][1]}
			if both[at] > 0 {
				agree := same[at] / both[at]
				o.Agree = &agree
			}
			list = append(list, o)
		}
	}
	return list
}
