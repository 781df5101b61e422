package atlas

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/rangetable"
)

// Sweep calls do for one stretch after another, from first to last in one
// family, within each of which every source of the editions says the same; it stops
// where do returns false.
func Sweep(within addr.Range, do func(addr.Range) bool, editions ...*Atlas) {
	var tables []*rangetable.Table
	for _, a := range editions {
		tables = append(tables, a.tables()...)
	}
	for at := within.First; at.IsValid() && at.BitLen() == within.First.BitLen() && !within.Last.Less(at); {
		cell := within
		for _, t := range tables {
			if c := t.Cell(at); c.Last.Less(cell.Last) {
				cell.Last = c.Last
			}
		}
		cell.First = at
		if !do(cell) {
			return
		}
		at = cell.Last.Next()
	}
}

// Spaces are the whole space of each family.
var Spaces = [2]addr.Range{addr.RangeOf(netip.MustParsePrefix("0.0.0.0/0")), addr.RangeOf(netip.MustParsePrefix("::/0"))}

func (a *Atlas) tables() []*rangetable.Table {
	list := make([]*rangetable.Table, len(a.sources))
	for i, s := range a.sources {
		list[i] = s.arrays.Table
	}
	return list
}

// A Spot is a location in short.
type Spot struct {
	CountryCode string     `json:"country_code"` // "" for none
	RegionCode  string     `json:"region_code"`
	City        string     `json:"city"`
	Point       *geo.Point `json:"-"`
}

// String names the finest thing that is known, with its country.
func (s Spot) String() string {
	switch {
	case s.City != "":
		return s.City + " " + s.CountryCode
	case s.RegionCode != "":
		return s.RegionCode
	case s.CountryCode != "":
		return s.CountryCode
	}
	return "none"
}

// Spotter finds spots, and remembers the points that it derived.
type Spotter struct {
	points map[[3]string]derivedPoint
}

// NewSpotter makes a spotter; it is for one goroutine.
func NewSpotter() *Spotter { return &Spotter{points: map[[3]string]derivedPoint{}} }

// Spot gives the location of an address in short, the zero Spot where there is none.
func (k *Spotter) Spot(a *Atlas, ip netip.Addr) Spot {
	s, _ := k.leveled(a, ip)
	return s
}

// leveled gives its level beside the spot.
func (k *Spotter) leveled(a *Atlas, ip netip.Addr) (Spot, Level) {
	rec, _, ok := a.Located(ip)
	if !ok {
		return Spot{}, None
	}
	s := Spot{CountryCode: rec.Country, RegionCode: rec.Region, City: rec.City, Point: rec.Point}
	if s.Point != nil {
		return s, rec.Level()
	}
	key := [3]string{rec.Country, rec.Region, rec.City}
	d, known := k.points[key]
	if !known {
		d = middle(&rec.Place)
		k.points[key] = d
	}
	s.Point = d.point
	return s, d.level
}

// A derivedPoint is where a place is by the gazetteer, and to which level.
type derivedPoint struct {
	point *geo.Point
	level Level
}

// middle is the point that is derived for a place: of its town, failing that of its region,
// failing that of its country. A town that is not found is no finer than its point.
func middle(p *Place) derivedPoint {
	if t, ok := gazetteer.Find(p.Country, p.Region, p.City); ok {
		return derivedPoint{&t.Point, City}
	}
	level := func(of Level) Level {
		if p.City == "" {
			return p.Level()
		}
		return of
	}
	if area, ok := gazetteer.Region(p.Region); ok {
		return derivedPoint{&area.Middle, level(Region)}
	}
	if area, ok := gazetteer.Country(p.Country); ok {
		return derivedPoint{&area.Middle, level(Country)}
	}
	return derivedPoint{nil, level(Country)}
}

// Weight is how much a stretch holds: addresses of IPv4, /48s of IPv6.
func Weight(r addr.Range) float64 {
	if r.First.Is4() {
		a, b := r.First.As4(), r.Last.As4()
		return float64(be32(b)) - float64(be32(a)) + 1
	}
	a, b := r.First.As16(), r.Last.As16()
	sum := 0.0
	for i := range a {
		sum += (float64(b[i]) - float64(a[i])) * math.Ldexp(1, 40-8*i)
	}
	return sum + math.Ldexp(1, -80)
}

func be32(b [4]byte) uint32 {
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}

// A Share is how much of a range lies at one spot.
type Share struct {
	Spot
	Level   Level   `json:"level"`
	Share   float64 `json:"share"`   // of the range's addresses, 0 to 1
	Ranges  int     `json:"ranges"`  // stretches
	Example string  `json:"example"` // one of its addresses
}

// Span says at which spots a range lies, the largest share first; what has no
// location counts as a spot of level none. done is how far it came: it looks at
// no more than most stretches, and the shares are of what it looked at.
func (a *Atlas) Span(r addr.Range, most int) (shares []Share, done addr.Range) {
	k, at := NewSpotter(), map[[3]string]int{}
	total := 0.0
	last, stretches := [3]string{"-"}, 0
	done = addr.Range{First: r.First, Last: r.First}
	Sweep(r, func(cell addr.Range) bool {
		s, level := k.leveled(a, cell.First)
		key := [3]string{s.CountryCode, s.RegionCode, s.City}
		i, ok := at[key]
		if !ok {
			i = len(shares)
			at[key] = i
			shares = append(shares, Share{Spot: s, Level: level, Example: cell.First.String()})
		}
		w := Weight(cell)
		shares[i].Share += w
		total += w
		if key != last {
			shares[i].Ranges++
		}
		last, done.Last = key, cell.Last
		stretches++
		return stretches < most
	}, a)
	for i := range shares {
		shares[i].Share /= total
	}
	sortShares(shares)
	return shares, done
}

func sortShares(shares []Share) {
	slices.SortStableFunc(shares, func(a, b Share) int {
		if c := cmp.Compare(b.Share, a.Share); c != 0 {
			return c
		}
		return cmp.Compare(a.Spot.String(), b.Spot.String())
	})
}
