package caller

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParsePasted(t *testing.T) {
	tests := []struct {
		name, text string
		want       map[string][]string
	}{
		{"a block", "GET / HTTP/1.1\nHost: heronlake.example\r\nx-forwarded-for: 198.18.7.114\nX-Forwarded-For: 203.0.113.10\n\n", map[string][]string{"Host": {"heronlake.example"}, "X-Forwarded-For": {"198.18.7.114", "203.0.113.10"}}},
		{"curl -v", "*   Trying 127.0.0.1:8080...\n> GET / HTTP/1.1\n> Forwarded: for=198.18.7.114\n>\n< HTTP/1.1 200 OK\n< Server: x\n", map[string][]string{"Forwarded": {"for=198.18.7.114"}}},
		{"folded lines", "X-Forwarded-For: 198.18.7.114,\n  203.0.113.10\n", map[string][]string{"X-Forwarded-For": {"198.18.7.114, 203.0.113.10"}}},
		{"HAR", `{"log":{"entries":[{"request":{"headers":[{"name":":authority","value":"x"},{"name":"x-forwarded-for","value":"198.18.7.114"}]}}]}}`, map[string][]string{"X-Forwarded-For": {"198.18.7.114"}}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := ParsePasted(tt.text)
			require.NoError(t, err)
			assert.Equal(t, tt.want, got)
		})
	}
	for _, bad := range []string{"", "nothing here", "{", `{"log":{}}`, "\x00\x01"} {
		_, err := ParsePasted(bad)
		assert.ErrorIs(t, err, ErrNoHeaders, bad)
	}
}
