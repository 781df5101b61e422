package atlas

import (
	"math"
	"net/netip"
	"slices"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/rangetable"
)

// Coverage says how much of the address space a source says something of.
// Addresses of nested ranges count once, for the most specific. IPv6 is counted
// in /48s, which are what a site gets.
type Coverage struct {
	Countries map[string]*Covered `json:"countries"` // by country_code
	// Nowhere is what ranges hold that say nothing of a location, or ask not to be
	// located. Only [Atlas.Coverage] counts it.
	Nowhere Covered `json:"nowhere"`
}

// Coverage goes through the whole edition and says what its merged answers
// cover.
func (a *Atlas) Coverage() Coverage {
	var c Coverage
	for _, space := range []addr.Range{all4, all6} {
		sweep(space, a.tables(), func(cell addr.Range) bool {
			rec, _, ok := a.located(cell.First)
			switch {
			case ok:
				c.add(&rec.place, space.First.Is4(), weight(cell))
			case !a.holds(cell.First):
			case space.First.Is4():
				c.Nowhere.IPv4 += weight(cell)
			default:
				c.Nowhere.IPv6 += weight(cell)
			}
			return true
		})
	}
	return c
}

// holds says whether any range holds an address.
func (a *Atlas) holds(ip netip.Addr) bool {
	return slices.ContainsFunc(a.sources, func(s *Source) bool { return s.table.Find(ip) != 0 })
}

// Covered counts what lies in one country: addresses of IPv4 and /48s of IPv6,
// all of them, and those whose region and whose town are known.
type Covered struct {
	IPv4       float64 `json:"ipv4_addresses"`
	IPv4Region float64 `json:"ipv4_region"`
	IPv4City   float64 `json:"ipv4_city"`
	IPv6       float64 `json:"ipv6_48s"`
	IPv6Region float64 `json:"ipv6_region"`
	IPv6City   float64 `json:"ipv6_city"`
}

// Total adds the countries up.
func (c Coverage) Total() (sum Covered) {
	for _, v := range c.Countries {
		sum.IPv4 += v.IPv4
		sum.IPv4Region += v.IPv4Region
		sum.IPv4City += v.IPv4City
		sum.IPv6 += v.IPv6
		sum.IPv6Region += v.IPv6Region
		sum.IPv6City += v.IPv6City
	}
	return sum
}

func (c *Coverage) add(p *place, is4 bool, amount float64) {
	if p.country == "" || amount == 0 {
		return
	}
	if c.Countries == nil {
		c.Countries = map[string]*Covered{}
	}
	v := c.Countries[p.country]
	if v == nil {
		v = &Covered{}
		c.Countries[p.country] = v
	}
	all, region, city := &v.IPv4, &v.IPv4Region, &v.IPv4City
	if !is4 {
		all, region, city = &v.IPv6, &v.IPv6Region, &v.IPv6City
	}
	*all += amount
	if p.region != "" || p.city != "" {
		*region += amount
	}
	if p.city != "" {
		*city += amount
	}
}

// amount is how much a row covers, in the unit of its family.
func amount(r *rangetable.Row, is4 bool) float64 {
	if is4 {
		return math.Ldexp(1, 32-int(r.Bits))
	}
	return math.Ldexp(1, 48-int(r.Bits))
}
