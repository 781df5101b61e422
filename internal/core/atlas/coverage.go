package atlas

// Coverage says how much of the address space a source says something of.
// Addresses of nested ranges count once, for the most specific. IPv6 is counted
// in /48s, which are what a site gets.
type Coverage struct {
	Countries map[string]*Covered `json:"countries"` // by country_code
	// Nowhere is what ranges hold that say nothing of a location, or ask not to be
	// located. Not counted of a single source.
	Nowhere Covered `json:"nowhere"`
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

// Add adds an amount of addresses, or of /48s of IPv6, of what a place says.
func (c *Coverage) Add(p *Place, is4 bool, amount float64) {
	if p.Country == "" || amount == 0 {
		return
	}
	if c.Countries == nil {
		c.Countries = map[string]*Covered{}
	}
	v := c.Countries[p.Country]
	if v == nil {
		v = &Covered{}
		c.Countries[p.Country] = v
	}
	all, region, city := &v.IPv4, &v.IPv4Region, &v.IPv4City
	if !is4 {
		all, region, city = &v.IPv6, &v.IPv6Region, &v.IPv6City
	}
	*all += amount
	if p.Region != "" || p.City != "" {
		*region += amount
	}
	if p.City != "" {
		*city += amount
	}
}
