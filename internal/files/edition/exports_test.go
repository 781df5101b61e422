package edition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/plain"
)

// What is exported as CSV and read again says of every address what the edition said:
// random tables, lists and geofeeds with labels of several words, ranges that must not be
// located, and points without a country.
func TestExportsReadBack(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 10))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	prefix := func() string {
		a := netip.AddrFrom4([4]byte{198, 18, byte(r.IntN(4)), byte(r.IntN(256))})
		p, _ := a.Prefix(22 + r.IntN(11))
		return p.String()
	}
	tried, differed := 0, 0
	for range 15 {
		var table, feed, list strings.Builder
		table.WriteString("range,country_code,region_code,city,postal_code,latitude,longitude,radius_km,time_zone,as_number,operator,labels\n")
		for range 40 {
			place := pick("PT,PT-11,Lisbon,1000-001,,,,", "PT,,,,,,,", "ZZ,,,,,,,", ",,,,38.72,-9.14,5,", "ES,ES-MD,Madrid,,40.41,-3.7,,Europe/Madrid", ",,Ebbmouth,,41.15,-8.61,,", ",,,,,,,")
			table.WriteString(prefix() + "," + place + "," + pick("64496,Lake Bank", ",", "AS64497,") + "," + pick("", "lake balancer", "office; lake balancer;=1+1", "bay;two words") + "\n")
			feed.WriteString(prefix() + pick(",PT,PT-11,Lisbon,", ",ZZ,,,", "", ",ES,,,", ",,,,", `,PT,,"Lisbon",`) + "\n")
			list.WriteString(prefix() + pick("", ",lake balancer", ",hosting; two words") + "\n")
		}
		var sources []*atlas.Source
		for rank, f := range []struct {
			text   string
			format source.Format
		}{{table.String(), source.CSV}, {feed.String(), source.Geofeed}, {list.String(), source.List}} {
			s, err := source.Read(strings.NewReader(f.text), source.ParseOptions{Format: f.format, Label: "a list"}, atlas.About{Name: fmt.Sprint(rank), Rank: rank, Dated: "2026-11-01"})
			require.NoError(t, err)
			sources = append(sources, s)
		}
		before := atlas.New(sources...)
		var csv, feedAgain bytes.Buffer
		require.NoError(t, Export(before, &csv, source.CSV, true, nil))
		require.NoError(t, Export(before, &feedAgain, source.Geofeed, true, nil))
		again, err := source.ReadTable(&csv, ',', nil, atlas.About{Name: "again", Rank: 1})
		require.NoError(t, err)
		require.Zero(t, again.Rejected)
		fromFeed, err := source.ReadGeofeed(&feedAgain, atlas.About{Name: "again", Rank: 1})
		require.NoError(t, err)
		require.Zero(t, fromFeed.Rejected)
		after, short := atlas.New(again), atlas.New(fromFeed)
		for n := range 1024 {
			ip := netip.AddrFrom4([4]byte{198, 18, byte(n >> 8), byte(n)})
			a, b, c := before.Lookup(ip), after.Lookup(ip), short.Lookup(ip)
			same := told(t, a) == told(t, b)
			if !slices.ContainsFunc(a.Evidence, func(e atlas.Evidence) bool { return strings.Contains(e.Source, "nearest town") }) { // of points a geofeed knows nothing
				same = same && plain.Value(a.Location.CountryCode) == plain.Value(c.Location.CountryCode) && plain.Value(a.Location.City) == plain.Value(c.Location.City) && asked(a) == asked(c)
			}
			tried++
			if !assert.True(t, same, "%s: %s, read again %s", ip, told(t, a), told(t, b)) {
				differed++
			}
			if differed > 3 {
				t.FailNow()
			}
		}
	}
	t.Logf("%d addresses: %d differed", tried, differed)
}

// told is what an atlas says of an address, without who says it.
func told(t *testing.T, f *atlas.LookupResult) string {
	t.Helper()
	labels := slices.Sorted(slices.Values(f.Labels))
	w := f.Location
	w.Missing, w.Basis = nil, nil
	text, err := json.Marshal([]any{w, f.Network.ASNumber, f.Network.Operator, labels, asked(f)})
	require.NoError(t, err)
	return string(text)
}

// asked says whether a network asked not to be located.
func asked(f *atlas.LookupResult) bool {
	return slices.ContainsFunc(f.Evidence, func(e atlas.Evidence) bool { return e.Used && len(e.Facts) == 0 })
}
