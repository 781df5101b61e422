package gazetteer

import (
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/geo"
	"eastporch/internal/core/packed"
)

// Names as people write them, drawn from all places and what they are called, against the
// model of tools/gendata/found.mjs.
func TestFindAgainstAModel(t *testing.T) {
	zipped, err := os.ReadFile("testdata/found.tsv.gz")
	require.NoError(t, err)
	tried, differed := 0, 0
	for line := range strings.Lines(packed.Text(zipped)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		require.Len(t, f, 7)
		tried++
		var got []string
		if p, ok := Find(f[0], f[1], f[2]); ok {
			decimal := func(x float64) string { return strconv.FormatFloat(x, 'f', 3, 64) }
			got = []string{decimal(p.Point.Latitude), decimal(p.Point.Longitude), strconv.Itoa(p.Population), strconv.Itoa(p.Alike)}
		}
		if !assert.Equal(t, f[3:], got, "%q in %s %s", f[2], f[0], f[1]) {
			differed++
		}
	}
	t.Logf("%d names: %d differed", tried, differed)
	assert.GreaterOrEqual(t, tried, 8000)
}

// What people call towns, written down by hand, and where they are, to 25 km.
func TestTownsUnderTheirUsualNames(t *testing.T) {
	for _, tt := range []struct {
		country, region, name string
		latitude, longitude   float64
	}{
		{"US", "US-NY", "New York", 40.7, -74.0},
		{"US", "", "NYC", 40.7, -74.0},
		{"US", "US-MO", "Saint Louis", 38.6, -90.2},
		{"US", "US-TX", "Ft. Worth", 32.8, -97.3},
		{"US", "US-OR", "Portland, Oregon", 45.5, -122.7},
		{"DE", "DE-BY", "München", 48.1, 11.6},
		{"DE", "DE-BY", "Muenchen", 48.1, 11.6},
		{"DE", "DE-BY", "Nuremberg", 49.5, 11.1},
		{"DE", "DE-NW", "Köln", 50.9, 7.0},
		{"DE", "DE-HE", "Frankfurt", 50.1, 8.7},
		{"IT", "IT-25", "Milano", 45.5, 9.2},
		{"IT", "IT-MI", "Milano", 45.5, 9.2}, // a province of the region
		{"IT", "IT-52", "Firenze", 43.8, 11.2},
		{"IT", "IT-21", "Torino", 45.1, 7.7},
		{"IT", "IT-72", "Napoli", 40.8, 14.2},
		{"NL", "NL-ZH", "Den Haag", 52.1, 4.3},
		{"NL", "NL-ZH", "'s-Gravenhage", 52.1, 4.3},
		{"IN", "IN-KA", "Bangalore", 13.0, 77.6},
		{"IN", "IN-MH", "Bombay", 19.1, 72.9},
		{"JP", "JP-27", "大阪", 34.7, 135.5},
		{"JP", "JP-27", "大阪市", 34.7, 135.5},
		{"JP", "JP-27", "Osaka-shi", 34.7, 135.5},
		{"KR", "", "서울", 37.6, 127.0},
		{"CN", "", "上海市", 31.2, 121.5},
		{"RU", "", "Санкт-Петербург", 59.9, 30.3},
		{"RU", "", "г. Москва", 55.8, 37.6},
		{"CH", "", "St. Gallen", 47.4, 9.4},
		{"CH", "", "Zuerich", 47.4, 8.5},
		{"ES", "", "Ciudad de Madrid", 40.4, -3.7},
		{"TR", "", "İSTANBUL", 41.0, 28.9},
		{"VN", "", "Hồ Chí Minh", 10.8, 106.6},
		{"AD", "", "Soldeu", 42.6, 1.7}, // 602 people
	} {
		p, ok := Find(tt.country, tt.region, tt.name)
		if assert.True(t, ok, "%s in %s", tt.name, tt.country) {
			at := geo.Point{Latitude: tt.latitude, Longitude: tt.longitude}
			assert.Less(t, geo.DistanceKm(at, p.Point), 25.0, "%s is put at %v", tt.name, p.Point)
		}
	}
	for _, name := range []string{"", " ", "-", "Atlantis", "the", "City of", "市", strings.Repeat("Lisbon ", 10_000)} {
		_, ok := Find("PT", "", name)
		assert.False(t, ok, "%.40q", name)
	}
	_, ok := Find("XX", "", "Lisbon")
	assert.False(t, ok)
	springfield, ok := Find("US", "", "Springfield")
	require.True(t, ok)
	assert.Equal(t, "US-MO", springfield.Region, "the largest")
	assert.Greater(t, springfield.Alike, 10, "and it says that there are others")
	lisbon, _ := Find("PT", "", "Lisboa")
	assert.Equal(t, 1, lisbon.Alike)
	assert.True(t, SamePlace("IT", "", "Milano", "Mailand"))
	assert.False(t, SamePlace("IT", "", "Milano", "Torino"))
	assert.True(t, SamePlace("IT", "", "Ny-Gotham", "ny gotham"), "two that nobody knows")
}

// The embedded tables are bounded: they are in every binary.
func TestTheTablesAreSmall(t *testing.T) {
	total := len(townsFile) + len(namesFile)
	files, err := placesFiles.ReadDir("places")
	require.NoError(t, err)
	for _, file := range files {
		zipped, err := placesFiles.ReadFile("places/" + file.Name())
		require.NoError(t, err)
		total += len(zipped)
	}
	t.Logf("%d countries, %d bytes", len(files), total)
	assert.Less(t, total, 6_000_000)
}
