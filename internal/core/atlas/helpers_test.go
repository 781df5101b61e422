package atlas_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
)

func geofeed(t *testing.T, rank int, lines ...string) *atlas.Source {
	t.Helper()
	s, err := source.ReadGeofeed(strings.NewReader(strings.Join(lines, "\n")), atlas.About{Name: "feed", Rank: rank, Dated: "2026-10-28"})
	require.NoError(t, err)
	return s
}

func table(t testing.TB, name string, rank int, text string) *atlas.Source {
	t.Helper()
	s, err := source.ReadTable(strings.NewReader(text), ',', nil, atlas.About{Name: name, Rank: rank})
	require.NoError(t, err)
	return s
}

func written(t testing.TB, a *atlas.Atlas) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, a.Write(&b))
	return b.Bytes()
}
