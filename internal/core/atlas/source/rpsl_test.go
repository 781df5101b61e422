package source

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/mrt"
)

func readRPSL(t *testing.T, text string) *atlas.Source {
	t.Helper()
	s, err := Read(strings.NewReader(text), ParseOptions{Format: RPSL}, atlas.About{Name: "registry", Rank: 1})
	require.NoError(t, err)
	return s
}

func TestReadRPSL(t *testing.T) {
	s := readRPSL(t, strings.Join([]string{
		"% bulk data", "",
		"inetnum:  198.51.100.0 - 198.51.100.255", "netname: HARBOUR-NET", "country: pt # Portugal", "geofeed: https://harbour.example/feed.csv", "",
		"inetnum:  198.51.100.64-198.51.100.95", "country: ES", "remarks: Geofeed https://alder.example/g", "", // 8
		"inet6num: 2001:db8::/32", "netname: Z\xfcRICH", "country:", "  CH", "geofeed: https://x.example/", "", // 12
		"person:   Somebody", "country: FR", "", // 18
		"inetnum:  192.0.2.0 - 192.0.2.9", "country: GR", "country: gr", "", // 21
		"inetnum:  192.0.2.16 - 192.0.2.31", "country: GR", "country: IT", "", // 25
		"inetnum:  192.0.2.32 - 192.0.2.33", "netname: NONE", "", // 29
		"inetnum:  0.0.0.0 - 255.255.255.255", "country: EU", "", // 32
		"inetnum:  192.0.2.40 - 192.0.2.41", "country: EU", "", // 35
		"inetnum:", "country: FR", "", // 38
		"inetnum:  192.0.2.60 - 192.0.2.50", "country: FR", "geofeed: https://wrong.example/", "", // 41
		"inetnum:  192.0.2.300 - 192.0.3.1", "country: FR", "", // 45
		"nothing of the kind", "", // 48
		"inetnum: 203.0.113.0/24", "status: UNALLOCATED", "country: FR", "", // 50
	}, "\n"))
	assert.Equal(t, []int{13, 4, 4, 5}, []int{s.Rows, s.Accepted, s.Rejected, s.Remarked})
	lines := map[int]string{}
	for _, n := range append(s.Rejects(), s.Remarks()...) {
		lines[n.Line] = n.Reason
	}
	for line, part := range map[int]string{
		25: "several countries", 29: "names no country", 32: "wider than any network", 35: "EU", 38: "has no range", 41: "ends before it begins", 45: "0 to 255", 48: "no attribute", 50: "nobody holds",
	} {
		assert.Contains(t, lines[line], part, "line %d of %v", line, lines)
	}
	a := atlas.New(s)
	found := at(a, "198.51.100.70")
	assert.Equal(t, "ES", *found.Location.CountryCode)
	assert.Equal(t, string(atlas.Registration), *found.Location.Basis)
	assert.Equal(t, "198.51.100.64/27", found.Network.Range.String())
	assert.Equal(t, "CH", *at(a, "2001:db8::1").Location.CountryCode)
	assert.Equal(t, "GR", *at(a, "192.0.2.9").Location.CountryCode)
	assert.Equal(t, atlas.None, at(a, "8.8.8.8").Location.Level)

	feeds := s.Feeds()
	require.Len(t, feeds, 3)
	assert.Equal(t, "https://alder.example/g", feeds[1].URL)
	assert.True(t, feeds[1].ByRemark)
	assert.Equal(t, "198.51.100.64/27", feeds[1].Range.String())
	assert.Equal(t, []any{"ZüRICH", 12, false}, []any{feeds[2].Network, feeds[2].Line, feeds[2].ByRemark})
}

func TestDescribeKnowsObjectsAndDumps(t *testing.T) {
	for text, want := range map[string]Format{
		"% head\n\nperson: X\n\ninetnum: 198.18.0.0 - 198.18.0.255\ncountry: PT\n": RPSL,
		"\x00\x00\x00\x01\x00\x0d\x00\x01\x00\x00\x00\x08rest of it":               MRT,
		"198.18.0.0/24,PT,PT-11,Lisbon,\n198.18.1.0/24,ES,,,\n":                    Geofeed,
	} {
		d, err := Describe(strings.NewReader(text))
		require.NoError(t, err)
		assert.Equal(t, want, d.Format)
		assert.Empty(t, d.Lacks())
	}
}

