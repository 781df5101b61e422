package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
)

func delegated(t *testing.T, rank int, lines ...string) *atlas.Source {
	t.Helper()
	s, err := ReadDelegated(strings.NewReader(strings.Join(lines, "\n")), atlas.About{Name: "registry", Rank: rank})
	require.NoError(t, err)
	return s
}

func TestReadDelegated(t *testing.T) {
	s := delegated(t, 1,
		"2.3|lakereg|20261030|9|20000101|20261030|+0000",
		"lakereg|*|ipv4|*|7|summary",
		"# a comment",
		"lakereg|ES|ipv4|198.18.0.0|32768|20000101|allocated|opaque-1",
		"lakereg|GR|ipv4|198.51.100.0|192|20000101|assigned",      // no power of two
		"lakereg|FR|ipv4|198.51.100.192|32|20000101|reserved",     // does not count
		"lakereg|EU|ipv4|192.0.2.0|64|20000101|assigned",          // 7: no country
		"lakereg|DE|ipv6|2001:db8::|33|20000101|allocated",        //
		"lakereg|ES|asn|64500|8|20000101|allocated",               // says nothing about prefixes
		"lakereg|ES|ipv4|255.255.255.0|512|20000101|allocated",    // 10: beyond IPv4
		"lakereg|ES|ipv4|198.18.999.0|256|20000101|allocated",     // 11
		"lakereg|ES|ipv6|2001:db8::1|32|20000101|allocated",       // 12: host bits
		"lakereg|ES|ipv4|198.19.0.0|0|20000101|allocated",         // 13
		"lakereg|ES|ipv4|198.18.0.0|32768|20000101|allocated",     // 14: twice
		"lakereg|PT|ipv4|198.19.128.0|256|20000101|allocated|x|y", // more fields
	)
	assert.Equal(t, 10, s.Rows)
	assert.Equal(t, 4, s.Accepted)
	lines := map[int]string{}
	for _, n := range append(s.Rejects(), s.Remarks()...) {
		lines[n.Line] = n.Reason
	}
	for line, part := range map[int]string{7: "passed over", 10: "beyond IPv4", 11: "0 to 255", 12: "not an IPv6 prefix", 13: "not a count", 14: "line 4"} {
		assert.Contains(t, lines[line], part, "line %d", line)
	}
	a := atlas.New(s)
	f := at(a, "198.51.100.150")
	assert.Equal(t, "GR", *f.Location.CountryCode)
	assert.Equal(t, atlas.Registration, f.Evidence[0].Basis)
	assert.Contains(t, *f.Evidence[0].Reason, "need not be where it is")
	assert.Equal(t, "registered to the country only", f.Location.Missing["city"])
	assert.Equal(t, "198.51.100.0-198.51.100.191", f.Network.Range.String(), "the range as the registry has it")
	assert.Equal(t, atlas.None, at(a, "198.51.100.200").Location.Level, "past the count")
	assert.Equal(t, atlas.None, at(a, "192.0.2.9").Location.Level)
}

func readTable(t *testing.T, mapping map[string]string, lines ...string) (*atlas.Source, error) {
	t.Helper()
	return ReadTable(strings.NewReader(strings.Join(lines, "\n")), ',', mapping, atlas.About{Name: "table", Rank: 1})
}

