package server

import (
	"bytes"
	"log"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLinesOfTheStandardLibraryNameNobody(t *testing.T) {
	var out bytes.Buffer
	l := log.New(&withoutAddresses{slog.New(slog.NewTextHandler(&out, &slog.HandlerOptions{Level: slog.LevelDebug}))}, "", 0)
	for _, visitor := range []string{"198.18.3.40:4711", "[2001:db8:5e1:40::1f]:4711", "[fe80::1f:2%eth0]:80", "198.18.3.40", "2002:c612:328:40::1"} {
		out.Reset()
		l.Printf("http: TLS handshake error from %s: EOF", visitor)
		for _, secret := range []string{"3.40", "5e1:40", "1f", "4711", "328"} {
			assert.NotContains(t, out.String(), secret, visitor)
		}
		assert.Contains(t, out.String(), "TLS handshake error from")
		assert.Contains(t, out.String(), ": EOF")
	}
	out.Reset()
	l.Print("http: Accept error: accept4: too many open files; retrying in 1s")
	assert.Contains(t, out.String(), "http: Accept error: accept4: too many open files; retrying in 1s")
}
