package gazetteer

import (
	"os"
	"strconv"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/geo"
)

func TestTownsAreSound(t *testing.T) {
	towns := Towns()
	require.Greater(t, len(towns), 20_000)
	zones := map[string]bool{}
	for i := range towns {
		town := &towns[i]
		_, ok := almanac.ByCode(town.Country)
		require.True(t, ok, town.Country)
		if town.Region != "" {
			_, ok := almanac.Region(town.Region)
			require.True(t, ok, "%s of %s", town.Region, town.Name)
			require.Equal(t, town.Country, town.Region[:2], town.Name)
		}
		require.NotEmpty(t, town.Name)
		require.LessOrEqual(t, town.Point.Latitude*town.Point.Latitude, 90.0*90)
		require.LessOrEqual(t, town.Point.Longitude*town.Point.Longitude, 180.0*180)
		require.Positive(t, town.Population)
		zones[town.Zone] = true
	}
	for zone := range zones {
		_, err := time.LoadLocation(zone)
		assert.NoError(t, err, "every zone must load from Go's tz data")
	}
}

// zoneTab gives the zones of each country in the tz database's own list, which the
// towns' zones were not made from.
func zoneTab(t *testing.T) map[string][]string {
	t.Helper()
	text, err := os.ReadFile("/usr/share/zoneinfo/zone.tab")
	require.NoError(t, err, "make test installs the package tzdata")
	zones := map[string][]string{}
	for line := range strings.Lines(string(text)) {
		if cells := strings.Fields(line); !strings.HasPrefix(line, "#") && len(cells) >= 3 {
			zones[cells[0]] = append(zones[cells[0]], cells[2])
		}
	}
	return zones
}

func TestEveryTownHasAZoneOfItsCountry(t *testing.T) {
	zones := zoneTab(t)
	differed := 0
	towns := Towns()
	for i := range towns {
		if !assert.Contains(t, zones[towns[i].Country], towns[i].Zone, "%s in %s", towns[i].Name, towns[i].Country) {
			differed++
		}
	}
	t.Logf("%d towns: %d differed", len(towns), differed)
	for _, tt := range []struct{ country, town, zone string }{
		{"TL", "Dili", "Asia/Dili"},
		{"AS", "Pago Pago", "Pacific/Pago_Pago"},
		{"PM", "Saint-Pierre", "America/Miquelon"},
		{"ID", "Jayapura", "Asia/Jayapura"},
		{"SD", "Geneina", "Africa/Khartoum"},
		{"NA", "Rundu", "Africa/Windhoek"},
		{"NP", "Nepalgunj", "Asia/Kathmandu"},
		{"AR", "Ushuaia", "America/Argentina/Ushuaia"},
		{"US", "Yuma", "America/Phoenix"},
	} {
		town, ok := Find(tt.country, "", tt.town)
		if assert.True(t, ok, tt.town) {
			assert.Equal(t, tt.zone, town.Zone, tt.town)
		}
	}
}

// The clocks of capitals and larger towns through a year, against a second list. That list
// is older than the newest zones, and errs in a few places.
func TestClocksOfLargeTowns(t *testing.T) {
	text, err := os.ReadFile("testdata/zones.tsv")
	require.NoError(t, err)
	// What the second list has wrong: law has one time in China, Chile's south left the
	// capital's time in 2017 and 2025, Juárez has that of El Paso since 2022.
	wrong := map[string]string{
		"Asia/Urumqi": "CN", "America/Santiago": "CL", "America/Rio_Branco": "BO", "America/Ojinaga": "MX", "America/Monterrey": "MX", "Asia/Hovd": "MN",
	}
	clocks := map[string]string{}
	clock := func(zone string) string {
		if clocks[zone] == "" {
			place, err := time.LoadLocation(zone)
			require.NoError(t, err, zone)
			for month := range time.Month(12) {
				clocks[zone] += time.Date(2026, month+1, 15, 12, 0, 0, 0, time.UTC).In(place).Format("-0700 ")
			}
		}
		return clocks[zone]
	}
	capitals := map[string]string{}
	for _, c := range almanac.All() {
		capitals[c.Code] = c.Capital
	}
	towns := Towns()
	tried, differed := 0, 0
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(strings.TrimSpace(line), "\t")
		require.Len(t, cells, 5)
		latitude, _ := strconv.ParseFloat(cells[1], 64)
		longitude, _ := strconv.ParseFloat(cells[2], 64)
		at := geo.Point{Latitude: latitude, Longitude: longitude}
		var near *Town
		least := 20.0
		for i := range towns {
			if towns[i].Country != cells[0] || towns[i].Population < 100_000 && towns[i].Name != capitals[cells[0]] {
				continue
			}
			if d := geo.DistanceKm(at, towns[i].Point); d < least {
				near, least = &towns[i], d
			}
		}
		if near == nil || wrong[cells[3]] == cells[0] {
			continue
		}
		tried++
		if !assert.Equal(t, clock(cells[3]), clock(near.Zone), "%s is in %s, not in %s", cells[4], cells[3], near.Zone) {
			differed++
		}
	}
	t.Logf("%d capitals and towns of more than 100,000: %d differed", tried, differed)
	assert.Greater(t, tried, 1500)
}

