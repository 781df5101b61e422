package compare

import (
	"net/netip"
	"runtime"
	"sync"

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

// Known are overlaps of an edition before, and the sources that are the same in both: two of those
// are not compared again. The zero Known are none.
type Known struct {
	Overlaps []Overlap
	Same     func(source string) bool
}

// Overlaps compares every two sources of an edition, by going through the whole of it. Pairs
// without an overlap are left out.
func Overlaps(a *atlas.Atlas, known Known) []Overlap {
	o := &overlaps{sources: a.Sources()}
	n := len(o.sources)
	for _, s := range o.sources {
		o.fresh = append(o.fresh, known.Same == nil || !known.Same(s.Name))
	}
	var total sums
	total.make(n)
	var wait sync.WaitGroup
	parts := make(chan addr.Range)
	var lock sync.Mutex
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			var mine sums
			mine.make(n)
			for part := range parts {
				o.sweep(part, &mine)
			}
			lock.Lock()
			defer lock.Unlock()
			total.add(&mine)
		})
	}
	for _, part := range slices4() {
		parts <- part
	}
	parts <- atlas.Spaces[1]
	close(parts)
	wait.Wait()
	list := []Overlap{}
	for j := range n {
		for i := j + 1; i < n; i++ {
			at := j*n + i
			if !o.fresh[i] && !o.fresh[j] {
				for _, before := range known.Overlaps {
					if before.First == o.sources[j].Name && before.Second == o.sources[i].Name {
						list = append(list, before)
					}
				}
				continue
			}
			if total.both[at] == [2]float64{} {
				continue
			}
			made := Overlap{First: o.sources[j].Name, Second: o.sources[i].Name, IPv4: total.both[at][0], IPv6: total.both[at][1]}
			if total.located[at] > 0 {
				agree := total.same[at] / total.located[at]
				made.Agree = &agree
			}
			list = append(list, made)
		}
	}
	return list
}

// slices4 are sixteen parts of IPv4.
func slices4() (list []addr.Range) {
	for i := range 16 {
		list = append(list, addr.Range{First: netip.AddrFrom4([4]byte{byte(i << 4)}), Last: netip.AddrFrom4([4]byte{byte(i<<4 | 15), 255, 255, 255})})
	}
	return list
}

type overlaps struct {
	sources []*atlas.Source
	fresh   []bool // by source: pairs with it are compared
}

// sums are of pairs of sources, at first*n+second.
type sums struct {
	both          [][2]float64 // by family
	located, same []float64
}

func (s *sums) make(n int) {
	s.both, s.located, s.same = make([][2]float64, n*n), make([]float64, n*n), make([]float64, n*n)
}

func (s *sums) add(other *sums) {
	for i := range s.both {
		s.both[i][0] += other.both[i][0]
		s.both[i][1] += other.both[i][1]
		s.located[i] += other.located[i]
		s.same[i] += other.same[i]
	}
}

// A view is what a source says of the stretch up to last.
type view struct {
	last    netip.Addr
	holds   bool
	country string // "" where it locates nothing
}

// sweep goes through a range, from one end of what any source says to the next. What a source says
// is looked up once for each stretch of its own.
func (o *overlaps) sweep(within addr.Range, sum *sums) {
	n, family := len(o.sources), 0
	if within.First.Is6() {
		family = 1
	}
	views := make([]view, n)
	look := func(i int, at netip.Addr) {
		if v := &views[i]; !v.last.IsValid() || v.last.Less(at) {
			cell, holds, country := o.sources[i].Cell(at)
			*v = view{cell.Last, holds, country}
		}
	}
	for at := within.First; at.IsValid() && at.BitLen() == within.First.BitLen() && !within.Last.Less(at); {
		cell := addr.Range{First: at, Last: within.Last}
		shorten := func(i int) {
			if views[i].last.Less(cell.Last) {
				cell.Last = views[i].last
			}
		}
		any := false
		for i := range n {
			if o.fresh[i] {
				look(i, at)
				shorten(i)
				any = any || views[i].holds
			}
		}
		if any {
			for i := range n {
				if !o.fresh[i] {
					look(i, at)
					shorten(i)
				}
			}
			o.count(views, atlas.Weight(cell), family, sum)
		}
		at = cell.Last.Next()
	}
}

func (o *overlaps) count(views []view, w float64, family int, sum *sums) {
	n := len(views)
	for i := range views {
		if !views[i].holds {
			continue
		}
		for j := range i {
			if !views[j].holds || !o.fresh[i] && !o.fresh[j] {
				continue
			}
			at := j*n + i
			sum.both[at][family] += w
			if views[i].country != "" && views[j].country != "" {
				sum.located[at] += w
				if views[i].country == views[j].country {
					sum.same[at] += w
				}
			}
		}
	}
}
