package editions

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/fetch"
	"eastporch/internal/files/edition"
	"eastporch/internal/testkit/synthetic"
)

// BenchmarkOpenData builds an edition of open data of the real size, on a shelf; again where one
// feed has changed; and unpacks the same files into lines with gzip and wc.
func BenchmarkOpenData(b *testing.B) {
	dir := b.TempDir()
	var feeds []string
	var changed atomic.Bool
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		i, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(r.URL.Path, "/"), ".csv"))
		if err != nil || i >= len(feeds) {
			http.NotFound(w, r)
			return
		}
		modified := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
		text := feeds[i]
		if changed.Load() && i == 7 {
			modified, text = modified.AddDate(0, 0, 1), strings.Replace(text, "Berlin", "Bremen", 1)
		}
		http.ServeContent(w, r, "feed.csv", modified, strings.NewReader(text))
	}))
	b.Cleanup(server.Close)
	data, err := synthetic.WriteOpen(dir, server.URL, 1, *openScale)
	require.NoError(b, err)
	feeds = data.Feeds
	sources := []SourceConfig{
		{About: atlas.About{Name: "routes", Rank: 3}, ParseOptions: source.ParseOptions{Format: source.MRT}, Locations: []string{data.Routes}},
		{About: atlas.About{Name: "objects", Rank: 4}, ParseOptions: source.ParseOptions{Format: source.RPSL}, Locations: []string{data.Objects}},
		{About: atlas.About{Name: "statistics", Rank: 5}, ParseOptions: source.ParseOptions{Format: source.Delegated}, Locations: []string{data.Statistics}},
		{About: atlas.About{Name: "feeds", Rank: 2}, ParseOptions: source.ParseOptions{Format: source.Geofeed}, Gather: &Gather{Dir: filepath.Join(dir, "feeds"), Plain: true, Pause: time.Nanosecond}},
	}
	for range b.N {
		shelf, err := OpenShelf(filepath.Join(dir, "shelf"), &Fetcher{Client: fetch.Client{Cache: filepath.Join(dir, "cache"), Inside: true}}, time.Now)
		require.NoError(b, err)
		begin := time.Now()
		made, err := shelf.Refresh(b.Context(), sources, false, true)
		first := time.Since(begin)
		require.NoError(b, err)
		require.True(b, made)
		peak := peakMB()
		changed.Store(true)
		forgetFeeds(b, filepath.Join(dir, "feeds"))
		begin = time.Now()
		made, err = shelf.Refresh(b.Context(), sources, false, true)
		next := time.Since(begin)
		require.NoError(b, err)
		require.True(b, made)
		begin = time.Now()
		for _, file := range []string{data.Objects, data.Routes, data.Statistics} {
			require.NoError(b, exec.CommandContext(b.Context(), "sh", "-c", "gzip -dc '"+file+"' | wc -l").Run())
		}
		lines := time.Since(begin)
		b.ReportMetric(first.Seconds(), "first-s")
		b.ReportMetric(next.Seconds(), "next-s")
		b.ReportMetric(lines.Seconds(), "lines-s")
		b.ReportMetric(float64(peak), "peak-MB")
		times := lookups(b, shelf.Current())
		b.ReportMetric(times.uniform, "lookup-ns")
		b.ReportMetric(times.held, "held-lookup-ns")
		b.ReportMetric(times.read, "read-ns")
	}
}

// openScale is how large the open data is, of the full size.
var openScale = flag.Float64("open-scale", 1, "how large the open data of BenchmarkOpenData is")

// forgetFeeds has one feed be due, as days later it would be.
func forgetFeeds(b *testing.B, dir string) {
	b.Helper()
	path := filepath.Join(dir, "feeds.json")
	text, err := os.ReadFile(path)
	require.NoError(b, err)
	var list []map[string]any
	require.NoError(b, json.Unmarshal(text, &list))
	for _, f := range list {
		if strings.HasSuffix(f["url"].(string), "/7.csv") {
			f["retry"] = nil
		}
	}
	text, err = json.Marshal(list)
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(path, text, 0o644))
}

