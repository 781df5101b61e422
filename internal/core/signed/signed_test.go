package signed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatWasChangedIsNotBelieved(t *testing.T) {
	type value struct{ Site, Path string }
	key := Key([]byte("a secret of 32 bytes or whatever"), "one purpose")
	text := Sign(value{"heronlake.example", "/early/é"}, key)
	assert.Regexp(t, `^[A-Za-z0-9_-]+\.[A-Za-z0-9_-]{43}$`, text)
	var got value
	require.NoError(t, Open(text, key, &got))
	assert.Equal(t, value{"heronlake.example", "/early/é"}, got)
	require.ErrorIs(t, Open(text, Key([]byte("a secret of 32 bytes or whatever"), "another"), &got), ErrForged)
	for i := range text {
		for _, c := range "Ab0._" {
			if other := text[:i] + string(c) + text[i+1:]; other != text {
				require.ErrorIs(t, Open(other, key, &got), ErrForged, "letter %d", i)
			}
		}
	}
	for _, bad := range []string{"", ".", "a.b", text + text, strings.Repeat("a", 10_000)} {
		require.ErrorIs(t, Open(bad, key, &got), ErrForged)
	}
	var list []int
	require.ErrorIs(t, Open(text, key, &list), ErrUnreadable, "it is something else")
}
