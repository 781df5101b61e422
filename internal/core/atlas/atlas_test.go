package atlas

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func geofeed(t *testing.T, rank int, lines ...string) *Source {
	t.Helper()
	s, err := ReadGeofeed(strings.NewReader(strings.Join(lines, "\n")), About{Name: "feed", Rank: rank, Dated: "2026-10-28"})
	require.NoError(t, err)
	return s
}

func at(a *Atlas, ip string) LookupResult { return *a.Lookup(netip.MustParseAddr(ip)) }

func TestReadGeofeedKeepsTheGoodLines(t *testing.T) {
	s := geofeed(t, 1,
		"\ufeff# a comment",
		"198.18.3.0/26,PT,PT-11,Lisbon,1000-001",
		"",
		"198.18.7.1/24,ES,ES-VC,Valencia,",  // 4: host bits
		"198.18.3.0/26,PT,PT-13,Porto,",     // 5: twice
		"198.18.8.0/24,UK,,London,",         // 6: no code of ISO 3166-1
		"198.18.9.0/24,ES,PT-11,Madrid,",    // 7: a region outside its country
		"198.18.10.0/24,es",                 // 8: trailing fields missing, small letters
		"198.18.11.0/24,,,,",                // 9: do not locate
		"198.18.12.0/24,ZZ",                 // 10: do not locate
		"198.18.13.0/24,,,Lisbon,",          // 11: a town without a country
		"999.18.13.0/24,PT,,,",              // 12: no prefix
		"2001:db8::/32,NO,NO-03,Oslo,",      // 13
		`198.18.14.0/24,PT,PT-11,"Lisbon,`,  // 14: an open quote
		"198.18.15.0/24,ES,ES-XX,Valencia,", // 15: no code of ISO 3166-2
		"198.18.16.0/24,PT,,,",
		"198.18.17.0/24,PT,,,",
	)
	assert.Equal(t, 15, s.Rows)
	assert.Equal(t, 9, s.Accepted)
	reasons := map[int]string{}
	for _, n := range append(s.Rejects(), s.Remarks()...) {
		reasons[n.Line] = n.Reason
	}
	for line, part := range map[int]string{
		4: "did you mean 198.18.7.0/24?", 5: "stands on line 2 already", 6: "did you mean GB?", 7: "lies outside ES",
		11: "without a country", 12: "not a prefix", 14: "quotes", 15: "ISO 3166-2",
	} {
		assert.Contains(t, reasons[line], part, "line %d", line)
	}
	assert.Len(t, reasons, 8)

	a := New(s)
	assert.Equal(t, "PT-11", *at(a, "198.18.3.1").Location.RegionCode, "the first of two lines stands")
	assert.Nil(t, at(a, "198.18.3.1").Location.PostalCode, "the postal column is ignored")
	assert.Equal(t, "Madrid", *at(a, "198.18.9.1").Location.City)
	assert.Equal(t, "ES-MD", *at(a, "198.18.9.1").Location.RegionCode, "from the gazetteer, not from the feed")
	assert.Equal(t, Country, at(a, "198.18.10.1").Location.Level)
	for _, ip := range []string{"198.18.11.1", "198.18.12.1"} {
		assert.Equal(t, None, at(a, ip).Location.Level)
		assert.Contains(t, at(a, ip).Location.Missing["country_code"], "not to be located")
	}
	assert.Equal(t, "Oslo", *at(a, "2001:db8::1").Location.City)
}

func TestReadGeofeedRefusesWhatIsNone(t *testing.T) {
	_, err := ReadGeofeed(strings.NewReader("{\n\"a\": 1\n}\n"), About{Name: "json"})
	require.ErrorIs(t, err, ErrTooManyRejects)
	assert.ErrorContains(t, err, "line 1")
	_, err = ReadGeofeed(strings.NewReader(strings.Repeat("x", maxLine+10)), About{})
	assert.ErrorContains(t, err, "longer than")
	empty := geofeed(t, 1, "# nothing yet")
	assert.Equal(t, None, at(New(empty), "198.18.3.1").Location.Level)
}

