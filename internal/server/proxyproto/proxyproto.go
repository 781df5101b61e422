// Package proxyproto is a listener whose connections from listed peers begin
// with a PROXY protocol header, which replaces the peer.
//
// The header is read when a connection is first used, by whoever serves it and
// with a deadline, so that a slow peer holds up nobody. Listed peers must send
// it; others must not, and what they send is not looked for.
package proxyproto

import (
	"bufio"
	"net"
	"net/netip"
	"sync"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
)

// A Listener wraps another. Its fields must not change while it listens.
type Listener struct {
	net.Listener
	// Listed says whether a peer sends the header; it is asked with the zero
	// Addr for a Unix socket.
	Listed func(peer netip.Addr) bool
	// Within bounds how long the header may take.
	Within time.Duration
}

// Accept gives the next connection at once; its header is read later.
func (l *Listener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	var peer netip.Addr
	if at, ok := c.RemoteAddr().(*net.TCPAddr); ok {
		peer = addr.Canonical(at.AddrPort().Addr())
	}
	if !l.Listed(peer) {
		return c, nil
	}
	return &conn{Conn: c, reader: bufio.NewReader(c), within: l.Within}, nil
}

// conn reads the header once, before anything else is read or asked.
type conn struct {
	net.Conn
	reader *bufio.Reader
	within time.Duration

	once   sync.Once
	header caller.ProxyHeader
	err    error
}

func (c *conn) readHeader() {
	c.once.Do(func() {
		if c.err = c.Conn.SetReadDeadline(time.Now().Add(c.within)); c.err != nil {
			return
		}
		if c.header, c.err = caller.ReadProxyHeader(c.reader); c.err != nil {
			_ = c.Conn.Close() // whoever reads next learns of the error
			return
		}
		c.err = c.Conn.SetReadDeadline(time.Time{})
	})
}

// Read reads what follows the header; the error of the header comes here.
func (c *conn) Read(p []byte) (int, error) {
	if c.readHeader(); c.err != nil {
		return 0, c.err
	}
	return c.reader.Read(p)
}

// RemoteAddr is the other end as the proxy saw it, the proxy itself where it
// speaks for itself, and a Unix address where the proxy does not know.
func (c *conn) RemoteAddr() net.Addr {
	c.readHeader()
	switch {
	case c.err != nil || c.header.Local:
		return c.Conn.RemoteAddr()
	case c.header.Source.IsValid():
		return net.TCPAddrFromAddrPort(c.header.Source)
	}
	return &net.UnixAddr{Name: "unknown", Net: "unix"}
}
