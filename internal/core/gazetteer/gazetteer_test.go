package gazetteer

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
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
