package synthetic

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/rangetable"
)

func TestRangesAreInOrderAndOfTheirSize(t *testing.T) {
	v4, v6 := Ranges(1, 50_000, 20_000, 1000)
	assert.Len(t, v4, 50_000)
	assert.Len(t, v6, 20_000)
	for _, rows := range [][]rangetable.Row{v4, v6} {
		require.True(t, slices.IsSortedFunc(rows, rangetable.Row.Compare))
		for i := 1; i < len(rows); i++ {
			require.False(t, rows[i].Twin(rows[i-1]), "no prefix stands twice")
			require.Equal(t, rows[i].Prefix(len(rows) == 50_000), rows[i].Prefix(len(rows) == 50_000).Masked())
		}
	}
	again, _ := Ranges(1, 50_000, 20_000, 1000)
	assert.Equal(t, v4, again, "the seed decides")
}
