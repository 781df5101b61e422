package demo

import (
	"bytes"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"strings"

	"eastporch/internal/core/gazetteer"
)

// pointsEach is how many test points the regatta has in each network.
const pointsEach = 12

// testPoints are invented addresses whose true place the regatta knows: club
// houses and race offices in the networks of the later geofeed. Most are where it
// says, a few are not.
func testPoints() []byte {
	r := rand.New(rand.NewPCG(Seed, 17))
	var b bytes.Buffer
	b.WriteString("address,country_code,region_code,city,latitude,longitude\n")
	text, _ := files.ReadFile("files/harbour-net-next.csv") // it is embedded
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), ",")
		prefix, err := netip.ParsePrefix(f[0])
		if err != nil || prefix.Masked() != prefix || len(f) < 4 {
			continue
		}
		for range pointsEach {
			found, ok := gazetteer.Find(f[1], f[2], f[3])
			town := found.Town
			if !ok || r.IntN(25) == 0 { // anywhere in the country
				if town, ok = someTown(r, f[1]); !ok {
					break
				}
			}
			km := math.Abs(r.NormFloat64()) * 7
			angle := r.Float64() * 2 * math.Pi
			latitude := town.Point.Latitude + km/111.2*math.Sin(angle)
			longitude := town.Point.Longitude + km/111.2*math.Cos(angle)/math.Cos(town.Point.Latitude*math.Pi/180)
			fmt.Fprintf(&b, "%s,%s,%s,%s,%.3f,%.3f\n", pick(r, prefix), town.Country, town.Region, town.Name, latitude, longitude)
		}
	}
	return b.Bytes()
}

// someTown draws one of the larger towns of a country.
func someTown(r *rand.Rand, country string) (*gazetteer.Town, bool) {
	towns := gazetteer.Towns()
	var of []int
	for i := range towns {
		if towns[i].Country == country && len(of) < 40 {
			of = append(of, i)
		}
	}
	if len(of) == 0 {
		return nil, false
	}
	return &towns[of[r.IntN(len(of))]], true
}

// pick draws an address of a prefix.
func pick(r *rand.Rand, p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for bit := p.Bits(); bit < len(b)*8; bit++ {
		if r.IntN(2) == 1 {
			b[bit/8] |= 1 << (7 - bit%8)
		}
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}