// Whatever the sizes of objects are, and wherever chunks end, every network is found with its
// country; of objects longer than a chunk the first lines are read.
func TestObjectsOfAllSizes(t *testing.T) {
	r := rand.New(rand.NewPCG(22, 2))
	var text strings.Builder
	want, long, line := map[string]string{}, map[int]bool{}, 1
	for i := range 3000 {
		a := netip.AddrFrom4([4]byte{198, 18, byte(i >> 6), byte(i << 2)})
		country := []string{"PT", "ES", "FR"}[r.IntN(3)]
		want[a.String()] = country
		size := r.IntN(3000)
		switch r.IntN(400) {
		case 0:
			size = chunkSize + r.IntN(2*chunkSize)
		case 1:
			size = r.IntN(chunkSize)
		}
		if size > chunkSize {
			long[line] = true
		}
		end := []string{"\n", "\r\n"}[r.IntN(2)]
		fmt.Fprintf(&text, "inetnum: %s/30%scountry: %s%s", a, end, country, end)
		line += 2
		for ; size > 0; size -= 1000 {
			text.WriteString("remarks: " + strings.Repeat("x", min(size, 1000)) + end)
			line++
		}
		text.WriteString(end)
		line++
	}
	s := readRPSL(t, text.String())
	assert.Equal(t, []int{3000, 3000, 0}, []int{s.Rows, s.Accepted, s.Rejected})
	edition := atlas.New(s)
	for a, country := range want {
		assert.Equal(t, country, *at(edition, a).Location.CountryCode)
	}
	require.NotEmpty(t, long)
	remarked := map[int]bool{}
	for _, n := range s.Remarks() {
		assert.Contains(t, n.Reason, "longer than 2 MB")
		remarked[n.Line] = true
	}
	for line := range long {
		assert.True(t, remarked[line], "line %d", line)
	}
}

// The quick way to read first and last agrees with the slow one.
func TestQuickPairsAgree(t *testing.T) {
	r := rand.New(rand.NewPCG(22, 3))
	for range 200_000 {
		first := netip.AddrFrom4([4]byte{byte(r.IntN(3) * 127), byte(r.IntN(2) * 255), byte(r.IntN(2) * 255), byte(r.IntN(256) & -(1 << r.IntN(9)))})
		last := netip.AddrFrom4([4]byte{byte(r.IntN(3) * 127), byte(r.IntN(2) * 255), byte(r.IntN(2) * 255), byte(r.IntN(256) | (1<<r.IntN(9) - 1))})
		row, is4, ok := quickPrefix(rangeText{first: []byte(first.String()), last: []byte(last.String())})
		p, whole := addr.Range{First: first, Last: last}.Prefix()
		whole = whole && !last.Less(first)
		require.Equal(t, whole, ok, "%s-%s", first, last)
		if ok {
			require.Equal(t, p, row.Prefix(is4), "%s-%s", first, last)
		}
	}
}

