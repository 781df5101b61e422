package flags

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
)

// Every country has a flag in every shape, which is well-formed and fetches nothing.
func TestEveryFlag(t *testing.T) {
	for _, c := range almanac.All() {
		for _, shape := range Shapes {
			svg, ok := SVG(c.Code, shape, `A "name" & more`)
			require.True(t, ok, "%s %s", c.Code, shape)
			assert.Contains(t, svg, "<title>A &#34;name&#34; &amp; more</title>")
			assert.NotContains(t, strings.ReplaceAll(svg, "http://www.w3.org/", ""), "http", c.Code)
			assert.NotContains(t, svg, "<script", c.Code)
			reader := xml.NewDecoder(strings.NewReader(svg))
			for {
				_, err := reader.Token()
				if errors.Is(err, io.EOF) {
					break
				}
				require.NoError(t, err, "%s %s", c.Code, shape)
			}
		}
	}
	round, _ := SVG("PT", "round", "")
	assert.Contains(t, round, "<circle")
	assert.NotContains(t, round, "<title>")
	for _, bad := range [][2]string{{"XX", "wide"}, {"pt", "wide"}, {"PT", "oval"}} {
		_, ok := SVG(bad[0], bad[1], "")
		assert.False(t, ok)
	}
}
