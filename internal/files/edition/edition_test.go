package edition_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/files/edition"
	"eastporch/internal/files/whole"
)

func TestAnEditionFileThatIsCutIsNotOpened(t *testing.T) {
	dir := t.TempDir()
	read, err := source.ReadGeofeed(strings.NewReader("198.18.3.0/26,PT,PT-11,Lisbon,\n"), atlas.About{Name: "feed", Rank: 1})
	require.NoError(t, err)
	path := filepath.Join(dir, "x.edition")
	require.NoError(t, edition.Write(atlas.New(read), path))
	a, err := edition.Open(path)
	require.NoError(t, err)
	require.NoError(t, a.Verify())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, n := range []int{0, 1, 63, 64, 200, len(text) / 2, len(text) - 1} {
		require.NoError(t, os.WriteFile(path+".cut", text[:n], 0o600))
		_, err := edition.Open(path + ".cut")
		require.ErrorIs(t, err, atlas.ErrEdition, "%d bytes", n)
	}
	require.ErrorIs(t, edition.Write(a, filepath.Join(dir, "no", "x")), os.ErrNotExist)
	left, err := filepath.Glob(filepath.Join(dir, whole.Left))
	require.NoError(t, err)
	assert.Empty(t, left)
}
