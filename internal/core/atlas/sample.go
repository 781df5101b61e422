package atlas

import (
	"math/rand/v2"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
)

// Stretches calls do for every stretch of addresses that some source says
// something of, in order, with what Lookup finds there, until do gives false.
func (a *Atlas) Stretches(do func(addr.Range, LookupResult) bool) {
	for _, space := range Spaces {
		going := true
		Sweep(space, func(cell addr.Range) bool {
			f := a.find(cell.First, nil)
			if f.Location.Level != None || f.Network.Range.IsValid() || len(f.Labels) > 0 {
				going = do(cell, *f)
			}
			return going
		}, a)
		if !going {
			return
		}
	}
}

// Sample gives up to n addresses that the edition puts into a country, and into
// a town where city is not "". They are spread over its ranges; the same seed
// gives the same addresses.
func (a *Atlas) Sample(country, city string, n int, seed uint64) []netip.Addr {
	r := rand.New(rand.NewPCG(seed, 9))
	var kept []addr.Range
	seen := 0
	for _, space := range Spaces {
		Sweep(space, func(cell addr.Range) bool {
			rec, _, ok := a.Located(cell.First)
			if !ok || rec.Country != country || city != "" && !strings.EqualFold(rec.City, city) {
				return true
			}
			if seen++; len(kept) < n { // a reservoir: every range is as likely as any other
				kept = append(kept, cell)
			} else if i := r.IntN(seen); i < n {
				kept[i] = cell
			}
			return true
		}, a)
	}
	list := make([]netip.Addr, 0, n)
	taken := map[netip.Addr]bool{}
	for tries := 0; len(kept) > 0 && len(list) < n && tries < 4*n; tries++ {
		if ip := within(r, kept[tries%len(kept)]); !taken[ip] {
			taken[ip] = true
			list = append(list, ip)
		}
	}
	return list
}

// within draws an address of a range; of a wide one, from its beginning.
func within(r *rand.Rand, span addr.Range) netip.Addr {
	ip := span.First
	p := span.Prefixes()[0]
	b, last := ip.AsSlice(), addr.RangeOf(p).Last.AsSlice()
	for i := range b {
		b[i] |= byte(r.UintN(256)) & (b[i] ^ last[i])
	}
	drawn, _ := netip.AddrFromSlice(b)
	return drawn
}
