package editions

import (
	"bytes"
	"encoding/csv"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/files/edition"
	"eastporch/internal/testkit/synthetic"
)

// fullTable is the table of 4.5 million rows that the promises are about.
var fullTable = sync.OnceValue(func() []byte {
	var b bytes.Buffer
	if err := synthetic.WriteCSV(&b, 1, synthetic.Rows4, synthetic.Rows6, synthetic.Places); err != nil {
		panic(err)
	}
	return b.Bytes()
})

func buildFull(b *testing.B, file string) {
	b.Helper()
	s, err := source.ReadTable(bytes.NewReader(fullTable()), ',', nil, atlas.About{Name: "synthetic", Rank: 1, Dated: "2026-11-01"})
	require.NoError(b, err)
	require.NoError(b, edition.Write(atlas.New(s), file))
}

// BenchmarkBuild makes a synced edition of the table, and merely reads the table
// with encoding/csv.
func BenchmarkBuild(b *testing.B) {
	file := filepath.Join(b.TempDir(), "synthetic.edition")
	text := fullTable()
	b.Run("edition", func(b *testing.B) {
		for range b.N {
			buildFull(b, file)
		}
		b.ReportMetric(float64(peakMB()), "peak-MB")
	})
	b.Run("csv", func(b *testing.B) {
		for range b.N {
			rows := csv.NewReader(bytes.NewReader(text))
			rows.ReuseRecord = true
			for {
				if _, err := rows.Read(); err == io.EOF {
					break
				}
			}
		}
	})
}

// BenchmarkOpen opens an edition of 4.5 million ranges and gets its first
// answer: with its pages in memory, and after they were dropped.
func BenchmarkOpen(b *testing.B) {
	file := filepath.Join(b.TempDir(), "synthetic.edition")
	buildFull(b, file)
	answer := func(b *testing.B) {
		a, err := edition.Open(file)
		require.NoError(b, err)
		if a.Lookup(netip.AddrFrom4([4]byte{9, 9, 9, 9})).Location.CountryCode == nil {
			b.Fatal("not found")
		}
	}
	b.Run("warm", func(b *testing.B) {
		for range b.N {
			answer(b)
		}
	})
	b.Run("cold", func(b *testing.B) {
		for range b.N {
			b.StopTimer()
			f, err := os.Open(file)
			require.NoError(b, err)
			require.NoError(b, unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED))
			require.NoError(b, f.Close())
			b.StartTimer()
			answer(b)
		}
	})
}
