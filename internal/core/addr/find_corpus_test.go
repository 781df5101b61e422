package addr

import (
	_ "embed"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

//go:embed testdata/find.txt
var corpus string

// Lines of the shapes that software writes: what each holds was written down
// by hand. At least 300, about half of them with nothing to be found.
func TestFindInTheLinesOfSoftware(t *testing.T) {
	tried, alike, differed := 0, 0, 0
	for line := range strings.Lines(corpus) {
		want, text, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if strings.HasPrefix(line, "# ") || line == "\n" {
			continue
		}
		require.True(t, ok, "no tab in %q", line)
		var found []string
		require.NoError(t, Find(strings.NewReader(text), func(f Found) error {
			require.Equal(t, text[f.Offset:f.Offset+int64(len(f.Text))], f.Text)
			if f.Reason == "" {
				found = append(found, shown(f))
			}
			return nil
		}))
		tried++
		if want == "-" {
			want = ""
			alike++
		}
		if !assert.Equal(t, want, strings.Join(found, ","), text) {
			differed++
		}
	}
	t.Logf("%d lines, %d of them look-alikes: %d differed", tried, alike, differed)
	require.GreaterOrEqual(t, tried, 300)
	require.InDelta(t, tried/2, alike, float64(tried)/10)
}

func shown(f Found) string {
	text := strings.TrimSuffix(strings.TrimSuffix(f.Prefix.String(), "/32"), "/128")
	if f.Prefix.Addr().Is6() && f.Prefix.Bits() == 32 {
		text += "/32"
	}
	if f.Other.IsValid() {
		text += "|" + f.Other.Addr().String()
	}
	return text
}
