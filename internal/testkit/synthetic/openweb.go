package synthetic

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/gzip"

	"eastporch/internal/core/mrt"
)

// The size of the open data that the promises about building are measured on.
const (
	OpenObjects = 5_000_000
	OpenFeeds   = 2000
	OpenRoutes  = 1_200_000
	OpenPeers   = 40
	OpenLines   = 500_000
)

// OpenData are files of the shape of those that registries and route collectors publish, and what
// the feeds say that are named in them.
type OpenData struct {
	Objects, Routes, Statistics string   // paths, packed with gzip
	Feeds                       []string // texts; feed i is named by BASE/i.csv
}

// blocks are the /16 that data is made for.
const blocks = 57_000

// block gives the first two octets of block i, from 1.0 on, without loopback.
func block(i int) (a, b byte) {
	i += 256
	if i >= 127*256 {
		i += 256
	}
	return byte(i >> 8), byte(i)
}

var openCountries = []string{"DE", "FR", "GB", "ES", "PT", "IT", "NL", "SE", "NO", "FI", "PL", "CZ", "AT", "CH", "GR", "TR", "RU", "UA", "IN", "JP", "AU", "ZA", "EG", "KE"}

// WriteOpen makes open data in a directory, scale times as large as the constants say. base is the
// address under which feeds will be served. The same seed gives the same data.
func WriteOpen(dir, base string, seed uint64, scale float64) (OpenData, error) {
	data := OpenData{Objects: filepath.Join(dir, "objects.gz"), Routes: filepath.Join(dir, "rib.gz"), Statistics: filepath.Join(dir, "statistics.gz")}
	r := rand.New(rand.NewPCG(seed, 9632))
	n := int(blocks * scale)
	feeds := int(OpenFeeds * scale)
	err := writeGzip(data.Objects, func(w *bufio.Writer) {
		each, every := OpenObjects/blocks, n/max(feeds, 1)
		for i := range n {
			feed := ""
			if every > 0 && i%every == 0 && len(data.Feeds) < feeds {
				feed = fmt.Sprintf("%s/%d.csv", base, len(data.Feeds))
				data.Feeds = append(data.Feeds, feedOf(r, i))
			}
			objectsOf(w, r, i, each, feed)
		}
	})
	if err != nil {
		return data, err
	}
	if err := writeGzip(data.Statistics, func(w *bufio.Writer) {
		for i := range n {
			a, b := block(i)
			for j := range OpenLines / blocks {
				fmt.Fprintf(w, "synthetic|%s|ipv4|%d.%d.%d.0|%d|20000101|allocated|A%d\n", openCountries[r.IntN(len(openCountries))], a, b, j*28, 28*256, i)
			}
		}
	}); err != nil {
		return data, err
	}
	return data, writeGzip(data.Routes, func(w *bufio.Writer) {
		out := &mrt.Writer{}
		out.Peers(OpenPeers)
		for i := range n {
			routesOf(out, r, i)
			_, _ = w.Write(out.Buffer) // the error comes with the flush
			out.Buffer = out.Buffer[:0]
		}
	})
}

func writeGzip(path string, write func(*bufio.Writer)) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	z, err := gzip.NewWriterLevel(f, 4)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(z, 1<<20)
	write(w)
	for _, end := range []func() error{w.Flush, z.Close, f.Close} {
		if err := end(); err != nil {
			return err
		}
	}
	return nil
}

// objectsOf writes the objects of a block: one of all of it, and others of parts.
func objectsOf(w io.Writer, r *rand.Rand, i, each int, feed string) {
	a, b := block(i)
	country := openCountries[r.IntN(len(openCountries))]
	object := func(first, last int, named string) {
		if r.IntN(12) == 0 {
			country = openCountries[r.IntN(len(openCountries))]
		}
		fmt.Fprintf(w, "inetnum:        %d.%d.%d.%d - %d.%d.%d.%d\nnetname:        NET-%08X\ndescr:          Customer %d of the invented operator %d\ndescr:          Street of the Lake %d\ncountry:        %s\nadmin-c:        ADM%d-LAKE\ntech-c:         TEC%d-LAKE\nstatus:         ASSIGNED PA\nmnt-by:         MNT-%d\nmnt-routes:     MNT-%d-ROUTES\n%screated:        20%02d-0%d-1%dT0%d:00:00Z\nlast-modified:  20%02d-0%d-2%dT0%d:00:00Z\nsource:         LAKE # filtered\n\n",
			a, b, first>>8, first&255, a, b, last>>8, last&255, r.Uint32(), r.IntN(1e6), i, r.IntN(900), country, r.IntN(90000), r.IntN(90000), i, i,
			named, 10+r.IntN(10), 1+r.IntN(9), r.IntN(10), r.IntN(10), 20+r.IntN(6), 1+r.IntN(9), r.IntN(9), r.IntN(10))
	}
	named := ""
	if feed != "" {
		named = "geofeed:        " + feed + "\n"
	}
	object(0, 65535, named)
	for j, at := 1, 0; j < each && at < 65536; j++ {
		size := []int{64, 128, 256, 256, 512, 1024, 2048}[r.IntN(7)]
		at = (at + size - 1) / size * size
		last := at + size - 1
		if r.IntN(12) == 0 {
			last -= 1 + r.IntN(size/2) // no prefix
		}
		if last > 65535 {
			break
		}
		object(at, last, "")
		at += size
	}
}

// feedOf is a feed of some 500 lines about a block.
func feedOf(r *rand.Rand, i int) string {
	a, b := block(i)
	text := []byte("# an invented feed\n")
	towns := []string{"DE,DE-BE,Berlin", "DE,DE-HH,Hamburg", "FR,FR-IDF,Paris", "PT,PT-11,Lisbon", "ES,ES-MD,Madrid", "GB,GB-ENG,London", "IT,IT-62,Rome", "NO,NO-03,Oslo"}
	for j := range 500 {
		text = fmt.Appendf(text, "%d.%d.%d.%d/25,%s,\n", a, b, j/2, j%2*128, towns[r.IntN(len(towns))])
	}
	return string(text)
}

// routesOf appends the routes of a block, as all peers see them.
func routesOf(w *mrt.Writer, r *rand.Rand, i int) {
	a, b := block(i)
	origin := uint32(1000 + i)
	paths := make([]mrt.Path, OpenPeers)
	for j := range OpenRoutes / blocks {
		bits, third := 16, 0
		if j > 0 {
			bits, third = 24, j*12
		}
		as := origin
		if r.IntN(20) == 0 {
			as = uint32(1000 + r.IntN(blocks))
		}
		for peer := range paths {
			paths[peer] = mrt.Path{Peer: uint16(peer), AS: []uint32{uint32(100 + peer), uint32(200 + r.IntN(30)), as}}
			if r.IntN(400) == 0 {
				paths[peer].AS[2] = origin
			}
		}
		w.Route(netip.PrefixFrom(netip.AddrFrom4([4]byte{a, b, byte(third), 0}), bits), false, paths...)
	}
}
