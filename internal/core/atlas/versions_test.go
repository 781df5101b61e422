package atlas_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
)

var writeEdition = flag.Bool("write-edition", false, "write testdata/edition-N of the version N of the format, which must be new")

// answers are what an edition says of some addresses, with all evidence.
func answers(t *testing.T, a *atlas.Atlas) string {
	t.Helper()
	r := rand.New(rand.NewPCG(11, 11))
	var lines []byte
	for range 20 {
		ip := nearby(r)
		found := a.Lookup(ip)
		line, err := json.Marshal([]any{ip, found.Location, found.Network, a.Why(ip)})
		require.NoError(t, err)
		lines = append(append(lines, line...), '\n')
	}
	return string(lines)
}

// An edition outlives the program that wrote it: what this version of the format was
// first written as is read, and says the same, for as long as the version stays.
func TestAnEditionThatWasWrittenLongAgo(t *testing.T) {
	path := filepath.Join("testdata", fmt.Sprintf("edition-%d", atlas.Version))
	if *writeEdition {
		require.NoFileExists(t, path+".edition.gz", "an edition that was written is not written anew: raise the version")
		a, err := atlas.OpenBytes(aligned(smallEdition(t)), nil)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path+".edition.gz", zipped(t, smallEdition(t)), 0o644))
		require.NoError(t, os.WriteFile(path+".ndjson", []byte(answers(t, a)), 0o644))
	}
	a, err := atlas.OpenBytes(aligned(unzipped(t, path+".edition.gz")), nil)
	require.NoError(t, err)
	require.NoError(t, a.Verify())
	want, err := os.ReadFile(path + ".ndjson")
	require.NoError(t, err)
	assert.Equal(t, string(want), answers(t, a))
}

func TestEditionsOfOtherVersionsSayWhatToDo(t *testing.T) {
	files, err := filepath.Glob(filepath.Join("testdata", "edition-*.edition.gz"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, path := range files {
		other := aligned(unzipped(t, path))
		if other[16] == atlas.Version {
			other[16]++
		}
		_, err := atlas.OpenBytes(other, nil)
		require.ErrorIs(t, err, atlas.ErrEdition)
		require.ErrorContains(t, err, fmt.Sprintf("version %d", other[16]))
		assert.ErrorContains(t, err, "eastporch atlas build")
	}
}

func zipped(t *testing.T, b []byte) []byte {
	t.Helper()
	var to bytes.Buffer
	w := gzip.NewWriter(&to)
	_, err := w.Write(b)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return to.Bytes()
}

func unzipped(t *testing.T, path string) []byte {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err, "each version of the format has an edition: run this test with -write-edition")
	defer f.Close()
	r, err := gzip.NewReader(f)
	require.NoError(t, err)
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	return b
}
