package visits

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/visit"
	visitfile "eastporch/internal/files/visits"
)

// forgetful is a table that counts its rows and forgets them, and looks at the memory in use
// now and then.
type forgetful struct {
	table
	stored int
	most   uint64 // bytes in use, of all that was looked at
}

func (f *forgetful) Insert(_ context.Context, batch []visit.QueuedVisit) (out visit.Outcome, err error) {
	if f.batches++; f.batches%8 == 0 {
		runtime.GC()
		var now runtime.MemStats
		runtime.ReadMemStats(&now)
		f.most = max(f.most, now.HeapAlloc)
	}
	f.stored += len(batch)
	out.Stored = len(batch)
	return out, nil
}

// A file of 64 MB is imported in less than 32 MB, in every format, whatever its rows hold.
func TestAnImportTakesLittleMemory(t *testing.T) {
	s, _, _ := service(t)
	const whole, rows = 64 << 20, 4000
	attributes := json.RawMessage(fmt.Sprintf(`{"note":%q}`, strings.Repeat("x", 1000)))
	agent := strings.Repeat("Mozilla/5.0 ", 40)
	for format := range visitfile.Types {
		t.Run(format, func(t *testing.T) {
			to := &forgetful{}
			s.Store = to
			in, out := io.Pipe()
			written := make(chan error, 1)
			size := &counted{to: out}
			go func() {
				w, err := visitfile.NewWriter(size, format, false)
				for i := 0; err == nil && (i < rows || size.n < whole); i++ {
					v := visit.Visit{Site: "heronlake.example", Path: "/good", Attributes: attributes, UserAgent: &agent, Earlier: []visit.EarlierFacts{}}
					v.ID, _ = visit.NewID(now.Add(-time.Duration(i)*time.Second), strings.NewReader(fmt.Sprintf("%016d", i)))
					v.Time, _ = visit.TimeOf(v.ID)
					v.Card = s.Cards.Card(netip.MustParseAddr("198.18.3.40"), caller.ObtainedGiven, card.RequestContext{}, v.Time)
					if format == "parquet" && i >= 20_000 { // which packs what repeats
						break
					}
					err = w.Write(v)
				}
				if err == nil {
					err = w.Close()
				}
				written <- err
				out.CloseWithError(err)
			}()
			done, err := s.Import(t.Context(), in, format)
			require.NoError(t, err)
			require.NoError(t, <-written)
			assert.Empty(t, done.Rejects)
			assert.Equal(t, done.Read, to.stored)
			assert.Positive(t, to.most)
			assert.Less(t, to.most, uint64(32<<20))
			t.Logf("%s: %d visits, %d MB, %d MB in use at the most", format, to.stored, size.n>>20, to.most>>20)
		})
	}
}

// counted counts what is written.
type counted struct {
	to io.Writer
	n  int
}

func (c *counted) Write(p []byte) (int, error) {
	c.n += len(p)
	return c.to.Write(p)
}
