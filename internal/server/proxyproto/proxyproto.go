// Package proxyproto is a listener whose connections from listed peers begin
// with a PROXY protocol header, which replaces the peer.
//
// The header is read when a connection is first used, by whoever serves it and
// with a deadline, so that a slow peer holds up nobody. Listed peers must send
// it; others must not, and theirs is not read.
package proxyproto

import (
	"bufio"
	"errors"
	"io"
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
	// Mismatch hears of connections of listed peers that did not begin with the header
	// (missing), and of those of others that did. It is called from many goroutines.
	Mismatch func(peer netip.Addr, missing bool)
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
		return &plain{Conn: c, unexpected: func() { l.Mismatch(peer, false) }}, nil
	}
	return &conn{Conn: c, reader: bufio.NewReader(c), within: l.Within, missing: func() { l.Mismatch(peer, true) }}, nil
}

// plain is a connection without the header; it says so where the header comes all the
// same, which whoever reads it will not understand.
type plain struct {
	net.Conn
	begun      bool // reads are one after the other
	unexpected func()
}

func (c *plain) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if !c.begun && n > 0 {
		c.begun = true
		if caller.LooksLikeProxyHeader(p[:n]) {
			c.unexpected()
		}
	}
	return n, err
}

// conn reads the header once, before anything else is read or asked.
type conn struct {
	net.Conn
	reader  *bufio.Reader
	within  time.Duration
	missing func()

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
			if !errors.Is(c.err, io.EOF) { // it was opened and closed, as checks of a port do
				c.missing()
			}
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

// RemoteAddr is the other end as the proxy saw it. Where the proxy does not say, it
// is an address that [caller.PeerOf] reads as nobody: neither the proxy's own nor a
// Unix socket's, which may be trusted.
func (c *conn) RemoteAddr() net.Addr {
	c.readHeader()
	switch {
	case c.err != nil:
		return c.Conn.RemoteAddr()
	case c.header.Source.IsValid():
		return net.TCPAddrFromAddrPort(c.header.Source)
	}
	return nobody{}
}

// nobody is the address of an end that the proxy does not name.
type nobody struct{}

func (nobody) Network() string { return "proxy" }

func (nobody) String() string { return caller.UnknownRemote }
