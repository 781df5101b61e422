package caller

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
)

// ErrProxyHeader is wrapped by the errors of [ReadProxyHeader].
var ErrProxyHeader = errors.New("no usable PROXY protocol header")

// A ProxyHeader is what the PROXY protocol says of a connection.
type ProxyHeader struct {
	// Source is the other end as the proxy saw it; invalid where the proxy
	// speaks for itself (LOCAL), to check our health, does not know (UNKNOWN,
	// UNSPEC), or was reached through a Unix socket.
	Source netip.AddrPort
}

// Bounds of the protocol: a line of version 1, and what we take of version 2,
// whose optional fields after the addresses are skipped.
const (
	maxProxyV1 = 107
	maxProxyV2 = 4096
)

var proxyV2Signature = []byte("\r\n\r\n\x00\r\nQUIT\n")

// ReadProxyHeader reads a PROXY protocol header of version 1 or 2 and leaves r
// at the first byte after it. It reads at most 4 KB. The error wraps
// [ErrProxyHeader], and that of r.
func ReadProxyHeader(r *bufio.Reader) (ProxyHeader, error) {
	start, err := r.Peek(6) // "PROXY " or the beginning of the signature
	if err != nil {
		return ProxyHeader{}, fmt.Errorf("%w: %w", ErrProxyHeader, err)
	}
	switch {
	case string(start) == "PROXY ":
		return readProxyV1(r)
	case bytes.HasPrefix(proxyV2Signature, start):
		return readProxyV2(r)
	}
	return ProxyHeader{}, fmt.Errorf("%w: the connection begins with something else", ErrProxyHeader)
}

// LooksLikeProxyHeader says whether a connection that begins so begins with a PROXY
// protocol header.
func LooksLikeProxyHeader(start []byte) bool {
	return bytes.HasPrefix(start, []byte("PROXY ")) || bytes.HasPrefix(start, proxyV2Signature)
}

func readProxyV1(r *bufio.Reader) (ProxyHeader, error) {
	var line []byte
	for len(line) < maxProxyV1 {
		c, err := r.ReadByte()
		if err != nil {
			return ProxyHeader{}, fmt.Errorf("%w: %w", ErrProxyHeader, err)
		}
		line = append(line, c)
		if c == '\n' {
			break
		}
	}
	text, ok := strings.CutSuffix(string(line), "\r\n")
	if !ok {
		return ProxyHeader{}, fmt.Errorf("%w: the line of version 1 does not end within %d bytes", ErrProxyHeader, maxProxyV1)
	}
	fields := strings.Split(text, " ")
	if fields[1] == "UNKNOWN" {
		return ProxyHeader{}, nil
	}
	if len(fields) != 6 || fields[1] != "TCP4" && fields[1] != "TCP6" {
		return ProxyHeader{}, fmt.Errorf("%w: a line of version 1 has a family, two addresses and two ports", ErrProxyHeader)
	}
	source, err := netip.ParseAddr(fields[2])
	if err != nil || source.Is4() != (fields[1] == "TCP4") || source.Zone() != "" {
		return ProxyHeader{}, fmt.Errorf("%w: the source does not fit %s", ErrProxyHeader, fields[1])
	}
	destination, err := netip.ParseAddr(fields[3])
	if err != nil || destination.Is4() != source.Is4() || destination.Zone() != "" {
		return ProxyHeader{}, fmt.Errorf("%w: the destination does not fit %s", ErrProxyHeader, fields[1])
	}
	port, err := netip.ParseAddrPort("0.0.0.0:" + fields[4])
	if err != nil {
		return ProxyHeader{}, fmt.Errorf("%w: the source's port is none", ErrProxyHeader)
	}
	if _, err := netip.ParseAddrPort("0.0.0.0:" + fields[5]); err != nil {
		return ProxyHeader{}, fmt.Errorf("%w: the destination's port is none", ErrProxyHeader)
	}
	return ProxyHeader{Source: netip.AddrPortFrom(addr.Canonical(source), port.Port())}, nil
}

func readProxyV2(r *bufio.Reader) (ProxyHeader, error) {
	var head [16]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return ProxyHeader{}, fmt.Errorf("%w: %w", ErrProxyHeader, err)
	}
	length := int(binary.BigEndian.Uint16(head[14:]))
	switch {
	case !bytes.Equal(head[:12], proxyV2Signature):
		return ProxyHeader{}, fmt.Errorf("%w: the signature of version 2 is broken", ErrProxyHeader)
	case head[12]>>4 != 2:
		return ProxyHeader{}, fmt.Errorf("%w: version %d is not known", ErrProxyHeader, head[12]>>4)
	case length > maxProxyV2:
		return ProxyHeader{}, fmt.Errorf("%w: it has %d bytes, %d are read", ErrProxyHeader, length, maxProxyV2)
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(r, body); err != nil {
		return ProxyHeader{}, fmt.Errorf("%w: %w", ErrProxyHeader, err)
	}
	switch command := head[12] & 0xf; command {
	case 0:
		return ProxyHeader{}, nil
	case 1:
	default:
		return ProxyHeader{}, fmt.Errorf("%w: command %d is not known", ErrProxyHeader, command)
	}
	size := 0
	switch family := head[13] >> 4; family {
	case 0, 3: // unspecified, or a Unix socket
		return ProxyHeader{}, nil
	case 1:
		size = 4
	case 2:
		size = 16
	default:
		return ProxyHeader{}, fmt.Errorf("%w: family %d is not known", ErrProxyHeader, family)
	}
	if length < 2*size+4 {
		return ProxyHeader{}, fmt.Errorf("%w: the addresses are cut short", ErrProxyHeader)
	}
	source, _ := netip.AddrFromSlice(body[:size])
	port := binary.BigEndian.Uint16(body[2*size:])
	return ProxyHeader{Source: netip.AddrPortFrom(addr.Canonical(source), port)}, nil
}
