package source

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
)

// What the tests that stand outside see of the inside.
const MaxLine = maxLine

// naive is a source as a plain list.
type naive struct {
	span addr.Range
	text string
}

// Invented makes a table with ranges of many sizes in any order, and the list of
// those that should stand.
func Invented(r *rand.Rand, n int) (table string, list []naive) {
	var b strings.Builder
	b.WriteString("range,country_code,city,operator\n")
	seen := map[addr.Range]bool{}
	for i := range n {
		country, city := []string{"PT", "ES", "GR", "NO"}[r.IntN(4)], fmt.Sprintf("Town %d", r.IntN(n/4+1))
		var span addr.Range
		var text string
		switch r.IntN(4) {
		case 0:
			p := netip.PrefixFrom(RandomAddr(r, true), r.IntN(33)).Masked()
			span, text = addr.RangeOf(p), p.String()
		case 1:
			p := netip.PrefixFrom(RandomAddr(r, false), r.IntN(129)).Masked()
			span, text = addr.RangeOf(p), p.String()
		case 2:
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 18, byte(r.UintN(4)), byte(r.UintN(256))}), 20+r.IntN(13)).Masked()
			span, text = addr.RangeOf(p), p.String()
		default:
			a := netip.AddrFrom4([4]byte{198, 18, byte(r.UintN(4)), byte(r.UintN(256))})
			z := netip.AddrFrom4([4]byte{198, 18, 4 + byte(r.UintN(4)), byte(r.UintN(256))})
			span, text = addr.Range{First: a, Last: z}, a.String()+"-"+z.String()
		}
		if !seen[span] {
			seen[span] = true
			list = append(list, naive{span, fmt.Sprintf("%s/%s/%d", country, city, i)})
		}
		fmt.Fprintf(&b, "%s,%s,%s,%s\n", text, country, city, fmt.Sprint(i))
	}
	return b.String(), list
}

func RandomAddr(r *rand.Rand, is4 bool) netip.Addr {
	if is4 {
		x := r.Uint32()
		return netip.AddrFrom4([4]byte{byte(x >> 24), byte(x >> 16), byte(x >> 8), byte(x)})
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], r.Uint64())
	binary.BigEndian.PutUint64(b[8:], r.Uint64())
	return netip.AddrFrom16(b)
}

// around lists what of a plain list holds an address, the fewest addresses first, and of
// as many the earlier line.
func around(list []naive, a netip.Addr) []naive {
	var found []naive
	for _, n := range list {
		if n.span.Contains(a) {
			found = append(found, n)
		}
	}
	slices.SortStableFunc(found, func(a, b naive) int { return a.span.Count().Cmp(b.span.Count()) })
	return found
}

func TestEditionSaysWhatTheTableSaid(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for round := range 8 {
		table, list := Invented(r, 40<<round)
		s, err := ReadTable(strings.NewReader(table), ',', nil, atlas.About{Name: "invented", Rank: 1, Dated: "2026-11-01"})
		require.NoError(t, err)
		require.Equal(t, len(list), s.Accepted)
		require.Equal(t, s.Rows, s.Accepted+s.Rejected)
		a, err := atlas.OpenBytes(written(t, atlas.New(s)), nil)
		require.NoError(t, err)
		require.NoError(t, a.Verify())
		require.Equal(t, atlas.New(s).Name(), a.Name())
		require.Equal(t, s.Counts, a.Sources()[0].Counts)
		for range 400 {
			ip := RandomAddr(r, r.IntN(2) == 0)
			if r.IntN(2) == 0 { // at an edge
				n := list[r.IntN(len(list))]
				for _, ip = range []netip.Addr{n.span.First, n.span.Last} {
					if r.IntN(2) == 0 {
						break
					}
				}
			}
			want := around(list, ip)
			var got []naive
			a.Sources()[0].Around(ip, func(rec atlas.Record) {
				got = append(got, naive{rec.Span, rec.Country + "/" + rec.City + "/" + rec.Operator})
			})
			require.Equal(t, want, got, "%s", ip)
			one, _ := s.Find(ip, (*atlas.Place).Locates)
			other, _ := a.Sources()[0].Find(ip, (*atlas.Place).Locates)
			require.Equal(t, one, other)
		}
	}
}

