package jsonout

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func FuzzString(f *testing.F) {
	f.Add("Zürich \u2028 <>&\"\\\x00\x7f\xff")
	f.Fuzz(func(t *testing.T, s string) {
		want, err := json.Marshal(s)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(String(nil, s)))
	})
}