func TestReadTable(t *testing.T) {
	s, err := readTable(t, map[string]string{"range": "net", "country_code": "cc", "city": "town", "as_number": "asn"},
		"net,cc,region_code,town,latitude,longitude,radius_km,time_zone,asn,operator,ignored",
		"198.18.3.0/26,PT,PT-11,Lisbon,38.72,-9.14,25,Europe/Lisbon,AS64500,Harbour Net (invented),x",
		"198.18.4.0-198.18.4.99,,,,,,,,64501,Reed Cable (invented)",
		"3323069696,UK",                                      // 4: no country
		"198.18.5.0/24,PT,,,-9.14,138.72,,,,",                // 5: latitude is fine, so is longitude
		"198.18.6.0/24,PT,,,138.72,-9.14,,,,",                // 6: swapped
		"198.18.7.0/24,PT,,,900,900,,,,",                     // 7
		"198.18.8.0/24,PT,,,38.7,,,,,",                       // 8: one without the other
		"198.18.9.0/24,PT,,,,,-3,,,",                         // 9
		"198.18.10.0/24,PT,,,,,,Europe/Atlantis,,",           // 10
		"198.18.11.0/24,,,,,,,,ASX,",                         // 11
		"198.18.12.0/24,,,,,,,,,",                            // 12: says nothing
		"198.18.13.9-198.18.13.1,PT,,,,,,,,",                 // 13: reversed
		"198.18.14.0/24,,,Lisbon,,,,,,",                      // 14: no country
		"198.18.15.0/24,PT,ES-VC,,,,,,,",                     // 15: a region elsewhere
		"198.18.0.0/16,,,,,,,,64502,Alder Fibre (invented)",  // 16
		"2001:db8::/32,NO,NO-03,Oslo,,,,,,",                  // 17
		"198.18.3.64/26,PT,PT-13,Porto,41.15,-8.61,,,64500,", // 18
		"198.18.16.0/24,PT,,,,,,,,",
		"198.18.17.0/24,PT,,,,,,,,",
		"198.18.18.0/24,PT,,,,,,,,",
		"198.18.19.0/24,PT,,,,,,,,",
		"198.18.20.0/24,PT,,,,,,,,",
	)
	require.NoError(t, err)
	lines := map[int]string{}
	for _, n := range append(s.Rejects(), s.Remarks()...) {
		lines[n.Line] = n.Reason
	}
	for line, part := range map[int]string{
		4: "did you mean GB?", 6: "swapped?", 7: "not a number", 8: "without the other", 9: "radius_km", 10: "time_zone", 11: "as_number",
		12: "says nothing", 13: "did you mean 198.18.13.1-198.18.13.9?", 14: "without a country", 15: "lies outside PT",
	} {
		assert.Contains(t, lines[line], part, "line %d", line)
	}
	assert.NotContains(t, lines, 5)

	a := atlas.New(s)
	own := at(a, "198.18.3.40")
	assert.InDelta(t, 38.72, *own.Location.Latitude, 1e-9)
	assert.InDelta(t, 25, *own.Location.RadiusKm, 1e-9)
	assert.Equal(t, uint32(64500), *own.Network.ASNumber)
	assert.Equal(t, "Harbour Net (invented)", *own.Network.Operator)
	assert.Empty(t, own.Network.Missing)
	for _, e := range own.Evidence {
		assert.NotEqual(t, atlas.Derived, e.Basis, "the source said all of it")
	}
	porto := at(a, "198.18.3.70").Location
	assert.InDelta(t, 41.15, *porto.Latitude, 1e-9)
	assert.Equal(t, "Europe/Lisbon", *porto.TimeZone, "what the source lacks is derived")

	network := at(a, "198.18.4.50")
	assert.Equal(t, atlas.None, network.Location.Level, "a network is not a location")
	assert.Equal(t, "198.18.4.0-198.18.4.99", network.Network.Range.String())
	wide := at(a, "198.18.16.1")
	assert.Equal(t, "PT", *wide.Location.CountryCode)
	assert.Equal(t, uint32(64502), *wide.Network.ASNumber, "location and network are merged apart")
	oslo := at(a, "2001:db8::1")
	assert.Equal(t, "no source names a network here", oslo.Network.Missing["as_number"])
}

func TestTablesThatDoNotFit(t *testing.T) {
	for name, c := range map[string]struct {
		mapping map[string]string
		text    string
		says    string
	}{
		"empty":                 {nil, "", "no head"},
		"no range":              {nil, "a,b\n", "map range"},
		"an unknown fact":       {map[string]string{"town": "Ort"}, "range\n", "not a fact"},
		"a column not there":    {map[string]string{"city": "Ort"}, "range,town\n", `no column "Ort"`},
		"rows that say nothing": {nil, "range,city\n1.2.3.4,\n1.2.3.5,\n", "more than half"},
		"open quotes":           {nil, "range,country_code\n\"1.2.3.4,PT\n", "more than half"},
	} {
		_, err := readTable(t, c.mapping, c.text)
		assert.ErrorContains(t, err, c.says, name)
	}
	s, err := ReadTable(strings.NewReader("first\tlast\tcountry_code\n198.18.0.0\t198.18.0.255\tPT\n"), '\t', nil, atlas.About{Name: "tsv"})
	require.NoError(t, err)
	assert.Equal(t, 1, s.Accepted)
}

func FuzzTable(f *testing.F) {
	f.Add("range,country_code,latitude,longitude,as_number\n198.18.0.0/16,PT,1,2,3\n")
	f.Add("first,last,city\n1.2.3.4,1.2.3.1,x\n\"")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ReadTable(strings.NewReader(text), ',', nil, atlas.About{})
		if err == nil && s.Accepted+len(s.Rejects()) != s.Rows {
			t.Errorf("%d rows, %d accepted, %d rejected", s.Rows, s.Accepted, len(s.Rejects()))
		}
	})
}

func FuzzDelegated(f *testing.F) {
	f.Add("lakereg|ES|ipv4|198.18.0.0|32768|20000101|allocated\n")
	f.Add("lakereg|ES|ipv6|::|0|x|assigned\n|||||||")
	f.Fuzz(func(t *testing.T, text string) {
		_, _ = ReadDelegated(strings.NewReader(text), atlas.About{})
	})
}