// lookupTimes are in ns a lookup, or a read.
type lookupTimes struct{ uniform, held, read float64 }

// lookups takes lookups of uniform addresses in the largest source of an atlas that is mapped, as a
// service has it, of those only that are in its blocks, and reads of an array as large as its index
// that is mapped too, each dependent on the one before. They take turns, so that what else runs
// slows all of them, and the middle turn counts.
func lookups(b *testing.B, a *atlas.Atlas) lookupTimes {
	objects := slices.MaxFunc(a.Sources(), func(x, y *atlas.Source) int { return x.Ranges4 - y.Ranges4 })
	const turns, n = 101, 20_000
	r := rand.New(rand.NewPCG(22, 1))
	bytes := make([]byte, 10*objects.Ranges4&^3) // the index takes 10 bytes a range
	for i := 0; i < len(bytes); i += 4 {
		binary.NativeEndian.PutUint32(bytes[i:], r.Uint32())
	}
	file := filepath.Join(b.TempDir(), "array")
	require.NoError(b, os.WriteFile(file, bytes, 0o600))
	f, err := os.Open(file)
	require.NoError(b, err)
	defer f.Close()
	words, err := syscall.Mmap(int(f.Fd()), 0, len(bytes), syscall.PROT_READ, syscall.MAP_SHARED)
	require.NoError(b, err)
	defer func() { require.NoError(b, syscall.Munmap(words)) }()
	node := func(x uint32) uint32 {
		return objects.Node(netip.AddrFrom4([4]byte{byte(x >> 24), byte(x >> 16), byte(x >> 8), byte(x)}))
	}
	ways := []func(x uint32) uint32{
		node,
		func(x uint32) uint32 { return node(x>>24%223<<24 + 1<<24 | x&0xff_ffff) },
		func(x uint32) uint32 {
			return binary.NativeEndian.Uint32(words[uint64(x)*uint64(len(words)/4)>>32*4:])
		},
	}
	took := make([][]float64, len(ways))
	for range turns {
		for i, one := range ways {
			at := uint32(0)
			for range n { // so that the caches are its own
				at = one(at ^ r.Uint32())
			}
			begin := time.Now()
			for range n {
				at = one(at ^ r.Uint32())
			}
			took[i] = append(took[i], float64(time.Since(begin).Nanoseconds())/n)
			lastOf = at
		}
	}
	for _, t := range took {
		slices.Sort(t)
	}
	return lookupTimes{took[0][turns/2], took[1][turns/2], took[2][turns/2]}
}

var lastOf uint32 // so that nothing is left out

// BenchmarkManyPoints makes a synced edition of rows that all have points of their own.
func BenchmarkManyPoints(b *testing.B) {
	var text bytes.Buffer
	r := rand.New(rand.NewPCG(22, 2))
	text.WriteString("range,country_code,latitude,longitude\n")
	for i := range 3_000_000 {
		fmt.Fprintf(&text, "%d.%d.%d.0/24,DE,%.4f,%.4f\n", 1+i>>16, i>>8&255, i&255, 47.5+r.Float64()*7, 6+r.Float64()*8)
	}
	file := filepath.Join(b.TempDir(), "points.edition")
	for range b.N {
		begin := time.Now()
		s, err := source.ReadTable(bytes.NewReader(text.Bytes()), ',', nil, atlas.About{Name: "points", Rank: 1, Dated: "2026-11-01"})
		require.NoError(b, err)
		require.Equal(b, 3_000_000, s.Accepted)
		require.NoError(b, edition.Write(atlas.New(s), file))
		b.ReportMetric(time.Since(begin).Seconds(), "edition-s")
		b.ReportMetric(float64(peakMB()-int64(text.Cap()>>20)), "peak-MB")
	}
}
