package secret

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsThatAreNone(t *testing.T) {
	for name, ok := range map[string]bool{
		"file:weather.key": true, "env:EASTPORCH_SECRET_SKY": true, "file:../key": false, "file:/etc/passwd": false, "file:.hidden": false, "file:": false,
		"env:PATH": false, "env:EASTPORCH_SECRET_": false, "weather.key": false, "file:a/b": false,
	} {
		_, _, is := Name(name)
		assert.Equal(t, ok, is, name)
	}
	for _, text := range []string{"", "  \n", "short", "two\nlines here", "naïve-secret", strings.Repeat("a", 5000)} {
		_, err := Check(text)
		require.Error(t, err)
		if len(strings.TrimSpace(text)) > 0 {
			assert.NotContains(t, err.Error(), strings.TrimSpace(text))
		}
	}
	clean, err := Check(" abcdefgh12\n")
	require.NoError(t, err)
	assert.Equal(t, "abcdefgh12", clean)
}
