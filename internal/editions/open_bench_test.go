package editions

import (
	"bytes"
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
		inMemory, err := os.ReadFile(shelf.path(shelf.Current().Name()))
		require.NoError(b, err)
		loaded, err := atlas.OpenBytes(inMemory, nil)
		require.NoError(b, err)
		lookup, read := lookups(loaded) // as the promise has it, in memory: a mapped file has smaller pages
		mapped, _ := lookups(shelf.Current())
		b.ReportMetric(mapped, "mapped-lookup-ns")
		b.ReportMetric(lookup, "lookup-ns")
		b.ReportMetric(read, "read-ns")
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

// lookups takes lookups in the largest source, each of which depends on the one before, and random
// reads of as many words as its index has.
func lookups(a *atlas.Atlas) (lookup, read float64) {
	largest := slices.MaxFunc(a.Sources(), func(x, y *atlas.Source) int { return x.Ranges4 - y.Ranges4 })
	const n = 3_000_000
	r := rand.New(rand.NewPCG(22, 1))
	begin, at := time.Now(), uint32(0)
	for i := range uint32(n) {
		x := (at ^ i) * 2654435761
		at = largest.Node(netip.AddrFrom4([4]byte{1 + byte(x>>24)%223, byte(x >> 16), byte(x >> 8), byte(x)}))
	}
	lookup = float64(time.Since(begin).Nanoseconds()) / n
	words := make([]uint32, 4*largest.Ranges4)
	for i := range words {
		words[i] = r.Uint32()
	}
	begin, next := time.Now(), at
	for i := range uint32(n) {
		next = words[(next^i*2654435761)%uint32(len(words))]
	}
	read = float64(time.Since(begin).Nanoseconds()) / n
	if next == 1 {
		read++ // so that it is not left out
	}
	return lookup, read
}

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
