package source

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A geofeed is known as one however its lines are written, and lists and tables are not
// taken for one.
func TestDescribeKnowsTheForm(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 8))
	tried, differed := 600, 0
	for n := range tried {
		var b strings.Builder
		if r.IntN(4) == 0 {
			b.WriteString("\ufeff")
		}
		if r.IntN(2) == 0 {
			b.WriteString("# prefix,country_code,region_code,city,postal_code\n")
		}
		want := []Format{Geofeed, List, CSV, TSV}[n%4]
		separator := ","
		switch want {
		case TSV:
			separator = "\t"
			b.WriteString("network\tcountry\ttown\n")
		case CSV:
			b.WriteString("network,country,town\n")
		}
		end := []string{"\n", "\r\n"}[r.IntN(2)]
		said := false
		for i := range 3 + r.IntN(30) {
			prefix := fmt.Sprintf("198.18.%d.%d/%d", r.IntN(256), r.IntN(2)*r.IntN(256), 24+r.IntN(9)) // host bits, too
			if r.IntN(3) == 0 {
				prefix = fmt.Sprintf("2001:db8:%x::/48", r.IntN(1<<16))
			}
			if r.IntN(8) == 0 {
				prefix = `"` + prefix + `"`
			}
			line := prefix
			facts := []string{"PT,PT-11,Lisbon,", "pt", `PT,,"Lisbon",1000-001`, "ZZ,,,", ",,,", "NO,NO-03,Oslo", "ES,ES-MD,Madrid,28001"}[r.IntN(7)]
			switch want {
			case Geofeed:
				if bare := i > 0 && r.IntN(3) == 0; !bare || !said && i == 2 {
					line += "," + facts
					said = true
				}
			case List:
				if r.IntN(2) == 0 {
					line += ",a label of words"
				}
			default:
				line += separator + "PT" + separator + "Lisbon"
			}
			b.WriteString(line + end)
		}
		d, err := Describe(strings.NewReader(b.String()))
		require.NoError(t, err)
		if !assert.Equal(t, want, d.Format, b.String()) {
			differed++
		}
	}
	t.Logf("%d files: %d differed", tried, differed)
	d, err := Describe(strings.NewReader("198.18.0.0/24\n198.18.1.0/24,PT,PT-11,Lisbon,\n"))
	require.NoError(t, err)
	assert.Equal(t, Geofeed, d.Format, "its first line asks not to be located")
}
