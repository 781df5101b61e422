package caller

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A chain is a client that writes what it likes, and proxies that each report their own
// peer, as the outside world has it: it reads no header, so it knows who the visitor is.
type chain struct {
	r       *rand.Rand
	header  string
	lines   []string // of the believed header, as they travel
	touched bool     // a proxy wrote into a line of the client's
	own     int      // lines at the end that the proxies began
}

func (c *chain) pick(from ...string) string { return from[c.r.IntN(len(from))] }

// hostile is what a client may write: well formed, broken, and made to swallow what a
// proxy appends.
func (c *chain) hostile() string {
	if c.header != Forwarded {
		parts := make([]string, 1+c.r.IntN(4))
		for i := range parts {
			parts[i] = c.pick("8.8.8.8", "203.0.113.9", "127.0.0.1", "unknown", "_x", "", `"`, `"8.8.8.8`, "[::1", "2001:db8::1f", "8.8.8.8:80", "\t", `\`)
		}
		return strings.Join(parts, c.pick(",", ", ", " ,"))
	}
	var b strings.Builder
	for range 1 + c.r.IntN(5) {
		b.WriteString(c.pick("for=8.8.8.8", `for="8.8.8.8"`, `for="x`, `for="x\`, `for="`, `"`, `\"`, ",", ", ", ";", "for=", `by="`, `by=_a;`, `for="[2001:db8::1f]"`, "for=203.0.113.9", "for=unknown", "=", " ", `host="a,b"`, "FOR=8.8.8.8;for=9.9.9.9", ";proto=http"))
	}
	return b.String()
}

// element is how a proxy writes its peer.
func (c *chain) element(peer netip.Addr) string {
	text := peer.String()
	if c.header != Forwarded {
		if peer.Is6() {
			return c.pick(text, "["+text+"]:4711", `"[`+text+`]:4711"`)
		}
		return c.pick(text, text+":4711", `"`+text+`"`)
	}
	node := c.pick(text, `"`+text+`"`, `"`+text+`:4711"`)
	if peer.Is6() {
		node = c.pick(`"[`+text+`]"`, `"[`+text+`]:4711"`, `"[`+text+`]:_p"`)
	}
	return fmt.Sprintf(c.pick("for=%s", "For=%s;proto=https", `by="203.0.113.7";for=%s`, `host="heronlake.example";for=%s;by=_x`), node)
}

// pass sends the request through one proxy.
func (c *chain) pass(peer netip.Addr) {
	one := c.element(peer)
	foreign := c.own == 0 && len(c.lines) > 0
	switch how := c.r.IntN(3); {
	case len(c.lines) == 0 || how == 0: // a line of its own
		c.lines = append(c.lines, one)
		c.own++
	case how == 1: // it extends the last line
		c.lines[len(c.lines)-1] += ", " + one
		c.touched = c.touched || foreign
	default: // it merges all lines into one
		c.touched = c.touched || c.own < len(c.lines)
		c.lines = []string{strings.Join(append(c.lines, one), ", ")}
		c.own = 0
	}
}

// Whoever the client says it is, and however proxies write: where its visitor is found, it
// is the one who really connected to the outermost proxy. It is always found where no
// quote that was left open can swallow what a proxy wrote.
func TestNoListNamesSomebodyElse(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 3))
	const tries = 60_000
	tried, notFound, forged := 0, 0, 0
	for range tries {
		c := &chain{r: r, header: []string{ForwardedFor, Forwarded}[r.IntN(2)]}
		for range r.IntN(4) {
			c.lines = append(c.lines, c.hostile())
		}
		written := append([]string(nil), c.lines...)
		client := netip.AddrFrom4([4]byte{198, 19, byte(r.IntN(256)), byte(r.IntN(256))})
		if r.IntN(3) == 0 {
			client = netip.MustParseAddr(fmt.Sprintf("2001:db8:%x::%x", r.IntN(0xff00), 1+r.IntN(0xfff)))
		}
		n := 1 + r.IntN(4)
		from := client
		for range n {
			c.pass(from)
			from = netip.AddrFrom4([4]byte{203, 0, 113, byte(r.IntN(16))})
		}
		s := Settings{Trusted: regatta.trusted, Header: c.header}
		if r.IntN(2) == 0 {
			s.Hops = n
		}
		f, err := New(s)
		require.NoError(t, err)
		got := f.Find(from, map[string][]string{c.header: c.lines})
		quick, _ := f.Address(from, map[string][]string{c.header: c.lines})
		require.Equal(t, got.Visitor.Addr, quick)
		tried++
		switch {
		case !got.Visitor.IsValid():
			notFound++
			if c.header == ForwardedFor || !c.touched {
				require.Fail(t, "not found, though nothing is swallowed", "%s %q became %q, hops %d: %s", c.header, written, c.lines, s.Hops, got.Reason)
			}
		case got.Visitor.Addr != client:
			forged++
			assert.Fail(t, "forged", "%s %q became %q, hops %d: %s instead of %s", c.header, written, c.lines, s.Hops, got.Visitor.Addr, client)
		}
		if forged > 3 {
			break
		}
	}
	t.Logf("%d lists tried, %d not found, %d forged", tried, notFound, forged)
}

// A header with one value is the outermost proxy's, whatever the client wrote before.
func TestASingleValueIsTheProxys(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 4))
	f, err := New(Settings{Trusted: regatta.trusted, Header: "X-Real-IP"})
	require.NoError(t, err)
	for range 20_000 {
		c := &chain{r: r}
		lines := []string{}
		for range r.IntN(3) {
			lines = append(lines, c.hostile())
		}
		client := netip.AddrFrom4([4]byte{198, 19, byte(r.IntN(256)), byte(r.IntN(256))})
		replaced := r.IntN(2) == 0
		if replaced {
			lines = nil
		}
		lines = append(lines, client.String())
		got := f.Find(netip.MustParseAddr("203.0.113.4"), map[string][]string{"X-Real-Ip": lines})
		if len(lines) == 1 {
			require.Equal(t, client, got.Visitor.Addr)
		} else {
			require.False(t, got.Visitor.IsValid(), "a proxy that adds its line behind the client's is not believed: %q", lines)
		}
	}
}