// However text is cut into chunks, and however many rows are taken together, each row is read as if it stood
// alone: of every form of text, of rows that come from elsewhere (Parquet, a database), and of dumps.
func TestRowsAreReadAsIfEachStoodAlone(t *testing.T) {
	r := rand.New(rand.NewPCG(33, 2))
	countries := []string{"PT", "ES", "FR", "NO", "JP", "CA", "AU", "NZ", "CH", "SE", "FI", "IT", "GR", "BR", "IN", "ZA", "EU", "pt", ""}
	made := map[Format]func(n int) string{
		RPSL: func(n int) string {
			text := fmt.Sprintf("inetnum: 198.18.%d.%d\nnetname: NET-%d\n", n/250, n%250, n)
			if c := countries[r.IntN(len(countries))]; c != "" {
				text += "country: " + c + "\n"
			}
			if r.IntN(3) == 0 {
				text += fmt.Sprintf("geofeed: https://feeds.example/%d\n", n)
			}
			if r.IntN(8) == 0 {
				text = "% a comment\n" + text
			}
			if r.IntN(8) == 0 {
				text = "person: Somebody\ncountry: FR\n\n" + text
			}
			return text + strings.Repeat("\n", 1+r.IntN(3))
		},
		Geofeed: func(n int) string {
			return fmt.Sprintf("198.18.%d.%d,%s,,Town %d,\n", n/250, n%250, countries[r.IntN(16)], r.IntN(40))
		},
		Delegated: func(n int) string {
			return fmt.Sprintf("lake|%s|ipv4|198.18.%d.%d|1|20200101|assigned|a%d\n", countries[r.IntN(16)], n/250, n%250, r.IntN(40))
		},
		List: func(n int) string {
			return fmt.Sprintf("198.18.%d.%d # from %d\n", n/250, n%250, r.IntN(40))
		},
		CSV: func(n int) string {
			return fmt.Sprintf("198.18.%d.%d,%s,\"Town, %d\"%s", n/250, n%250, countries[r.IntN(16)], r.IntN(40), []string{"\n", "\r\n", "\n\n"}[r.IntN(3)])
		},
		TSV: func(n int) string {
			return fmt.Sprintf("198.18.%d.%d\t%s\tTown %d\n", n/250, n%250, countries[r.IntN(16)], r.IntN(40))
		},
		JSONLines: func(n int) string {
			return fmt.Sprintf(`{"range":"198.18.%d.%d","country_code":%q,"city":"Town %d"}`+"\n", n/250, n%250, countries[r.IntN(16)], r.IntN(40))
		},
		Parquet: func(n int) string {
			return fmt.Sprintf("198.18.%d.%d\t%s\tTown %d\n", n/250, n%250, countries[r.IntN(16)], r.IntN(40))
		},
		MRT: func(n int) string {
			w := &mrt.Writer{}
			w.Route(netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 18, byte(n), 0}), 24), false, mrt.Path{AS: []uint32{3320, 3320 + r.Uint32N(40)}})
			return string(w.Buffer)
		},
	}
	heads := map[Format]string{CSV: "range,country_code,city\n", TSV: "range\tcountry_code\tcity\n"}
	peers := &mrt.Writer{}
	peers.Peers(3)
	heads[MRT] = string(peers.Buffer)
	said := func(format Format, text string, chunk int) *atlas.Source {
		how, about := ParseOptions{Format: format, Label: "office", chunk: chunk}, atlas.About{Name: "source", Rank: 1}
		var s *atlas.Source
		var err error
		if format == Parquet {
			s, err = ReadRows([]string{"range", "country_code", "city"}, func(yield func([]string, error) bool) {
				for line := range strings.Lines(text) {
					if !yield(strings.Split(strings.TrimSuffix(line, "\n"), "\t"), nil) {
						return
					}
				}
			}, how, about)
		} else {
			s, err = Read(strings.NewReader(heads[format]+text), how, about)
		}
		require.NoError(t, err, "%s of %q", format, text)
		return s
	}
	type fact struct{ address, location string }
	tried, rounds := 0, 24
	if testing.Short() {
		rounds = 4
	}
	for format, one := range made {
		for range rounds {
			size := 1 + r.IntN(50)
			var whole strings.Builder
			var rows, accepted, remarked int
			var feeds []string
			var facts []fact
			for n := range size {
				text := one(n)
				whole.WriteString(text)
				alone := said(format, text, 4096)
				rows, accepted, remarked = rows+alone.Rows, accepted+alone.Accepted, remarked+alone.Remarked
				for _, f := range alone.Feeds() {
					feeds = append(feeds, f.URL+" "+f.Range.String())
				}
				address := fmt.Sprintf("198.18.%d.%d", n/250, n%250)
				if format == MRT {
					address = fmt.Sprintf("198.18.%d.0", n)
				}
				facts = append(facts, fact{address, fmt.Sprint(plainFacts(at(atlas.New(alone), address)))})
			}
			text := whole.String()
			if r.IntN(2) == 0 && format != MRT {
				text = strings.TrimRight(text, "\r\n")
			}
			chunks := []int{1 << 16, 700 + r.IntN(3000)} // of bytes
			if format == Parquet || format == MRT {
				chunks = []int{1 << 16, 1 + r.IntN(20)} // of rows
			}
			for _, chunk := range chunks {
				got := said(format, text, chunk)
				assert.Equal(t, []int{rows, accepted, remarked}, []int{got.Rows, got.Accepted, got.Remarked}, "%s in chunks of %d: %q", format, chunk, text)
				var found []string
				for _, f := range got.Feeds() {
					found = append(found, f.URL+" "+f.Range.String())
				}
				assert.Equal(t, feeds, found, "%s in chunks of %d", format, chunk)
				a := atlas.New(got)
				for _, f := range facts {
					assert.Equal(t, f.location, fmt.Sprint(plainFacts(at(a, f.address))), "%s: %s", format, f.address)
					tried++
				}
				if t.Failed() {
					return
				}
			}
		}
	}
	t.Logf("%d rows", tried)
}

func plainFacts(found atlas.LookupResult) []string {
	var facts []string
	for _, text := range []*string{found.Location.CountryCode, found.Location.RegionCode, found.Location.City} {
		if text != nil {
			facts = append(facts, *text)
		}
	}
	if found.Network.ASNumber != nil {
		facts = append(facts, fmt.Sprint("AS", *found.Network.ASNumber))
	}
	return append(facts, found.Labels...)
}