// The mapping of divisions to ISO 3166-2 is by name: towns that are known to
// lie in a region guard it.
func TestRegionsOfKnownTowns(t *testing.T) {
	for _, tt := range []struct{ country, region, town, zone string }{
		{"PT", "PT-11", "Lisbon", "Europe/Lisbon"},
		{"ES", "ES-VC", "Valencia", "Europe/Madrid"},
		{"GB", "GB-SCT", "Glasgow", "Europe/London"},
		{"IT", "IT-25", "Milan", "Europe/Rome"},
		{"JP", "JP-01", "Sapporo", "Asia/Tokyo"},
		{"CA", "CA-QC", "Montréal", "America/Toronto"},
		{"BR", "BR-SP", "Campinas", "America/Sao_Paulo"},
		{"US", "US-OR", "Salem", "America/Los_Angeles"},
		{"CH", "CH-GE", "Genève", "Europe/Zurich"},
		{"DE", "DE-BY", "Nürnberg", "Europe/Berlin"},
		{"AU", "AU-VIC", "Melbourne", "Australia/Melbourne"},
		{"IN", "IN-MH", "Pune", "Asia/Kolkata"},
		{"NO", "NO-46", "Bergen", "Europe/Oslo"},
		{"KE", "KE-30", "Nairobi", "Africa/Nairobi"},
		{"FR", "FR-ARA", "Lyon", "Europe/Paris"},
		{"SE", "SE-O", "Göteborg", "Europe/Stockholm"},
		{"FI", "FI-18", "Espoo", "Europe/Helsinki"},
		{"ZA", "ZA-WC", "Cape Town", "Africa/Johannesburg"},
		{"GR", "GR-G", "Pátra", "Europe/Athens"},
		{"NZ", "NZ-AUK", "Auckland", "Pacific/Auckland"},
		{"PL", "PL-14", "Warsaw", "Europe/Warsaw"},
		{"AT", "AT-9", "Vienna", "Europe/Vienna"},
		{"NL", "NL-NH", "Amsterdam", "Europe/Amsterdam"},
		{"DK", "DK-84", "Copenhagen", "Europe/Copenhagen"},
	} {
		town, ok := Find(tt.country, tt.region, tt.town)
		if assert.True(t, ok, tt.town) {
			assert.Equal(t, tt.region, town.Region, tt.town)
			assert.Equal(t, tt.zone, town.Zone, tt.town)
		}
	}
}

func TestFind(t *testing.T) {
	accents, ok := Find("CH", "", "zurich")
	require.True(t, ok)
	assert.Equal(t, "Zürich", accents.Name)
	_, ok = Find("PT", "PT-13", "Lisbon")
	assert.False(t, ok, "a town of another region is another town")
	_, ok = Find("PT", "", "Atlantis")
	assert.False(t, ok)
	_, ok = Find("PT", "", "")
	assert.False(t, ok)
}

func TestAreas(t *testing.T) {
	lisbon, ok := Region("PT-11")
	require.True(t, ok)
	portugal, ok := Country("PT")
	require.True(t, ok)
	assert.Less(t, lisbon.RadiusKm, portugal.RadiusKm)
	assert.Equal(t, []string{"Europe/Lisbon"}, lisbon.Zones)
	assert.Greater(t, len(portugal.Zones), 1, "the Azores have a zone of their own")
	_, ok = Country("BV")
	assert.False(t, ok)
}
