package e2e

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// recipe reads a recipe of the documentation, and puts the addresses of a test
// in place of those that it shows.
func recipe(t *testing.T, name, port string, replace ...string) string {
	t.Helper()
	text, err := os.ReadFile("../core/snippet/recipes/" + name)
	require.NoError(t, err)
	return strings.NewReplacer(append(replace, onPort(port)...)...).Replace(string(text))
}

// onPort replaces port 80 of all addresses, where a recipe listens, by another of
// loopback's.
func onPort(port string) []string {
	return []string{
		"listen 80;", "listen 127.0.0.1:" + port + ";", "listen [::]:80;", "listen [::1]:" + port + ";",
		"bind :80\n", "bind 127.0.0.1:" + port + "\n", "bind :::80 v6only", "bind [::1]:" + port, "*:80", "*:" + port,
	}
}

// nextPort counts through ports below those that the system gives out itself, so that none that
// was given here is taken by somebody else before it is used.
var nextPort atomic.Int32

func init() { nextPort.Store(20_000 + rand.Int32N(5_000)) }

// freePort gives a port that is free on both loopback addresses, to nobody else.
func freePort(t testing.TB) string {
	t.Helper()
	for range 500 {
		port := fmt.Sprint(nextPort.Add(1))
		four, err := net.Listen("tcp", "127.0.0.1:"+port)
		if err != nil {
			continue
		}
		six, err := net.Listen("tcp", "[::1]:"+port)
		four.Close()
		if err == nil {
			six.Close()
			return port
		}
	}
	t.Fatal("no port is free on both loopback addresses")
	return ""
}

// serve starts a program in the foreground until the test ends, and waits until
// it listens at a port of both loopback addresses.
func serve(t testing.TB, port string, name string, args ...string) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		path = "/usr/sbin/" + name // not on every user's path
	}
	cmd := exec.Command(path, args...)
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start(), "%s is missing: make test installs it", name)
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
			<-ended
		}
	})
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	deadline := time.After(20 * time.Second)
	for {
		four, err4 := net.Dial("tcp", "127.0.0.1:"+port)
		six, err6 := net.Dial("tcp", "[::1]:"+port)
		for _, c := range []net.Conn{four, six} {
			if c != nil {
				c.Close()
			}
		}
		if err4 == nil && err6 == nil {
			return
		}
		select {
		case <-tick.C:
		case err := <-ended:
			ended <- err
			t.Fatalf("%s ended: %v\n%s", name, err, said.String())
		case <-deadline:
			t.Fatalf("%s does not listen: %v, %v\n%s", name, err4, err6, said.String())
		}
	}
}

func startNginx(t testing.TB, port, server string) {
	t.Helper()
	dir, user := shortDir(t), ""
	if os.Geteuid() == 0 {
		user = "user www-data;" // as Debian's does: not the service's user
	}
	conf := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `%s
load_module /usr/lib/nginx/modules/ngx_http_headers_more_filter_module.so;
daemon off; pid %[2]s/pid; error_log stderr; events {}
http {
  access_log off; client_body_temp_path %[2]s/a; proxy_temp_path %[2]s/b; fastcgi_temp_path %[2]s/c; uwsgi_temp_path %[2]s/d; scgi_temp_path %[2]s/e;
  %[3]s
}`, user, dir, server), 0o600))
	serve(t, port, "nginx", "-c", conf, "-p", dir, "-e", "stderr")
}

func startHAProxy(t *testing.T, port, conf string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "haproxy.cfg")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o600))
	serve(t, port, "haproxy", "-db", "-f", file)
}

func startApache(t *testing.T, port, host string) {
	t.Helper()
	dir := t.TempDir()
	var modules strings.Builder
	for _, m := range []string{"mpm_event", "authz_core", "proxy", "proxy_http", "lua"} {
		fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	user := ""
	if os.Geteuid() == 0 {
		user = "User www-data\nGroup www-data"
	}
	file := filepath.Join(dir, "apache.conf")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "ServerRoot %[1]s\nServerName localhost\nPidFile %[1]s/pid\nDefaultRuntimeDir %[1]s\nErrorLog /dev/stderr\n%[2]s\n%[3]s\nListen 127.0.0.1:%[4]s\nListen [::1]:%[4]s\n%[5]s",
		dir, modules.String(), user, port, host), 0o600))
	serve(t, port, "apache2", "-f", file, "-DFOREGROUND")
}

