// Package compare holds editions against each other, against test points, and their sources
// against each other: differences, accuracy, coverage, overlaps.
package compare

import (
	"cmp"
	"net/netip"
	"slices"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geo"
)

// A ChangeKind is the coarsest thing in which two readings of an address differ.
type ChangeKind string

// The differences, from the coarsest.
const (
	NewCountry ChangeKind = "country" // one of them may be none
	NewRegion  ChangeKind = "region"
	NewCity    ChangeKind = "city"
	Moved      ChangeKind = "moved" // the same place with another point
)

// ChangeKinds are all of them.
var ChangeKinds = []ChangeKind{NewCountry, NewRegion, NewCity, Moved}

// A Change is a range that reads differently.
type Change struct {
	Range      string     `json:"range"`
	Difference ChangeKind `json:"difference"`
	Now        atlas.Spot `json:"now"`
	Then       atlas.Spot `json:"then"`
	Km         *float64   `json:"km"` // how far it moved, nil where one has no point
	Weight     float64    `json:"-"`
	span       addr.Range
}

// Tally counts changes of one kind.
type Tally struct {
	Ranges int     `json:"ranges"`
	IPv4   float64 `json:"ipv4_addresses"`
	IPv6   float64 `json:"ipv6_48s"`
}

// Changes is what another edition would change.
type Changes struct {
	Now     string               `json:"now"`  // edition
	Then    string               `json:"then"` // edition
	Ranges  int                  `json:"ranges"`
	Counts  map[ChangeKind]Tally `json:"counts"`
	Share4  float64              `json:"ipv4_share"` // of the addresses that either locates
	Share6  float64              `json:"ipv6_share"`
	Km      Quantiles            `json:"km"` // over the changed ranges that have a point in both
	Largest []Change             `json:"largest"`
}

// Quantiles of a distribution; nil without any value.
type Quantiles struct {
	P50 *float64 `json:"p50"`
	P90 *float64 `json:"p90"`
	P99 *float64 `json:"p99"`
}

func quantiles(values []float64) (q Quantiles) {
	if len(values) == 0 {
		return q
	}
	slices.Sort(values)
	at := func(share float64) *float64 {
		v := values[min(len(values)-1, int(share*float64(len(values))))]
		return &v
	}
	return Quantiles{at(.5), at(.9), at(.99)}
}

// maxLargest is how many changes [Diff] lists of each family.
const maxLargest = 100

// movedKm is from where on a point counts as another.
const movedKm = 1

// Diff says what the edition next would change, by going through the whole of
// both. progress, unless nil, is told the share done now and then, and stops it
// by returning false.
func Diff(now, next *atlas.Atlas, progress func(share float64) bool) Changes {
	d := &differ{now: now, next: next, c: Changes{Now: now.Name(), Then: next.Name(), Counts: map[ChangeKind]Tally{}}}
	d.nowSpots, d.nextSpots = atlas.NewSpotter(), atlas.NewSpotter()
	for i, space := range atlas.Spaces {
		steps := 0
		goOn := true
		atlas.Sweep(space, func(cell addr.Range) bool {
			d.compare(cell)
			if steps++; steps%50_000 == 0 && progress != nil {
				done := atlas.Weight(addr.Range{First: space.First, Last: cell.Last}) / atlas.Weight(space)
				goOn = progress((float64(i) + done) / 2)
			}
			return goOn
		}, now, next)
		d.flush()
		share := &d.c.Share4
		if i == 1 {
			share = &d.c.Share6
		}
		if d.located > 0 {
			*share = d.changed / d.located
		}
		d.located, d.changed = 0, 0
		largest(d.top)
		d.c.Largest = append(d.c.Largest, d.top[:min(len(d.top), maxLargest)]...)
		d.top = nil
	}
	d.c.Km = quantiles(d.km)
	return d.c
}

type differ struct {
	now, next           *atlas.Atlas
	nowSpots, nextSpots *atlas.Spotter
	c                   Changes
	open                Change // which the next stretch may go on
	isOpen              bool
	top                 []Change
	km                  []float64
	located, changed    float64
}

func (d *differ) compare(cell addr.Range) {
	now, next := d.nowSpots.Spot(d.now, cell.First), d.nextSpots.Spot(d.next, cell.First)
	if now.CountryCode != "" || next.CountryCode != "" {
		d.located += atlas.Weight(cell)
	}
	difference, km := compareSpots(now, next)
	if difference == "" {
		d.flush()
		return
	}
	if d.isOpen && same(d.open.Now, now) && same(d.open.Then, next) {
		d.open.span.Last = cell.Last
		return
	}
	d.flush()
	d.open, d.isOpen = Change{Difference: difference, Now: now, Then: next, Km: km, span: cell}, true
}

func same(a, b atlas.Spot) bool {
	return a.CountryCode == b.CountryCode && a.RegionCode == b.RegionCode && a.City == b.City &&
		(a.Point == b.Point || a.Point != nil && b.Point != nil && *a.Point == *b.Point)
}

// compareSpots gives the coarsest difference of two spots, or "".
func compareSpots(now, next atlas.Spot) (difference ChangeKind, km *float64) {
	if now.Point != nil && next.Point != nil {
		v := 0.0
		if *now.Point != *next.Point {
			v = geo.DistanceKm(*now.Point, *next.Point)
		}
		km = &v
	}
	switch {
	case now.CountryCode != next.CountryCode:
		return NewCountry, km
	case now.RegionCode != next.RegionCode:
		return NewRegion, km
	case now.City != next.City:
		return NewCity, km
	case km != nil && *km >= movedKm:
		return Moved, km
	}
	return "", nil
}

func (d *differ) flush() {
	if !d.isOpen {
		return
	}
	d.isOpen = false
	c := d.open
	c.Range, c.Weight = c.span.String(), atlas.Weight(c.span)
	t := d.c.Counts[c.Difference]
	t.Ranges++
	if c.span.First.Is4() {
		t.IPv4 += c.Weight
	} else {
		t.IPv6 += c.Weight
	}
	d.c.Counts[c.Difference] = t
	d.c.Ranges++
	d.changed += c.Weight
	if c.Km != nil {
		d.km = append(d.km, *c.Km)
	}
	d.top = append(d.top, c)
	if len(d.top) > 20*maxLargest {
		largest(d.top)
		d.top = d.top[:maxLargest]
	}
}

func largest(list []Change) {
	slices.SortStableFunc(list, func(a, b Change) int { return cmp.Compare(b.Weight, a.Weight) })
}

// A Comparison compares what two editions say of single addresses. It is for one
// goroutine.
type Comparison struct {
	now, next           *atlas.Atlas
	nowSpots, nextSpots *atlas.Spotter
}

// NewComparison compares two editions.
func NewComparison(now, next *atlas.Atlas) *Comparison {
	return &Comparison{now, next, atlas.NewSpotter(), atlas.NewSpotter()}
}

// At says in what an address reads differently, "" for nothing, what it reads, and
// how far it moves where both have a point.
func (c *Comparison) At(ip netip.Addr) (difference ChangeKind, now, next atlas.Spot, km *float64) {
	ip = addr.Canonical(ip)
	now, next = c.nowSpots.Spot(c.now, ip), c.nextSpots.Spot(c.next, ip)
	difference, km = compareSpots(now, next)
	return difference, now, next, km
}
