package atlas_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/plain"
)

func at(a *atlas.Atlas, ip string) atlas.LookupResult { return *a.Lookup(netip.MustParseAddr(ip)) }

func TestLookupDerivesWhatTheClaimLacks(t *testing.T) {
	a := atlas.New(geofeed(t, 1,
		"198.18.3.0/26,PT,PT-11,Lisbon,", "198.51.100.0/25,GR,GR-I,,", "198.19.44.0/24,BR,,,",
		"198.18.45.0/24,US,US-OR,Portland,", "198.18.46.0/24,US,US-ME,Portland,", "198.18.47.0/24,PT,PT-11,Atlantis,", "198.18.48.0/24,BV,,,"))
	city := at(a, "198.18.3.40").Location
	assert.Equal(t, atlas.City, city.Level)
	assert.InDelta(t, 38.72, *city.Latitude, 0.1)
	assert.Equal(t, "Europe/Lisbon", *city.TimeZone)
	assert.Equal(t, "Lisbon", *city.Names.Region)
	assert.Equal(t, "EU", *city.ContinentCode)

	region := at(a, "198.51.100.7").Location
	assert.Equal(t, atlas.Region, region.Level)
	assert.Equal(t, "the source stops at the region", region.Missing["city"])
	assert.Equal(t, "Europe/Athens", *region.TimeZone)

	country := at(a, "198.19.44.1").Location
	assert.Equal(t, atlas.Country, country.Level)
	assert.Greater(t, *country.RadiusKm, 1000.0, "a country's middle does not look exact")
	assert.Nil(t, country.TimeZone)
	assert.Contains(t, country.Missing["time_zone"], "time zones")

	assert.Equal(t, "America/Los_Angeles", *at(a, "198.18.45.1").Location.TimeZone)
	assert.Equal(t, "America/New_York", *at(a, "198.18.46.1").Location.TimeZone, "the region tells towns of one name apart")

	unknown := at(a, "198.18.47.1")
	assert.Equal(t, "Atlantis", *unknown.Location.City)
	assert.Greater(t, *unknown.Location.RadiusKm, *city.RadiusKm, "the region stands for the town")
	assert.Contains(t, *unknown.Evidence[1].Reason, "not in the gazetteer")
	assert.Equal(t, atlas.Region, unknown.Location.Level, "the level is that of the point")
	assert.Equal(t, atlas.TownNotFound, unknown.Location.Missing["level"])
	assert.NotContains(t, unknown.Location.Missing, "city", "the name is kept")

	nobody := at(a, "198.18.48.1").Location
	assert.Equal(t, atlas.Country, nobody.Level)
	assert.Nil(t, nobody.Latitude)
	assert.NotEmpty(t, nobody.Missing["latitude"])
}

func TestReplacedRegionCodesLeadToTheirSuccessors(t *testing.T) {
	s := geofeed(t, 1, "198.18.1.0/24,FR,FR-75,Paris,", "198.18.2.0/24,NP,NP-1,,", "198.18.3.0/24,IN,IN-OR,,")
	a := atlas.New(s)
	assert.Equal(t, "FR-75C", *at(a, "198.18.1.1").Location.RegionCode)
	assert.Equal(t, "IN-OD", *at(a, "198.18.3.1").Location.RegionCode)
	parted := at(a, "198.18.2.1").Location
	assert.Nil(t, parted.RegionCode, "it was parted, and nobody knows into which part the claim fell")
	require.Len(t, s.Remarks(), 1)
	assert.Contains(t, s.Remarks()[0].Reason, "parted among NP-P2, NP-P3; it was dropped")
	paris := source.Correction{Range: "198.18.6.0/24", CountryCode: plain.Optional("FR"), RegionCode: plain.Optional("fr-75")}
	require.NoError(t, paris.Check())
	own, err := source.Corrected([]source.Correction{paris})
	require.NoError(t, err)
	assert.Equal(t, "FR-75C", *at(atlas.New(own), "198.18.6.1").Location.RegionCode)
}

