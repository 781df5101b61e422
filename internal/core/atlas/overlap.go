package atlas

import "eastporch/internal/core/addr"

// An Overlap says how much two sources both say something of.
type Overlap struct {
	First  string   `json:"first"`
	Second string   `json:"second"`
	IPv4   float64  `json:"ipv4_addresses"`
	IPv6   float64  `json:"ipv6_48s"`
	Agree  *float64 `json:"agree"` // share of what both locate with the same country, nil where that is nothing
}

// Overlaps compares every two sources of the edition, by going through the whole
// of it. Pairs without an overlap are left out.
func (a *Atlas) Overlaps() []Overlap {
	n := len(a.sources)
	sums, both, same := make([][2]float64, n*n), make([]float64, n*n), make([]float64, n*n)
	countries := make([]string, n)
	for family, space := range []addr.Range{all4, all6} {
		sweep(space, a.tables(), func(cell addr.Range) bool {
			w := weight(cell)
			for i, s := range a.sources {
				countries[i] = "-"
				if s.table.Find(cell.First) == 0 {
					continue
				}
				countries[i] = ""
				if rec, ok := s.find(cell.First, (*place).locates); ok {
					countries[i] = rec.country
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
		})
	}
	list := []Overlap{}
	for j := range n {
		for i := j + 1; i < n; i++ {
			at := j*n + i
			if sums[at] == [2]float64{} {
				continue
			}
			o := Overlap{First: a.sources[j].Name, Second: a.sources[i].Name, IPv4: sums[at][0], IPv6: sums[at][1]}
			if both[at] > 0 {
				agree := same[at] / both[at]
				o.Agree = &agree
			}
			list = append(list, o)
		}
	}
	return list
}
