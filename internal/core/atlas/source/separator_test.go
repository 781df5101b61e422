package source

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
)

// A table whose columns are parted by semicolons says the same as one with commas.
func TestSemicolonsPartColumns(t *testing.T) {
	random := rand.New(rand.NewPCG(33, 7))
	for range 200 {
		var with [2]strings.Builder
		row := func(cells ...string) {
			for i, separator := range []string{",", ";"} {
				quoted := make([]string, len(cells))
				for j, cell := range cells {
					if quoted[j] = cell; strings.ContainsAny(cell, ",;") {
						quoted[j] = `"` + cell + `"`
					}
				}
				with[i].WriteString(strings.Join(quoted, separator) + "\n")
			}
		}
		row("range", "country_code", "city", "operator")
		for i := range 1 + random.IntN(20) {
			row(fmt.Sprintf("198.18.%d.0/24", i), []string{"PT", "NO", "JP"}[random.IntN(3)], []string{"", "Lisbon", "Oslo"}[random.IntN(3)], []string{"a", "Lake, Ltd", "Pier; Sons"}[random.IntN(3)])
		}
		var read [2]*atlas.Source
		for i := range with {
			var err error
			read[i], err = ReadTable(strings.NewReader(with[i].String()), ',', nil, atlas.About{Name: "table", Rank: 1})
			require.NoError(t, err, with[i].String())
		}
		assert.Equal(t, read[0].Rows, read[1].Rows)
		assert.Equal(t, read[0].Rejected, read[1].Rejected)
		for i := range 20 {
			ip := fmt.Sprintf("198.18.%d.7", i)
			one, two := atlas.New(read[0]), atlas.New(read[1])
			require.Equal(t, one.Lookup(netip.MustParseAddr(ip)).Location, two.Lookup(netip.MustParseAddr(ip)).Location, ip)
			require.Equal(t, one.Lookup(netip.MustParseAddr(ip)).Network, two.Lookup(netip.MustParseAddr(ip)).Network, ip)
		}
	}
	d, err := Describe(strings.NewReader("network;cc;town\n198.18.0.0/24;PT;Lisbon\n198.18.1.0/24;NO;Oslo\n"))
	require.NoError(t, err)
	assert.Equal(t, CSV, d.Format)
	assert.Contains(t, d.Reason, "semicolons")
	assert.Equal(t, map[string]string{"range": "network", "country_code": "cc", "city": "town"}, d.Mapping)
}
