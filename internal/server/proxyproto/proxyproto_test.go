package proxyproto

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/caller"
)

// listening is a listener on loopback, and what its peers did that they should not.
type listening struct {
	*Listener
	missing, unexpected atomic.Int64
}

func listen(t *testing.T, listed bool, within time.Duration) *listening {
	t.Helper()
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = inner.Close() })
	l := &listening{}
	l.Listener = &Listener{Listener: inner, Within: within, Listed: func(peer netip.Addr) bool {
		assert.Equal(t, "127.0.0.1", peer.String())
		return listed
	}, Mismatch: func(_ netip.Addr, missing bool) {
		if missing {
			l.missing.Add(1)
		} else {
			l.unexpected.Add(1)
		}
	}}
	return l
}

// pair is both ends of a connection.
func (l *listening) pair(t *testing.T) (client, server net.Conn) {
	t.Helper()
	client, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	server, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { _, _ = client.Close(), server.Close() })
	return client, server
}

// header is a PROXY protocol header of either version, written without our own code's help.
func header(r *rand.Rand, from netip.AddrPort) []byte {
	four := from.Addr().Is4()
	if r.IntN(2) == 0 {
		family, to := "TCP6", "2001:db8::1"
		if four {
			family, to = "TCP4", "192.0.2.1"
		}
		return fmt.Appendf(nil, "PROXY %s %s %s %d 443\r\n", family, from.Addr(), to, from.Port())
	}
	family, body := byte(0x21), append(from.Addr().AsSlice(), make([]byte, 16)...)
	if four {
		family, body = 0x11, append(from.Addr().AsSlice(), 192, 0, 2, 1)
	}
	body = binary.BigEndian.AppendUint16(body, from.Port())
	body = binary.BigEndian.AppendUint16(body, 443)
	for range r.IntN(3) { // what a receiver must skip
		body = append(body, 0x04, 0, 2, byte(r.Uint32()), byte(r.Uint32()))
	}
	head := append([]byte("\r\n\r\n\x00\r\nQUIT\n\x21"), family)
	return append(binary.BigEndian.AppendUint16(head, uint16(len(body))), body...)
}

// However the bytes of a header and of what follows are cut, the peer is the one that the header
// names, and not a byte of what follows is lost.
func TestTheHeaderReplacesThePeer(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 3))
	l := listen(t, true, time.Minute)
	for range 200 {
		from := netip.AddrPortFrom(netip.AddrFrom4([4]byte{198, 18, byte(r.Uint32()), byte(r.Uint32())}), uint16(1+r.IntN(65_535)))
		if r.IntN(2) == 0 {
			from = netip.AddrPortFrom(netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(r.Uint32())}), from.Port())
		}
		payload := make([]byte, r.IntN(9000))
		for i := range payload {
			payload[i] = byte(r.Uint32())
		}
		bytes := append(header(r, from), payload...)
		client, server := l.pair(t)
		cuts := []int{r.IntN(len(bytes)), r.IntN(len(bytes))}
		go func() {
			at := 0
			for _, cut := range append(cuts, len(bytes)) {
				if cut > at {
					_, _ = client.Write(bytes[at:cut])
					at = cut
				}
			}
			_ = client.Close()
		}()
		if r.IntN(2) == 0 { // whichever is asked first
			require.Equal(t, from.String(), server.RemoteAddr().String())
		}
		got, err := io.ReadAll(server)
		require.NoError(t, err)
		require.Equal(t, payload, got)
		require.Equal(t, from.String(), server.RemoteAddr().String())
	}
	assert.Zero(t, l.missing.Load())
}

func TestAProxyThatSpeaksForItselfNamesNobody(t *testing.T) {
	l := listen(t, true, time.Minute)
	for _, head := range []string{"PROXY UNKNOWN\r\n", "\r\n\r\n\x00\r\nQUIT\n\x20\x00\x00\x00"} {
		client, server := l.pair(t)
		_, err := client.Write([]byte(head + "rest"))
		require.NoError(t, err)
		require.NoError(t, client.Close())
		got, err := io.ReadAll(server)
		require.NoError(t, err)
		assert.Equal(t, "rest", string(got))
		assert.Equal(t, caller.UnknownRemote, server.RemoteAddr().String(), "neither the proxy nor a socket, which may be trusted")
	}
}

func TestAListedPeerWithoutTheHeaderIsCutOff(t *testing.T) {
	l := listen(t, true, time.Minute)
	client, server := l.pair(t)
	_, err := client.Write([]byte("GET / HTTP/1.1\r\nHost: heronlake.example\r\n\r\n"))
	require.NoError(t, err)
	_, err = server.Read(make([]byte, 10))
	require.Error(t, err)
	assert.Equal(t, int64(1), l.missing.Load())
	_, err = server.Read(make([]byte, 10))
	require.Error(t, err, "it stays so")
	assert.Equal(t, int64(1), l.missing.Load(), "and is said once")

	client, server = l.pair(t)
	require.NoError(t, client.Close())
	_, err = server.Read(make([]byte, 10))
	require.ErrorIs(t, err, io.EOF)
	assert.Equal(t, int64(1), l.missing.Load(), "a port that is only tried is no mistake")
}

func TestASlowHeaderHoldsUpNobody(t *testing.T) {
	l := listen(t, true, time.Millisecond)
	slow, first := l.pair(t)
	_, err := slow.Write([]byte("PROXY TCP4 198.18"))
	require.NoError(t, err)
	_, second := l.pair(t) // is accepted all the same
	for _, server := range []net.Conn{first, second} {
		_, err = server.Read(make([]byte, 10))
		require.True(t, errors.Is(err, os.ErrDeadlineExceeded), "%v", err)
	}
}

func TestAPeerThatIsNotListedIsNotBelieved(t *testing.T) {
	l := listen(t, false, time.Minute)
	client, server := l.pair(t)
	text := "PROXY TCP4 198.18.3.40 192.0.2.1 4000 443\r\nrest"
	_, err := client.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, client.Close())
	got, err := io.ReadAll(server)
	require.NoError(t, err)
	assert.Equal(t, text, string(got))
	assert.Equal(t, client.LocalAddr().String(), server.RemoteAddr().String())
	assert.Equal(t, int64(1), l.unexpected.Load())
}