func TestLookupDerivesWhatTheClaimLacks(t *testing.T) {
	a := New(geofeed(t, 1,
		"198.18.3.0/26,PT,PT-11,Lisbon,", "198.51.100.0/25,GR,GR-I,,", "198.19.44.0/24,BR,,,",
		"198.18.45.0/24,US,US-OR,Portland,", "198.18.46.0/24,US,US-ME,Portland,", "198.18.47.0/24,PT,PT-11,Atlantis,", "198.18.48.0/24,BV,,,"))
	city := at(a, "198.18.3.40").Location
	assert.Equal(t, City, city.Level)
	assert.InDelta(t, 38.72, *city.Latitude, 0.1)
	assert.Equal(t, "Europe/Lisbon", *city.TimeZone)
	assert.Equal(t, "Lisbon", *city.Names.Region)
	assert.Equal(t, "EU", *city.ContinentCode)

	region := at(a, "198.51.100.7").Location
	assert.Equal(t, Region, region.Level)
	assert.Equal(t, "the source stops at the region", region.Missing["city"])
	assert.Equal(t, "Europe/Athens", *region.TimeZone)

	country := at(a, "198.19.44.1").Location
	assert.Equal(t, Country, country.Level)
	assert.Greater(t, *country.RadiusKm, 1000.0, "a country's middle does not look exact")
	assert.Nil(t, country.TimeZone)
	assert.Contains(t, country.Missing["time_zone"], "time zones")

	assert.Equal(t, "America/Los_Angeles", *at(a, "198.18.45.1").Location.TimeZone)
	assert.Equal(t, "America/New_York", *at(a, "198.18.46.1").Location.TimeZone, "the region tells towns of one name apart")

	unknown := at(a, "198.18.47.1")
	assert.Equal(t, "Atlantis", *unknown.Location.City)
	assert.Greater(t, *unknown.Location.RadiusKm, *city.RadiusKm, "the region stands for the town")
	assert.Contains(t, *unknown.Evidence[1].Reason, "not in the gazetteer")

	nobody := at(a, "198.18.48.1").Location
	assert.Equal(t, Country, nobody.Level)
	assert.Nil(t, nobody.Latitude)
	assert.NotEmpty(t, nobody.Missing["latitude"])
}

func TestMerging(t *testing.T) {
	high := geofeed(t, 1, "198.18.1.0/24,PT,,,", "198.18.2.0/24,PT,PT-11,,", "198.18.3.0/24,PT,PT-11,Lisbon,", "198.18.4.0/24,,,,", "198.18.6.0/24,PT,,Lisbon,")
	low := geofeed(t, 2,
		"198.18.1.0/25,PT,PT-13,Porto,", "198.18.2.0/25,PT,PT-13,Porto,", "198.18.2.128/25,PT,PT-11,Amadora,",
		"198.18.3.0/25,ES,,,", "198.18.4.0/24,ES,,,", "198.18.5.0/24,ES,,,", "198.18.3.128/25,,,,",
		"198.18.2.0/26,PT,,Porto,", "198.18.6.0/26,PT,PT-11,Lisboa,", "198.18.6.64/26,PT,PT-11,lisbon,1000-001", "198.18.6.128/26,PT,PT-13,,", "198.18.6.192/26,PT,PT-11,,")
	a := New(low, high) // the order of arguments does not matter
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
		{"another name is another town", "198.18.6.1", "PT", "Lisbon", []bool{false}, "disagrees on the town"},
		{"a region that one lacks is no contradiction", "198.18.6.65", "PT", "Lisbon", []bool{true}, "fills"},
		{"a region that the town is not in", "198.18.6.129", "PT", "Lisbon", []bool{false}, "disagrees on the region"},
		{"a region that the town is in", "198.18.6.193", "PT", "Lisbon", []bool{true}, "fills"},
		{"alone it stands", "198.18.5.1", "ES", "", nil, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			f := at(a, tt.addr)
			assert.Equal(t, tt.country, deref(f.Location.CountryCode))
			assert.Equal(t, tt.city, deref(f.Location.City))
			if tt.used != nil {
				last := f.Evidence[len(f.Evidence)-1]
				assert.Equal(t, tt.used[0], last.Used)
				assert.Contains(t, deref(last.Reason), tt.says)
			}
		})
	}
}

func TestEveryNullHasAReason(t *testing.T) {
	a := New(geofeed(t, 1, "198.18.3.0/26,PT,PT-11,Lisbon,", "198.19.44.0/24,BR,,,", "198.18.11.0/24,,,,", "198.18.48.0/24,BV,,,"))
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
	assert.Regexp(t, `^2026-10-28-[0-9a-f]{8}$`, New(one).Name())
	assert.NotEqual(t, New(one).Name(), New(two).Name())
	assert.Equal(t, New(one).Name(), New(one).Name())
	assert.True(t, strings.HasPrefix(New().Name(), "undated-"))
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func FuzzGeofeed(f *testing.F) {
	f.Add("198.18.3.0/26,PT,PT-11,Lisbon,\n")
	f.Add("\"\n,,,,\n::/0,zz\n")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ReadGeofeed(strings.NewReader(text), About{})
		if err == nil && s.Accepted+len(s.Rejects()) != s.Rows {
			t.Errorf("%d rows, %d accepted, %d rejected", s.Rows, s.Accepted, len(s.Rejects()))
		}
	})
}
