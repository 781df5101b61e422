package live

import (
	"fmt"
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

	"github.com/stretchr/testify/require"
)

// OnPort replaces port 80 of all addresses, where a recipe listens, by another of
// loopback's.
func OnPort(port string) []string {
	return []string{
		"listen 80;", "listen 127.0.0.1:" + port + ";", "listen [::]:80;", "listen [::1]:" + port + ";",
		"bind :80\n", "bind 127.0.0.1:" + port + "\n", "bind :::80 v6only", "bind [::1]:" + port, "*:80", "*:" + port,
	}
}

// nextPort counts through ports below those that the system gives out itself, so that none that
// was given here is taken by somebody else before it is used.
var nextPort atomic.Int32

func init() { nextPort.Store(20_000 + rand.Int32N(5_000)) }

// FreePort gives a port that is free on both loopback addresses, to nobody else.
func FreePort(t testing.TB) string {
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

// Serve starts a program in the foreground until the test ends, and waits until
// it listens at a port of both loopback addresses.
func Serve(t testing.TB, port string, name string, args ...string) {
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
	deadline := time.After(10 * time.Minute)
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

// StartNginx starts nginx with a server block, as the user that Debian has for it.
func StartNginx(t testing.TB, port, server string) {
	t.Helper()
	dir, user := ShortDir(t), ""
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
	Serve(t, port, "nginx", "-c", conf, "-p", dir, "-e", "stderr")
}

// StartHAProxy starts HAProxy with a whole configuration.
func StartHAProxy(t *testing.T, port, conf string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "haproxy.cfg")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o600))
	Serve(t, port, "haproxy", "-db", "-f", file)
}

// StartApache starts Apache with a virtual host.
func StartApache(t *testing.T, port, host string) {
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
	Serve(t, port, "apache2", "-f", file, "-DFOREGROUND")
}

// ShortDir makes a directory whose path is short, as that of a socket must be, and open to
// the users whom proxies run under.
func ShortDir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "ep")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) // other users' programs go through it
	return dir
}

// Recipes asks the service for the texts that it hands out, for a service at base. Only
// the port that the proxy listens at and the application's address are not as handed out.
func (s *Service) Recipes(t testing.TB, base, key, port, application string) map[string]string {
	t.Helper()
	got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/snippets?base="+base+"&key="+key+"&site=heronlake.example", "")
	require.Equal(t, http.StatusOK, got.Status, got.Body)
	texts := map[string]string{}
	for _, one := range Parse[struct {
		Snippets []struct{ Name, Text string }
	}](t, got).Snippets {
		texts[one.Name] = strings.NewReplacer(append(OnPort(port), "127.0.0.1:3000", application)...).Replace(one.Text)
	}
	return texts
}

// Applications print what reaches them, as a WSGI and a CGI application see it.
var Applications = map[string]func(t *testing.T, port string){
	"WSGI": func(t *testing.T, port string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "app.py"), []byte(`
def app(environ, start):
    start("200 OK", [("Content-Type", "text/plain")])
    return ["".join(f"{k}={v}\n" for k, v in sorted(environ.items()) if k.startswith("HTTP_")).encode()]
`), 0o600))
		Serve(t, port, "gunicorn", "--chdir", dir, "--bind", "127.0.0.1:"+port, "--bind", "[::1]:"+port, "app:app")
	},
	"CGI": func(t *testing.T, port string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "index.cgi"), []byte("#!/bin/sh\nprintf 'Content-Type: text/plain\\r\\n\\r\\n'; env | grep ^HTTP_\n"), 0o700))
		conf := filepath.Join(dir, "lighttpd.conf")
		require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `
server.modules = ("mod_cgi")
server.document-root = %[1]q
server.bind = "127.0.0.1"
server.port = %[2]s
$SERVER["socket"] == "[::1]:%[2]s" { }
index-file.names = ("index.cgi")
cgi.assign = (".cgi" => "")
`, dir, port), 0o600))
		Serve(t, port, "lighttpd", "-D", "-f", conf)
	},
}

// Firefox is the header line of a browser.
const Firefox = "User-Agent: Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"

// NginxSite starts nginx with a block that is handed out, in front of an application.
func NginxSite(t *testing.T, port, application, block string) {
	StartNginx(t, port, fmt.Sprintf("server { listen 127.0.0.1:%[1]s; listen [::1]:%[1]s;\nlocation / { proxy_pass http://127.0.0.1:%[2]s; }\n%[3]s}", port, application, block))
}

// HAProxySite starts HAProxy with a block that is handed out, in front of an application.
func HAProxySite(t *testing.T, port, application, block string) {
	use := ""
	for line := range strings.Lines(block) { // the line that the recipe says to copy
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "#     "); ok {
			use += "    " + text + "\n"
		}
	}
	StartHAProxy(t, port, fmt.Sprintf(`
defaults
    mode http
    timeout connect 5s
    timeout client 30s
    timeout server 30s
frontend site
    bind 127.0.0.1:%[1]s
    bind [::1]:%[1]s
%[4]s    default_backend application
backend application
    server application 127.0.0.1:%[2]s
%[3]s`, port, application, block, use))
}
