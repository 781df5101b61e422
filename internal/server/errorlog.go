package server

import (
	"log/slog"
	"net/netip"
	"regexp"
	"strings"

	"eastporch/internal/core/addr"
)

// withoutAddresses takes the lines of the standard library's servers, in which addresses
// of visitors stand, and logs them with those truncated.
type withoutAddresses struct{ log *slog.Logger }

// likeAddress finds what may be an address, with its port, in a line.
var likeAddress = regexp.MustCompile(`\[?[0-9A-Fa-f:.]*[0-9A-Fa-f][0-9A-Fa-f:.]*(%[0-9A-Za-z]+)?\]?(:[0-9]+)?`)

func (w *withoutAddresses) Write(line []byte) (int, error) {
	text := likeAddress.ReplaceAllStringFunc(strings.TrimSpace(string(line)), func(part string) string {
		tail := part[len(strings.TrimRight(part, ".:")):]
		a, err := addr.Parse(strings.TrimSuffix(part, tail))
		if err != nil {
			return part
		}
		return addr.TruncatePrefix(netip.PrefixFrom(a, a.BitLen())).String() + tail
	})
	w.log.Debug(text)
	return len(line), nil
}
