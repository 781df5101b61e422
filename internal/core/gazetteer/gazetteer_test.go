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

// What towns are called in ten languages, written down by hand. The last column is what a
// source may call the town in its own country.
func TestTownsInTheReadersLanguage(t *testing.T) {
	languages := []string{"en", "pt", "de", "fr", "es", "it", "ru", "ja", "zh", "ar"}
	tried := 0
	for _, row := range [][]string{
		{"PT", "Lisbon", "Lisboa", "Lissabon", "Lisbonne", "Lisboa", "Lisbona", "Лиссабон", "リスボン", "里斯本", "لشبونة", "LISBOA"},
		{"JP", "Tokyo", "Tóquio", "Tokio", "Tokyo", "Tokio", "Tokyo", "Токио", "東京", "东京", "طوكيو", "東京"},
		{"CN", "Beijing", "Pequim", "Peking", "Pékin", "Pekín", "Pechino", "Пекин", "北京", "北京", "بكين", "北京"},
		{"GR", "Athens", "Atenas", "Athen", "Athènes", "Atenas", "Atene", "Афины", "アテネ", "雅典", "أثينا", "Αθήνα"},
		{"AT", "Vienna", "Viena", "Wien", "Vienne", "Viena", "Vienna", "Вена", "ウィーン", "维也纳", "فيينا", "Wien"},
		{"RU", "Moscow", "Moscou", "Moskau", "Moscou", "Moscú", "Mosca", "Москва", "モスクワ", "莫斯科", "موسكو", "Москва"},
		{"IN", "New Delhi", "Nova Deli", "Neu-Delhi", "New Delhi", "Nueva Delhi", "Nuova Delhi", "Нью-Дели", "ニューデリー", "新德里", "نيودلهي", "new delhi"},
		{"US", "New York", "Nova York", "New York", "New York", "Nueva York", "New York", "Нью-Йорк", "ニューヨーク", "纽约", "نيويورك", "New York City"},
		{"CH", "Bern", "Berna", "Bern", "Berne", "Berna", "Berna", "Берн", "ベルン", "伯尔尼", "برن", "Berne"},
		{"NO", "Oslo", "Oslo", "Oslo", "Oslo", "Oslo", "Oslo", "Осло", "オスロ", "奥斯陆", "أوسلو", "OSLO"},
		{"NO", "Bergen", "Bergen", "Bergen", "Bergen", "Bergen", "Bergen", "Bergen", "Bergen", "Bergen", "Bergen", "Bergen"}, // CLDR does not know it
	} {
		for i, tag := range languages {
			tried++
			assert.Equal(t, row[1+i], NameIn(row[0], row[1], tag), "%s in %s", row[1], tag)
		}
		assert.Equal(t, row[1], NameIn(row[0], row[11], "en"), "as its own country writes it")
	}
	assert.Equal(t, "Lissabon", NameIn("PT", "Lisbon", "de-AT-1996"), "by the nearest language above")
	assert.Equal(t, "Lisbon", NameIn("PT", "Lisbon", "tlh"), "CLDR does not know the language")
	assert.Equal(t, "Lisbon", NameIn("US", "Lisbon", "pt"), "another one")
	assert.Equal(t, "Nova Iorque", NameIn("US", "New York", "pt-PT"))
	differed := 0
	known := namesOfTowns()
	for n := range known.english {
		if known.english[n] == "" {
			differed++
		}
	}
	for tag, l := range known.locales {
		for n := range l.names {
			if n >= len(known.english) || l.names[n] == "" {
				differed++
			}
		}
		assert.True(t, l.parent == "" || l.parent == "en" || known.locales[l.parent].names != nil, "%s has no parent %s", tag, l.parent)
	}
	t.Logf("%d names in ten languages; %d towns and %d locales", tried, len(known.english), len(known.locales))
	assert.Zero(t, differed)
}

func TestTownsAreFoundByName(t *testing.T) {
	for name, want := range map[string]string{
		"Lisbon": "PT", "lisboa": "PT", "LISSABON": "PT", "São Paulo": "BR", "sao paulo": "BR", "北京": "CN", "København": "DK", "Munich": "DE", "Oslo": "NO",
	} {
		list := Named(name)
		require.NotEmpty(t, list, name)
		assert.Equal(t, want, list[0].Country, name)
		for i := 1; i < len(list); i++ {
			assert.GreaterOrEqual(t, list[i-1].Population, list[i].Population, name)
		}
	}
	assert.Empty(t, Named("Atlantis-on-Sea"))
	for i := 0; i < len(Towns()); i += 500 {
		town := &Towns()[i]
		require.Contains(t, Named(strings.ToUpper(town.Name)), town, town.Name)
	}
}