func TestMerging(t *testing.T) {
	high := geofeed(t, 1, "198.18.1.0/24,PT,,,", "198.18.2.0/24,PT,PT-11,,", "198.18.3.0/24,PT,PT-11,Lisbon,", "198.18.4.0/24,,,,", "198.18.6.0/24,PT,,Lisbon,")
	low := geofeed(t, 2,
		"198.18.1.0/25,PT,PT-13,Porto,", "198.18.2.0/25,PT,PT-13,Porto,", "198.18.2.128/25,PT,PT-11,Amadora,",
		"198.18.3.0/25,ES,,,", "198.18.4.0/24,ES,,,", "198.18.5.0/24,ES,,,", "198.18.3.128/25,,,,",
		"198.18.2.0/26,PT,,Porto,", "198.18.6.0/27,PT,PT-11,Sintra,", "198.18.6.32/27,PT,PT-11,LISBOA,", "198.18.6.64/26,PT,PT-11,lisbon,1000-001", "198.18.6.128/26,PT,PT-13,,", "198.18.6.192/26,PT,PT-11,,")
	a := atlas.New(low, high) // the order of arguments does not matter
	tests := []struct {
		name, addr, country, city string
		used                      []bool // of the second claim
		says                      string
	}{
		{"finer facts are filled where the country agrees", "198.18.1.1", "PT", "Porto", []bool{true}, "fills"},
		{"a region that disagrees is not used", "198.18.2.65", "PT", "", []bool{false}, "disagrees on the region"},
		{"a town is filled where the region agrees", "198.18.2.200", "PT", "Amadora", []bool{true}, "fills"},
		{"a country that disagrees is not used", "198.18.3.1", "PT", "Lisbon", []bool{false}, "disagrees on the country"},
		{"a lower do-not-locate does not stop a higher claim", "198.18.3.200", "PT", "Lisbon", []bool{false}, "not to be located"},
		{"a higher do-not-locate stops lower claims", "198.18.4.1", "", "", []bool{false}, "asks not to locate"},
		{"a town that is known to be elsewhere is not used", "198.18.2.1", "PT", "", []bool{false}, "disagrees on the region"},
		{"another town", "198.18.6.1", "PT", "Lisbon", []bool{false}, "disagrees on the town"},
		{"another name of the town", "198.18.6.33", "PT", "Lisbon", []bool{true}, "fills"},
		{"a region that one lacks is no contradiction", "198.18.6.65", "PT", "Lisbon", []bool{true}, "fills"},
		{"a region that the town is not in", "198.18.6.129", "PT", "Lisbon", []bool{false}, "disagrees on the region"},
		{"a region that the town is in", "198.18.6.193", "PT", "Lisbon", []bool{true}, "fills"},
		{"alone it stands", "198.18.5.1", "ES", "", nil, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			f := at(a, tt.addr)
			assert.Equal(t, tt.country, plain.Value(f.Location.CountryCode))
			assert.Equal(t, tt.city, plain.Value(f.Location.City))
			if tt.used != nil {
				last := f.Evidence[len(f.Evidence)-1]
				assert.Equal(t, tt.used[0], last.Used)
				assert.Contains(t, plain.Value(last.Reason), tt.says)
			}
		})
	}
}

func TestEveryNullHasAReason(t *testing.T) {
	a := atlas.New(geofeed(t, 1, "198.18.3.0/26,PT,PT-11,Lisbon,", "198.19.44.0/24,BR,,,", "198.18.11.0/24,,,,", "198.18.48.0/24,BV,,,"))
	for _, ip := range []string{"198.18.3.1", "198.19.44.1", "198.18.11.1", "9.9.9.9", "198.18.48.1"} {
		w := at(a, ip).Location
		for fact, isNull := range map[string]bool{
			"continent_code": w.ContinentCode == nil, "country_code": w.CountryCode == nil, "region_code": w.RegionCode == nil,
			"city": w.City == nil, "postal_code": w.PostalCode == nil, "latitude": w.Latitude == nil,
			"longitude": w.Longitude == nil, "radius_km": w.RadiusKm == nil, "time_zone": w.TimeZone == nil,
		} {
			assert.Equal(t, isNull, w.Missing[fact] != "", "%s of %s", fact, ip)
		}
	}
}