func TestResultDoesNotDependOnTheNumberOfProcessors(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	table, _ := Invented(r, 30)
	var all strings.Builder
	for line := range strings.Lines(table) {
		if !strings.Contains(line, ":") { // IPv6 is that below, which wide ranges would cut to pieces
			all.WriteString(line)
		}
	}
	for n := 0; all.Len() < 5<<19; n++ { // more than a chunk
		fmt.Fprintf(&all, "2001:db8:%x:%x::/64,PT,Town %d,\n", n>>16, n&0xffff, n*7%5000)
		if n%1000 == 0 {
			all.WriteString("none,PT,,\n")
		}
	}
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(0))
	var names []string
	for _, n := range []int{1, 2, 5} {
		runtime.GOMAXPROCS(n)
		s, err := ReadTable(strings.NewReader(all.String()), ',', nil, atlas.About{Name: "x"})
		require.NoError(t, err)
		names = append(names, fmt.Sprint(atlas.New(s).Name(), s.Counts, s.Rejects()[:10]))
	}
	assert.Equal(t, names[0], names[1])
	assert.Equal(t, names[0], names[2])
}

func written(t testing.TB, a *atlas.Atlas) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, a.Write(&b))
	return b.Bytes()
}

func TestReadTableSaysWhatHappenedToCoordinates(t *testing.T) {
	s, err := readTable(t, nil, "range,country_code,latitude,longitude",
		"198.18.3.0/26,GR,23.73,37.98",   // swapped, within bounds
		"198.18.4.0/26,GR,37.98,23.73",   // right
		"198.18.5.0/26,GR,-37.98,-23.73", // wrong, and swapping does not help
	)
	require.NoError(t, err)
	require.Len(t, s.Remarks(), 1)
	assert.Equal(t, 2, s.Remarks()[0].Line)
	assert.Contains(t, s.Remarks()[0].Reason, "swapped")
	w := at(atlas.New(s), "198.18.3.1").Location
	assert.InDelta(t, 38, *w.Latitude, 2, "derived from the country instead")
}

func TestReadJSONLinesAndLists(t *testing.T) {
	s, err := Read(strings.NewReader(`{"net":"198.18.3.0/26","country_code":"PT","latitude":38.72,"longitude":-9.14,"labels":["office","vpn"],"other":{}}`+"\n{bad\n\n"+
		`{"net":"198.18.4.0/26","as_number":64500}`+"\n"), ParseOptions{Format: JSONLines, Columns: map[string]string{"range": "net"}}, atlas.About{Name: "objects"})
	require.NoError(t, err)
	assert.Equal(t, 2, s.Accepted)
	assert.Equal(t, 2, s.Rejects()[0].Line)
	list, err := Read(strings.NewReader("# exits\n198.18.3.0/24\n2001:db8::1, monitoring # ours\n198.18.3.9.9\n"), ParseOptions{Format: List, Label: "shared-exit"}, atlas.About{Name: "exits", Rank: 2})
	require.NoError(t, err)
	f := at(atlas.New(s, list), "198.18.3.5")
	assert.Equal(t, []string{"office", "vpn", "shared-exit"}, f.Labels)
	assert.Equal(t, uint32(64500), *at(atlas.New(s, list), "198.18.4.5").Network.ASNumber)
	assert.Equal(t, []string{"monitoring"}, at(atlas.New(s, list), "2001:db8::1").Labels)
}

func TestALongLineEndsTheParsing(t *testing.T) {
	for _, n := range []int{maxLine + 10, 3 * chunkSize} {
		_, err := ReadTable(strings.NewReader("range,country_code\n198.18.0.0/16,PT\n"+strings.Repeat("x", n)+"\n"), ',', nil, atlas.About{Name: "long"})
		require.ErrorContains(t, err, "longer than 65536 bytes")
	}
	_, err := ReadTable(strings.NewReader(strings.Repeat("x", 3*chunkSize)), ',', nil, atlas.About{Name: "long"})
	require.ErrorContains(t, err, "longer than 65536 bytes")
}

