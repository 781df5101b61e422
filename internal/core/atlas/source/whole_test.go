package source_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/plain"
	"eastporch/internal/files/edition"
)

// two makes an edition of two invented sources.
func two(t *testing.T, seed uint64) *atlas.Atlas {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, seed))
	var sources []*atlas.Source
	for rank := range 2 {
		table, _ := source.Invented(r, 80)
		s, err := source.ReadTable(strings.NewReader(table), ',', nil, atlas.About{Name: fmt.Sprint("source ", rank), Rank: rank + 1, Dated: "2026-11-01"})
		require.NoError(t, err)
		sources = append(sources, s)
	}
	return atlas.New(sources...)
}

// probes are addresses at and around the edges of ranges, and anywhere.
func probes(r *rand.Rand) []netip.Addr {
	var list []netip.Addr
	for range 400 {
		list = append(list, source.RandomAddr(r, r.IntN(2) == 0),
			netip.AddrFrom4([4]byte{198, 18, byte(r.UintN(8)), byte(r.UintN(256))}))
	}
	return list
}

func TestAnExportSaysTheSame(t *testing.T) {
	a := two(t, 11)
	var csv, feed bytes.Buffer
	require.NoError(t, edition.Export(a, &csv, source.CSV, true, nil))
	require.NoError(t, edition.Export(a, &feed, source.Geofeed, true, nil))
	require.Error(t, edition.Export(a, &csv, source.Parquet, true, nil))
	all, err := source.ReadTable(&csv, ',', nil, atlas.About{Name: "all", Rank: 1})
	require.NoError(t, err)
	assert.Empty(t, all.Rejects())
	places, err := source.ReadGeofeed(&feed, atlas.About{Name: "feed", Rank: 1})
	require.NoError(t, err)
	assert.Empty(t, places.Rejects())
	fromCSV, fromFeed := atlas.New(all), atlas.New(places)
	r := rand.New(rand.NewPCG(12, 12))
	for _, ip := range probes(r) {
		want := *a.Lookup(ip)
		want.Location.Basis = nil // which a file of ranges does not keep
		got := *fromCSV.Lookup(ip)
		got.Location.Basis = nil
		require.Equal(t, want.Location, got.Location, "%s", ip)
		require.Equal(t, want.Network.ASNumber, got.Network.ASNumber, "%s", ip)
		require.Equal(t, want.Network.Operator, got.Network.Operator, "%s", ip)
		again := *fromFeed.Lookup(ip)
		again.Location.Basis = nil
		require.Equal(t, want.Location, again.Location, "%s", ip)
	}
}

func TestSpansAndSamplesAgreeWithLookup(t *testing.T) {
	a := two(t, 16)
	span, err := addr.ParseRange("198.18.0.0/21")
	require.NoError(t, err)
	shares, done := a.Span(span, 1<<20)
	assert.Equal(t, span, done)
	count, total := map[string]int{}, 0
	for ip := span.First; span.Contains(ip); ip = ip.Next() {
		w := a.Lookup(ip).Location
		count[plain.Value(w.CountryCode)+"/"+plain.Value(w.City)]++
		total++
	}
	sum := 0.0
	for _, s := range shares {
		assert.InDelta(t, float64(count[s.CountryCode+"/"+s.City])/float64(total), s.Share, 1e-9)
		sum += s.Share
		w := a.Lookup(netip.MustParseAddr(s.Example)).Location
		assert.Equal(t, s.City, plain.Value(w.City))
	}
	assert.InDelta(t, 1, sum, 1e-9)
	assert.Len(t, shares, len(count))
	part, done := a.Span(span, 3)
	assert.NotEmpty(t, part)
	assert.True(t, done.Last.Less(span.Last), "it says how far it came")

	for _, ip := range a.Sample("PT", "", 50, 1) {
		assert.Equal(t, "PT", *a.Lookup(ip).Location.CountryCode)
	}
	assert.Equal(t, a.Sample("NO", "", 20, 7), a.Sample("NO", "", 20, 7))
	assert.Empty(t, a.Sample("FR", "", 5, 1))
}

