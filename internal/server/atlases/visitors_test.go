package atlases

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
)

// What is known of visits is the sum of what is known of each of their addresses.
func TestCoverageOfVisitsAgreesWithAModel(t *testing.T) {
	r := rand.New(rand.NewPCG(22, 22))
	towns := []string{"PT,PT-11,Lisbon", "ES,,", "FR,FR-IDF,", "GR,GR-I,Athens", ",,"}
	for range 40 {
		var feed, registry, networks strings.Builder
		said, owns, registered := map[byte]string{}, map[byte]int{}, map[byte]string{}
		networks.WriteString("range,as_number,operator\n")
		for i := range 40 {
			if r.IntN(3) > 0 {
				said[byte(i)] = towns[r.IntN(len(towns))]
				fmt.Fprintf(&feed, "198.18.%d.0/24,%s,\n", i, said[byte(i)])
			}
			if r.IntN(2) > 0 {
				registered[byte(i)] = []string{"PT", "ES"}[r.IntN(2)]
				fmt.Fprintf(&registry, "lake|%s|ipv4|198.18.%d.0|256|20000101|allocated\n", registered[byte(i)], i)
			}
			if r.IntN(4) > 0 {
				owns[byte(i)] = 64500 + r.IntN(4)
				fmt.Fprintf(&networks, "198.18.%d.0/24,%d,Operator %d\n", i, owns[byte(i)], owns[byte(i)])
			}
		}
		a, err := source.ReadGeofeed(strings.NewReader(feed.String()), atlas.About{Name: "feed", Rank: 2})
		require.NoError(t, err)
		b, err := source.ReadDelegated(strings.NewReader(registry.String()), atlas.About{Name: "registry", Rank: 1})
		require.NoError(t, err)
		c, err := source.ReadTable(strings.NewReader(networks.String()), ',', nil, atlas.About{Name: "networks", Rank: 3})
		require.NoError(t, err)
		s, _, list, _ := service(t, atlas.New(a, b, c))
		list.addresses = map[netip.Addr]int{}
		levels, countries, gains, quarrels := map[string]int{}, map[string]int{}, map[int]int{}, map[string]int{}
		all, byRegistration := 0, 0
		for range 200 {
			i, visits := byte(r.IntN(44)), 1+r.IntN(50)
			address := netip.AddrFrom4([4]byte{198, 18, i, byte(r.IntN(256))})
			if list.addresses[address] > 0 {
				continue
			}
			list.addresses[address] = visits
			all += visits
			place, fromFeed := said[i]
			level, country, basis := "none", "", ""
			switch {
			case fromFeed && place == ",,":
			case fromFeed:
				parts := strings.Split(place, ",")
				level, country, basis = "country", parts[0], "self-published claim"
				if parts[1] != "" {
					level = "region"
				}
				if parts[2] != "" {
					level = "city"
				}
			case registered[i] != "":
				level, country, basis = "country", registered[i], "registration"
				byRegistration += visits
			}
			levels[level+" "+basis] += visits
			countries[country] += visits
			if owns[i] > 0 && level != "city" && place != ",," {
				gains[owns[i]] += visits
			}
			if fromFeed && place != ",," && registered[i] != "" && registered[i] != country {
				quarrels[fmt.Sprintf("198.18.%d.0/24", i)] += visits
			}
		}
		answer, err := s.Visits(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, []int{all, len(list.addresses), byRegistration, 7, 2}, []int{answer.Visits, answer.Addresses, answer.ByRegistration, answer.WithoutAddress, answer.Skipped})
		got := map[string]int{}
		for _, l := range answer.Levels {
			basis := ""
			if l.Basis != nil {
				basis = *l.Basis
			}
			got[l.Level+" "+basis] = l.Visits
		}
		assert.Equal(t, levels, got)
		got = map[string]int{}
		for _, k := range answer.Countries {
			code := ""
			if k.CountryCode != nil {
				code = *k.CountryCode
			}
			got[code] = k.Visits
			assert.Equal(t, k.Visits, k.City+k.Region+k.Country+k.Unknown)
		}
		assert.Equal(t, countries, got)
		for _, o := range answer.Operators {
			if o.ASNumber == nil {
				assert.Zero(t, o.Gain)
				continue
			}
			assert.Equal(t, gains[int(*o.ASNumber)], o.Gain)
			assert.Equal(t, o.Gain > 0, strings.Contains(o.Letter, fmt.Sprintf("(AS%d)", *o.ASNumber)))
		}
		got = map[string]int{}
		for _, d := range answer.Disagreements {
			got[d.Range] += d.Visits
			assert.Equal(t, []string{"feed", "registry"}, []string{d.Source, d.Against})
		}
		assert.Equal(t, quarrels, got)
	}
}