func TestEditionName(t *testing.T) {
	one, two := geofeed(t, 1, "198.18.3.0/26,PT,,,"), geofeed(t, 1, "198.18.3.0/26,ES,,,")
	assert.Regexp(t, `^2026-10-28-[0-9a-f]{8}$`, atlas.New(one).Name())
	assert.NotEqual(t, atlas.New(one).Name(), atlas.New(two).Name())
	assert.Equal(t, atlas.New(one).Name(), atlas.New(one).Name())
	assert.True(t, strings.HasPrefix(atlas.New().Name(), "undated-"))
}

func TestWhyListsEveryRange(t *testing.T) {
	s := table(t, "table", 1, "range,country_code,operator\n198.18.0.0/16,ES,Wide (invented)\n198.18.3.0/24,PT,\n198.18.3.0/26,PT,Narrow (invented)\n")
	a := atlas.New(s, geofeed(t, 2, "198.18.3.0/25,PT,PT-11,Lisbon,", "198.18.0.0/17,ES,,,"))
	var ranges []string
	for _, e := range a.Why(netip.MustParseAddr("198.18.3.1")) {
		if e.Range.IsValid() {
			ranges = append(ranges, fmt.Sprint(e.Source, " ", e.Range, " ", e.Used))
		}
	}
	for _, want := range []string{
		"table 198.18.3.0/26 true", "feed 198.18.3.0/25 true", "table 198.18.3.0/24 false", "table 198.18.0.0/16 false", "feed 198.18.0.0/17 false",
	} {
		assert.Contains(t, ranges, want)
	}
}

func TestAClaimGoesBeforeARegistration(t *testing.T) {
	registry, err := source.ReadDelegated(strings.NewReader("lakereg|ES|ipv4|198.18.0.0|32768|20000101|allocated"), atlas.About{Name: "registry", Rank: 1})
	require.NoError(t, err)
	a := atlas.New(geofeed(t, 2, "198.18.3.0/26,PT,PT-11,Lisbon,"), registry)
	f := at(a, "198.18.3.40")
	assert.Equal(t, "Lisbon", *f.Location.City)
	last := f.Evidence[len(f.Evidence)-1]
	assert.Equal(t, atlas.Registration, last.Basis)
	assert.False(t, last.Used)
	assert.Equal(t, "ES", last.Values["country_code"])
	assert.Equal(t, "disagrees on the country, and is a registration", *last.Reason)
}

// What the country rests on is what said the country, not who said anything of the place.
func TestTheBasisIsThatOfTheCountry(t *testing.T) {
	registry, err := source.ReadDelegated(strings.NewReader("lakereg|PT|ipv4|198.18.0.0|32768|20000101|allocated"), atlas.About{Name: "registry", Rank: 4})
	require.NoError(t, err)
	points := table(t, "points", 2, "range,country_code,latitude,longitude\n198.18.200.0/24,,38.72,-9.14\n198.18.5.0/24,,38.72,-9.14\n")
	named := table(t, "named", 3, "range,country_code,latitude,longitude\n198.18.5.0/24,PT,38.71,-9.14\n")
	own, err := source.Corrected([]source.Correction{{Range: "198.18.6.0/24", CountryCode: plain.Optional("NO")}})
	require.NoError(t, err)
	a := atlas.New(own, geofeed(t, 1, "198.18.3.0/26,PT,PT-11,Lisbon,", "198.18.7.0/24,,,,"), points, named, registry)
	for ip, want := range map[string]string{
		"198.18.3.40": "self-published claim", "198.18.200.1": "derived", "198.18.5.1": "table's claim", "198.18.6.1": "correction", "198.18.8.1": "registration",
		"198.18.7.1": "", "198.51.100.1": "",
	} {
		w := at(a, ip).Location
		assert.Equal(t, want, plain.Value(w.Basis), ip)
		assert.Equal(t, w.CountryCode == nil, w.Basis == nil, ip)
	}
}