// Real proxies from Debian's packages, set up as the documentation says, in
// front of the real service: plain, forged and IPv6 requests.
func TestRecipes(t *testing.T) {
	t.Parallel()
	upstream := func(s *service) string { return strings.TrimPrefix(s.publicURL, "http://") }
	trusting := map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}}
	tests := []struct {
		name  string
		flags map[string]any
		front func(t *testing.T, s *service, port string)
	}{
		{"nginx", trusting, func(t *testing.T, s *service, port string) {
			startNginx(t, port, recipe(t, "nginx.conf", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"HAProxy", trusting, func(t *testing.T, s *service, port string) {
			startHAProxy(t, port, recipe(t, "haproxy.cfg", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"HAProxy with the PROXY protocol", map[string]any{"proxies.trusted": []any{"203.0.113.0/28"}, "public.proxy_protocol": []any{"127.0.0.1/32"}}, func(t *testing.T, s *service, port string) {
			startHAProxy(t, port, recipe(t, "haproxy-proxy.cfg", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"Apache httpd", trusting, func(t *testing.T, s *service, port string) {
			startApache(t, port, recipe(t, "apache.conf", port, "127.0.0.1:8080", upstream(s)))
		}},
		{"nginx before HAProxy", trusting, func(t *testing.T, s *service, port string) {
			inner := freePort(t)
			startHAProxy(t, inner, recipe(t, "haproxy.cfg", inner, "127.0.0.1:8080", upstream(s)))
			startNginx(t, port, recipe(t, "nginx.conf", port, "127.0.0.1:8080", "127.0.0.1:"+inner))
		}},
		{"the same by hop count", map[string]any{"proxies.trusted": []any{"127.0.0.1/32"}, "proxies.hops": 2}, func(t *testing.T, s *service, port string) {
			inner := freePort(t)
			startHAProxy(t, inner, recipe(t, "haproxy.cfg", inner, "127.0.0.1:8080", upstream(s)))
			startNginx(t, port, recipe(t, "nginx.conf", port, "127.0.0.1:8080", "127.0.0.1:"+inner))
		}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			s, port := start(t, tt.flags), freePort(t)
			tt.front(t, s, port)
			checkFront(t, s, port)
		})
	}
	t.Run("nginx through a Unix socket", func(t *testing.T) {
		socket := filepath.Join(shortDir(t), "eastporch", "public.sock") // in a directory that is not there yet
		flags := map[string]any{"public.address": "unix:" + socket, "proxies.trusted": []any{"unix"}}
		if os.Geteuid() == 0 {
			flags["public.socket_group"] = "www-data"
		}
		s, port := start(t, flags), freePort(t)
		info, err := os.Stat(socket)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o660), info.Mode().Perm())
		startNginx(t, port, recipe(t, "nginx-unix.conf", port, "/run/eastporch/public.sock", socket))
		checkFront(t, s, port)
		if os.Geteuid() == 0 {
			require.NoError(t, os.Chown(socket, 0, 0))
			got := s.call(t, "127.0.0.1", http.MethodGet, "http://127.0.0.1:"+port+"/v1/visitor/address", "", "Host: localhost")
			assert.Equal(t, http.StatusBadGateway, got.status, "without the group the proxy's user is kept out")
		}
	})
}

// shortDir makes a directory whose path is short, as that of a socket must be, and open to
// the users whom proxies run under.
func shortDir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "ep")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) // other users' programs go through it
	return dir
}

// checkFront asks for the visitor through the front at a port.
func checkFront(t *testing.T, s *service, port string) {
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
			got := s.call(t, c.from, http.MethodGet, "http://"+c.to+":"+port+"/v1/visitor/address", "", header, "Host: localhost")
			assert.Equal(t, c.want+"\n", got.body, "%s, %s", name, forged)
		}
	}
}

// A peer that is listed must send the PROXY protocol, and others must not.
func TestPROXYProtocolPeers(t *testing.T) {
	t.Parallel()
	s := start(t, map[string]any{"public.proxy_protocol": []any{"127.0.0.1/32"}, "public.header_timeout": "2s", "proxies.trusted": []any{"unix"}})
	ask := func(from, before string) string {
		conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", strings.TrimPrefix(s.publicURL, "http://"))
		require.NoError(t, err)
		defer conn.Close()
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		fmt.Fprintf(conn, "%sGET /v1/visitor/address HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nConnection: close\r\n\r\n", before, s.admin)
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
func askRaw(t *testing.T, s *service, begin string) string {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.publicURL, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	host := "localhost"
	if strings.Contains(begin, "z HTTP/") { // of a load balancer
		host = "any.example"
	}
	fmt.Fprintf(conn, "%sHost: %s\r\nAuthorization: Bearer %s\r\nConnection: close\r\n\r\n", begin, host, s.admin)
	text, _ := io.ReadAll(conn)
	return string(text)
}

func TestCheckupSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	for i := range 30 {
		s.call(t, "127.0.0.9", http.MethodGet, s.publicURL+"/v1/visitor", "", fmt.Sprintf("X-Forwarded-For: 198.18.3.%d", i))
	}
	report := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/v1/checkup", "")
	assert.Contains(t, report.at(t, "findings.0.text"), "100% of all requests come from 127.0.0.9, and 100% of those carry X-Forwarded-For, but it is not trusted")
	code, out, _ := run(t, "", "--server", s.adminURL, "--key", s.admin, "checkup")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, `- "127.0.0.9/32"`)
	metrics := s.call(t, "127.0.0.1", http.MethodGet, s.adminURL+"/metrics", "")
	assert.Contains(t, metrics.body, `eastporch_visitor_addresses_total{kind="loopback",result="skipped"} 30`)
	assert.Contains(t, metrics.body, "eastporch_checkup_warnings 1")

	tried := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/trails", `{"peer":"127.0.0.9","text":"X-Forwarded-For: 198.18.3.40","settings":{"trusted":["127.0.0.9/32"],"header":"X-Forwarded-For","hops":0}}`)
	assert.Equal(t, "198.18.3.40", tried.at(t, "visitor"))
	bad := s.call(t, "127.0.0.1", http.MethodPost, s.adminURL+"/v1/trails", `{"peer":"127.0.0.9","settings":{"trusted":["x"],"header":"","hops":0}}`)
	assert.Equal(t, http.StatusUnprocessableEntity, bad.status)
}
