package faults

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/db"
	"eastporch/internal/testkit/live"
)

// asked notes when a database was asked something, over every connection.
type asked struct {
	mu    sync.Mutex
	times []time.Time
}

// through serves connections to a database, and notes each query and execution that goes there.
func (a *asked) through(t *testing.T, database string) string {
	t.Helper()
	at, err := url.Parse(database)
	require.NoError(t, err)
	server := at.Host
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", server)
			if err != nil {
				_ = from.Close()
				return
			}
			go func() { _, _ = io.Copy(from, to); _ = from.Close() }()
			go func() { a.read(from, to); _ = to.Close() }()
		}
	}()
	at.Host = l.Addr().String()
	query := at.Query()
	query.Set("sslmode", "disable") // which would be asked for before the first message
	at.RawQuery = query.Encode()
	return at.String()
}

// read hands messages on, as PostgreSQL's protocol frames them: a length, and but for the first a kind before it.
func (a *asked) read(from io.Reader, to io.Writer) {
	in := bufio.NewReader(from)
	for first := true; ; first = false {
		head := make([]byte, 5)
		if first {
			head = head[:4]
		}
		if _, err := io.ReadFull(in, head); err != nil {
			return
		}
		if kind := head[0]; !first && (kind == 'Q' || kind == 'E') {
			a.mu.Lock()
			a.times = append(a.times, time.Now())
			a.mu.Unlock()
		}
		size := int64(binary.BigEndian.Uint32(head[len(head)-4:])) - 4
		if _, err := to.Write(head); err != nil {
			return
		}
		if _, err := io.CopyN(to, in, size); err != nil {
			return
		}
	}
}

// Where nobody asks the service it makes one transaction in ten seconds.
func TestAServiceThatNobodyAsksIsSilent(t *testing.T) {
	t.Parallel()
	a := &asked{}
	live.Start(t, map[string]any{"database.url": a.through(t, db.New(t))})
	require.Eventually(t, func() bool {
		a.mu.Lock()
		defer a.mu.Unlock()
		n := len(a.times)
		return n > 2 && a.times[n-1].Sub(a.times[n-2]) > 9*time.Second && a.times[n-2].Sub(a.times[n-3]) > 9*time.Second
	}, 10*time.Minute, 100*time.Millisecond, "it never was silent for ten seconds, twice in a row")
}
