package proxies

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

// recipe reads a recipe of the documentation, and puts the addresses of a test
// in place of those that it shows.
func recipe(t *testing.T, name, port string, replace ...string) string {
	t.Helper()
	text, err := os.ReadFile("../../core/snippet/recipes/" + name)
	require.NoError(t, err)
	return strings.NewReplacer(append(replace, live.OnPort(port)...)...).Replace(string(text))
}

// Real proxies from Debian's packages, set up as the documentation says, in
// front of the real service: plain, forged and IPv6 requests.
func TestRecipes(t *testing.T) {
	t.Parallel()
	upstream := func(s *live.Service) string { return strings.TrimPrefix(s.PublicURL, "http://") }
	trusting := map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}}
	tests := []struct {
		name  string
		flags map[string]any
		front func(t *testing.T, s *live.Service, port string)
	}{
		{"nginx", trusting, func(t *testing.T, s *live.Service, port string) {
			live.StartNginx(t, port, recipe(t, "nginx.conf", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"HAProxy", trusting, func(t *testing.T, s *live.Service, port string) {
			live.StartHAProxy(t, port, recipe(t, "haproxy.cfg", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"HAProxy with the PROXY protocol", map[string]any{"proxies.trusted": []any{"203.0.113.0/28"}, "public.proxy_protocol": []any{"127.0.0.1/32"}}, func(t *testing.T, s *live.Service, port string) {
			live.StartHAProxy(t, port, recipe(t, "haproxy-proxy.cfg", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"Apache httpd", trusting, func(t *testing.T, s *live.Service, port string) {
			live.StartApache(t, port, recipe(t, "apache.conf", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"nginx before HAProxy", trusting, func(t *testing.T, s *live.Service, port string) {
			inner := live.FreePort(t)
			live.StartHAProxy(t, inner, recipe(t, "haproxy.cfg", inner, "127.0.0.1:8080", upstream(s)))
			live.StartNginx(t, port, recipe(t, "nginx.conf", port, "127.0.0.1:8080", "127.0.0.1:"+inner))
		}},
		{"the same by hop count", map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}, "proxies.hops": 2}, func(t *testing.T, s *live.Service, port string) {
			inner := live.FreePort(t)
			live.StartHAProxy(t, inner, recipe(t, "haproxy.cfg", inner, "127.0.0.1:8080", upstream(s)))
			live.StartNginx(t, port, recipe(t, "nginx.conf", port, "127.0.0.1:8080", "127.0.0.1:"+inner))
		}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			s, port := live.Start(t, tt.flags), live.FreePort(t)
			tt.front(t, s, port)
			checkFront(t, s, port)
		})
	}
	t.Run("nginx through a Unix socket", func(t *testing.T) {
		socket := filepath.Join(live.ShortDir(t), "eastporch", "public.sock") // in a directory that is not there yet
		flags := map[string]any{"public.address": "unix:" + socket, "proxies.trusted": []any{"unix"}}
		if os.Geteuid() == 0 {
			flags["public.socket_group"] = "www-data"
		}
		s, port := live.Start(t, flags), live.FreePort(t)
		info, err := os.Stat(socket)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o660), info.Mode().Perm())
		live.StartNginx(t, port, recipe(t, "nginx-unix.conf", port, "/run/eastporch/public.sock", socket))
		checkFront(t, s, port)
		if os.Geteuid() == 0 {
			require.NoError(t, os.Chown(socket, 0, 0))
			got := s.Call(t, "127.0.0.1", http.MethodGet, "http://127.0.0.1:"+port+"/v1/visitor/address", "", "Host: localhost")
			assert.Equal(t, http.StatusBadGateway, got.Status, "without the group the proxy's user is kept out")
		}
	})
}

// checkFront asks for the visitor through the front at a port.
func checkFront(t *testing.T, s *live.Service, port string) {
	t.Helper()
	for name, c := range map[string]struct{ from, to, want string }{
		"IPv4": {"127.0.0.9", "127.0.0.1", "127.0.0.9"}, "IPv6": {"::1", "[::1]", "::1"},
	} {
		for forged, header := range map[string]string{
			"plain": "X-None: 1", "a forged list": "X-Forwarded-For: 198.18.3.40", "a forged proxy": "X-Forwarded-For: 198.18.3.40, 127.0.0.1", "an unreadable list": "X-Forwarded-For: unknown, \x01",
			"another header": "Forwarded: for=198.18.3.40",
		} {
			if forged == "an unreadable list" {
				header = "X-Forwarded-For: unknown, ,"
			}
			got := s.Call(t, c.from, http.MethodGet, "http://"+c.to+":"+port+"/v1/visitor/address", "", header, "Host: localhost")
			assert.Equal(t, c.want+"\n", got.Body, "%s, %s", name, forged)
		}
	}
}

// A peer that is listed must send the PROXY protocol, and others must not.
func TestPROXYProtocolPeers(t *testing.T) {
	t.Parallel()
	s := live.Start(t, map[string]any{"public.proxy_protocol": []any{"127.0.0.1/32"}, "public.header_timeout": "2s", "proxies.trusted": []any{"unix"}})
	ask := func(from, before string) string {
		conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", strings.TrimPrefix(s.PublicURL, "http://"))
		require.NoError(t, err)
		defer conn.Close()
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		fmt.Fprintf(conn, "%sGET /v1/visitor/address HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nConnection: close\r\n\r\n", before, s.Admin)
		text := make([]byte, 4096)
		all := ""
		for {
			n, err := conn.Read(text)
			all += string(text[:n])
			if err != nil {
				return all
			}
		}
	}
	// Whoever is not named is nobody, and not the Unix socket that is trusted.
	nobody := map[string]string{
		"v1 UNKNOWN": "PROXY UNKNOWN\r\n", "v2 LOCAL": v2Header(0x20, 0x00), "v2 LOCAL with an address": v2Header(0x20, 0x11),
		"v2 UNSPEC": v2Header(0x21, 0x00), "v2 UNIX": v2Header(0x21, 0x31),
	}
	for name, before := range nobody {
		forged := before + "GET /v1/visitor/address HTTP/1.1\r\nX-Forwarded-For: 198.18.3.40\r\n"
		got := askRaw(t, s, forged)
		assert.Contains(t, got, "404 Not Found", name)
		assert.Contains(t, got, "does not say who connected", name)
		for _, path := range []string{"/livez", "/readyz"} {
			assert.Contains(t, askRaw(t, s, before+"GET "+path+" HTTP/1.1\r\n"), "200 OK", name)
			assert.Contains(t, askRaw(t, s, before+"HEAD "+path+" HTTP/1.1\r\n"), "200 OK", name)
		}
	}
	const line = "PROXY TCP4 198.18.3.40 203.0.113.4 4567 80\r\n"
	assert.Contains(t, ask("127.0.0.1", line), "\n198.18.3.40\n")
	assert.NotContains(t, ask("127.0.0.1", ""), "200 OK", "a listed peer must send it")
	assert.Contains(t, ask("127.0.0.9", ""), "\n127.0.0.9\n")
	assert.Contains(t, ask("127.0.0.9", line), "400 Bad Request", "others must not")
	assert.NotContains(t, ask("127.0.0.1", "PROXY TCP4 "), "200 OK", "one that never ends is cut off")
}

// v2Header is a PROXY protocol header of version 2 with buffer for any addresses.
func v2Header(command, family byte) string {
	return "\r\n\r\n\x00\r\nQUIT\n" + string([]byte{command, family, 0, 216}) + strings.Repeat("\x01", 216)
}

// askRaw sends a beginning of a request to the public listener, and gives the whole answer.
func askRaw(t *testing.T, s *live.Service, begin string) string {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.PublicURL, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	host := "localhost"
	if strings.Contains(begin, "z HTTP/") { // of a load balancer
		host = "any.example"
	}
	fmt.Fprintf(conn, "%sHost: %s\r\nAuthorization: Bearer %s\r\nConnection: close\r\n\r\n", begin, host, s.Admin)
	text, _ := io.ReadAll(conn)
	return string(text)
}

func TestCheckupSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	for i := range 30 {
		s.Call(t, "127.0.0.9", http.MethodGet, s.PublicURL+"/v1/visitor", "", fmt.Sprintf("X-Forwarded-For: 198.18.3.%d", i))
	}
	report := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/checkup", "")
	assert.Contains(t, report.At(t, "findings.0.text"), "100% of all requests come from 127.0.0.9, and 100% of those carry X-Forwarded-For, but it is not trusted")
	code, out, _ := live.Run(t, "", "--server", s.AdminURL, "--key", s.Admin, "checkup")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, `- "127.0.0.9/32"`)
	metrics := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/metrics", "")
	assert.Contains(t, metrics.Body, `eastporch_visitor_addresses_total{kind="loopback",result="skipped"} 30`)
	assert.Contains(t, metrics.Body, "eastporch_checkup_warnings 1")

	tried := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/trails", `{"peer":"127.0.0.9","text":"X-Forwarded-For: 198.18.3.40","settings":{"trusted":["127.0.0.9/32"],"header":"X-Forwarded-For","hops":0}}`)
	assert.Equal(t, "198.18.3.40", tried.At(t, "visitor"))
	bad := s.Call(t, "127.0.0.1", http.MethodPost, s.AdminURL+"/v1/trails", `{"peer":"127.0.0.9","settings":{"trusted":["x"],"header":"","hops":0}}`)
	assert.Equal(t, http.StatusUnprocessableEntity, bad.Status)
}