// Ranges that nest, overlap and adjoin, of both families and at the ends of the space: the
// one with the fewest addresses says where each address is, of as many the earlier line.
func TestTheMostSpecificRangeWins(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 2))
	tried, crossing := 0, 0
	for range 3_000 {
		base := []string{"198.18.0.0", "0.0.0.0", "255.255.255.224", "2001:db8::", "::", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffe0"}[r.IntN(6)]
		space := []netip.Addr{netip.MustParseAddr(base)}
		for len(space) < 32 {
			space = append(space, space[len(space)-1].Next())
		}
		var lines strings.Builder
		lines.WriteString("range,country_code,label,operator\n")
		var list []naive
		seen := map[addr.Range]bool{}
		for i := range 1 + r.IntN(12) {
			from, to := r.IntN(32), r.IntN(32)
			span := addr.Range{First: space[min(from, to)], Last: space[max(from, to)]}
			country := []string{"PT", "ES", "GR", "NO", ""}[r.IntN(5)]
			fmt.Fprintf(&lines, "%s-%s,%s,office,%d\n", span.First, span.Last, country, i)
			if !seen[span] {
				list = append(list, naive{span, fmt.Sprintf("%s/%d", country, i)})
			}
			seen[span] = true
		}
		s, err := ReadTable(strings.NewReader(lines.String()), ',', map[string]string{"range": "range", "country_code": "country_code", "labels": "label", "operator": "operator"}, atlas.About{Name: "crossing"})
		if errors.Is(err, compile.ErrTooManyRejects) {
			continue // of one range again and again
		}
		require.NoError(t, err, lines.String())
		require.Equal(t, len(list), s.Accepted, lines.String())
		if s.Ranges4+s.Ranges6 > s.Accepted { // a range stands for several nodes
			crossing++
		}
		for _, ip := range space {
			tried++
			var got []naive
			s.Around(ip, func(rec atlas.Record) { got = append(got, naive{rec.Span, rec.Country + "/" + rec.Operator}) })
			require.Equal(t, around(list, ip), got, "%s of\n%s", ip, lines.String())
		}
	}
	t.Logf("%d addresses tried, 0 differ; %d sources with ranges that are no prefixes", tried, crossing)
}

// More ranges that cross than can be held are refused, and soon.
func TestTooManyRangesThatCross(t *testing.T) {
	var lines strings.Builder
	lines.WriteString("first,last,country_code\n")
	first, last := netip.MustParseAddr("10.0.0.0"), netip.MustParseAddr("10.1.0.0")
	for range 6_000 {
		fmt.Fprintf(&lines, "%s,%s,PT\n", first, last)
		first, last = first.Next(), last.Next()
	}
	_, err := ReadTable(strings.NewReader(lines.String()), ',', nil, atlas.About{Name: "sliding"})
	require.ErrorContains(t, err, "cross so often")
}

// What a line of a geofeed means does not depend on other lines.
func TestLinesOfAGeofeedStandAlone(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 1))
	rests := []string{"", ",", ",,,,", ",ZZ", ",CH,CH-ZH,Zürich,8001", `,CH,CH-ZH,"Zürich",8001`, `,"PT"`, `,PT,,"Porto, north",`, `,"NO","NO-03","Oslo",`, ",ES,ES-VC", `,"",,,`, `,XX,,"",`, ",PT,,Porto", `,PT,"PT-13",Porto`}
	tried := 0
	for range 200 {
		var all []string
		for i := range 2 + r.IntN(12) {
			line := fmt.Sprintf("198.18.%d.0/24", i)
			if r.IntN(4) == 0 {
				line = `"` + line + `"`
			}
			all = append(all, line+rests[r.IntN(len(rests))])
		}
		whole, err := ReadGeofeed(strings.NewReader(strings.Join(all, "\n")), atlas.About{Name: "feed"})
		if errors.Is(err, compile.ErrTooManyRejects) {
			continue
		}
		require.NoError(t, err)
		for i, line := range all {
			tried++
			ip := netip.MustParseAddr(fmt.Sprintf("198.18.%d.7", i))
			var want, got []string
			if one, err := ReadGeofeed(strings.NewReader(line), atlas.About{Name: "feed"}); err == nil {
				one.Around(ip, func(rec atlas.Record) { want = append(want, fmt.Sprintf("%+v", rec)) })
			}
			whole.Around(ip, func(rec atlas.Record) { got = append(got, fmt.Sprintf("%+v", rec)) })
			require.Equal(t, want, got, "line %d of\n%s", i+1, strings.Join(all, "\n"))
		}
	}
	t.Logf("%d lines tried, 0 differ", tried)
}
