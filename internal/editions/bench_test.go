package editions_test

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

	"eastporch/internal/core/atlas"
	"eastporch/internal/editions"
	"eastporch/internal/synthetic"
)

// fullTable is the table of 4.5 million rows that the promises are about.
var fullTable = sync.OnceValue(func() []byte {
	var b bytes.Buffer
	if err := synthetic.WriteCSV(&b, 1, synthetic.Rows4, synthetic.Rows6, synthetic.Places); err != nil {
		panic(err)
	}
	return b.Bytes()
})

// BenchmarkBuild makes a synced edition of the table; BenchmarkCSV merely reads
// it with encoding/csv.
func BenchmarkBuild(b *testing.B) {
	file := filepath.Join(b.TempDir(), "synthetic.edition")
	text := fullTable()
	b.Run("edition", func(b *testing.B) {
		for range b.N {
			s, err := atlas.ReadTable(bytes.NewReader(text), ',', nil, atlas.About{Name: "synthetic", Rank: 1, Dated: "2026-11-01"})
			require.NoError(b, err)
			require.NoError(b, editions.WriteFile(atlas.New(s), file))
		}
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
	info, err := os.Stat(file)
	require.NoError(b, err)
	b.Logf("%d bytes of text, %d of edition", len(text), info.Size())
	b.Run("open", func(b *testing.B) { // warm: opening, and the first answer
		for range b.N {
			a, err := editions.Open(file)
			require.NoError(b, err)
			if a.Lookup(netip.AddrFrom4([4]byte{9, 9, 9, 9})).Whereabouts.CountryCode == nil {
				b.Fatal("not found")
			}
		}
	})
}