func TestDescribe(t *testing.T) {
	for name, c := range map[string]struct {
		text    string
		format  source.Format
		mapping map[string]string
	}{
		"a geofeed":   {"# c\n198.18.0.0/16,PT,,,\n198.19.0.0/16,,,,\n", source.Geofeed, map[string]string{}},
		"a list":      {"198.18.0.0/16\n198.19.0.1\n", source.List, map[string]string{}},
		"a table":     {"Net,CC,Town,Lat,Long,ASN\n198.18.0.0/16,PT,Lisbon,38.72,-9.14,64500\n", source.CSV, map[string]string{"range": "Net", "country_code": "CC", "city": "Town", "latitude": "Lat", "longitude": "Long", "as_number": "ASN"}},
		"tabs":        {"start\tend\tcountry\n198.18.0.0\t198.18.0.9\tPT\n", source.TSV, map[string]string{"first": "start", "last": "end", "country_code": "country"}},
		"by contents": {"x,y\n198.18.0.0/16,PT\n198.19.0.0/16,ES\n", source.CSV, map[string]string{"range": "x", "country_code": "y"}},
		"objects":     {`{"prefix":"198.18.0.0/16","cc":"PT"}` + "\n", source.JSONLines, map[string]string{"range": "prefix", "country_code": "cc"}},
		"a registry":  {"2|lakereg|20261030|1|x|y|+0\nlakereg|*|ipv4|*|1|summary\nlakereg|ES|ipv4|198.18.0.0|256|20000101|allocated\n", source.Delegated, map[string]string{}},
	} {
		d, err := source.Describe(strings.NewReader(c.text))
		require.NoError(t, err, name)
		assert.Equal(t, c.format, d.Format, name)
		assert.Equal(t, c.mapping, d.Mapping, name)
		assert.NotEmpty(t, d.Reason, name)
		if c.format != source.Geofeed { // and what it proposes can be read
			s, err := source.Read(strings.NewReader(c.text), source.ParseOptions{Format: d.Format, Columns: d.Mapping, Label: "x"}, atlas.About{Name: name, Rank: 1})
			require.NoError(t, err, name)
			assert.Positive(t, s.Accepted, name)
		}
	}
	d, err := source.Describe(strings.NewReader("net,cc\n198.18.0.0/24,PT\n198.18.1.0/24,PT\n198.18.2.0/24,ES\n198.18.3.0/24,\n"))
	require.NoError(t, err)
	assert.Len(t, d.Sample, 3, "a row for each country")
	assert.InDelta(t, 0.75, d.Columns[1].Filled, 1e-9)
	for _, text := range []string{"", "# only\n", "hello\n", strings.Repeat("x", source.MaxLine+2)} {
		_, err := source.Describe(strings.NewReader(text))
		require.Error(t, err)
	}
	d, err = source.Describe(strings.NewReader("a,b\n1,2\n"))
	require.NoError(t, err)
	assert.Len(t, d.Advice, 2, "it says what it did not find")
	assert.Equal(t, d.Advice, d.Lacks())
	d, err = source.Describe(strings.NewReader("network,country\n198.18.0.0/24,PT\n198.18.1.0/24,UK\n"))
	require.NoError(t, err)
	require.Len(t, d.Lacks(), 1)
	assert.Contains(t, d.Lacks()[0], `Column "country": "UK" is not a country code: did you mean GB?`)
	for _, whole := range []string{"198.18.0.0/24,PT,,,\n198.18.1.0/24,,,,\n", "198.18.0.0/24\n", "network,labels\n198.18.0.0/24,office\n"} {
		d, err = source.Describe(strings.NewReader(whole))
		require.NoError(t, err)
		assert.Empty(t, d.Lacks(), whole)
	}
}

// full fails after some bytes, as a client does that hangs up.
type full struct{ buffer int }

func (f *full) Write(p []byte) (int, error) {
	if f.buffer -= len(p); f.buffer < 0 {
		return 0, errors.New("full")
	}
	return len(p), nil
}

func TestExportsAreGuardedAndDoNotLookWhole(t *testing.T) {
	var rows strings.Builder
	rows.WriteString("range,country_code,city,operator\n198.18.0.0/24,PT,=HYPERLINK(1),＠operator\n198.18.1.0/24,PT,Lisbon,+1 Net\n")
	for i := range 20_000 {
		fmt.Fprintf(&rows, "2001:db8:%x::/48,PT,Town %d,\n", i, i)
	}
	src, err := source.ReadTable(strings.NewReader(rows.String()), ',', nil, atlas.About{Name: "odd", Rank: 1})
	require.NoError(t, err)
	a := atlas.New(src)
	var guarded, raw strings.Builder
	require.NoError(t, edition.Export(a, &guarded, source.CSV, false, nil))
	require.NoError(t, edition.Export(a, &raw, source.CSV, true, nil))
	for _, odd := range []string{"=HYPERLINK(1)", "＠operator", "+1 Net"} {
		assert.Contains(t, guarded.String(), ",'"+odd)
		assert.Contains(t, raw.String(), ","+odd)
	}
	require.Error(t, edition.Export(a, &full{buffer: 100_000}, source.CSV, false, nil), "where nobody reads, it ends")
}
