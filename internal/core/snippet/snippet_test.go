package snippet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAll(t *testing.T) {
	list, err := All(Want{Base: "https://in.heronlake.example/", Key: "porch_page_7Qd", Fields: []string{"clock.time_zone", "location.city"}})
	require.NoError(t, err)
	require.Len(t, list, len(kinds)-2, "all but Apache's")
	for _, s := range list {
		assert.NotEmpty(t, s.Title)
		assert.NotEmpty(t, s.File)
		assert.NotEmpty(t, s.Note)
		left := s.Text
		if s.Name == "vue" { // whose own templates have such braces
			left = strings.ReplaceAll(left, "{{ usePorch()", "")
		}
		assert.NotContains(t, left, "{{", "%s: every place is filled", s.Name)
		if s.Name != "react" && s.Name != "vue" {
			if !strings.HasSuffix(s.Name, "-lua") && !strings.HasPrefix(s.Name, "greeting") { // which have both from elsewhere, or need none
				assert.Contains(t, s.Text, "porch_page_7Qd", s.Name)
				assert.Contains(t, s.Text, "in.heronlake.example", s.Name)
			}
			assert.NotContains(t, s.Text, "example//", s.Name)
		}
	}
	assert.Contains(t, list[0].Text, `data-porch="location.city"`, "the most telling fact is shown")
	names := func(base string) (names []string) {
		list, err := All(Want{Base: base, Key: "K"})
		require.NoError(t, err)
		for _, s := range list {
			names = append(names, s.Name)
		}
		return names
	}
	assert.Subset(t, names("http://127.0.0.1:8080"), []string{"nginx", "haproxy", "haproxy-lua", "apache", "apache-lua"})
	assert.NotContains(t, names("https://in.heronlake.example"), "apache", "its script knows no TLS")
	assert.NotContains(t, names("https://heronlake.example/porch"), "haproxy", "its script knows no path")
	whole, err := All(Want{Base: "http://[::1]:8080", Key: "K"})
	require.NoError(t, err)
	assert.Contains(t, whole[0].Text, `data-porch="location.names.city"`, "without a choice too")
}

// What is put into code cannot end a text there and begin something else.
func TestWhatCannotStandInCodeIsRefused(t *testing.T) {
	for _, base := range []string{"", "in.heronlake.example", "javascript:alert(1)", "https://a.example/'", "https://a.example/\"", "https://a.example/`", "https://a.example/<b>", "https://a.example/ x", "https://a.example/$(id)", "https://a.example/\n", "ftp://a.example"} {
		_, err := All(Want{Base: base, Key: "K"})
		assert.ErrorContains(t, err, "is not an address", base)
	}
	for _, key := range []string{"a'b", "a b", "a\nb", "$(id)", "é"} {
		_, err := All(Want{Base: "https://a.example", Key: key})
		assert.ErrorContains(t, err, "is not a key", key)
	}
	for _, field := range []string{"a'b", "a&b=c", "a b", "<b>", "A"} {
		_, err := All(Want{Base: "https://a.example", Key: "K", Fields: []string{field}})
		assert.ErrorContains(t, err, "is not a path", field)
	}
}
