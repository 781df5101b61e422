package httpapi

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/gate"
	"eastporch/internal/server/access"
	"eastporch/internal/server/gates"
)

// What a sub-request to the gate adds to a page through a real nginx, beside what an empty one adds: one that is
// answered behind the same middleware, the key included, with as many bytes. Three locations are asked in turns, so that a busy machine
// slows all of them.
func BenchmarkGateThroughNginx(b *testing.B) {
	f := newFixture(b, feedOfTests, nil)
	engine := f.serve(b, PublicListener)
	own := &handlers{Options: f.opt, listener: PublicListener, door: f.opt.Access.Listeners[PublicListener]}
	engine.GET("/empty", own.admit(access.Server), func(c *gin.Context) {
		c.Header("Cache-Control", "private, no-store")
		gates.Admit(c)
	})
	g := gate.Gate{Name: "a", Path: "/**", Mode: gate.On, List: gate.Deny, Missing: gate.Missing{Unknown: gate.Refuse, Skipped: gate.Refuse, NotFound: gate.Refuse, NoData: gate.Refuse}}
	for _, country := range almanac.All()[:101] {
		if country.Code != "PT" {
			g.Rules = append(g.Rules, gate.Rule{Countries: []string{country.Code}})
		}
	}
	f.opt.Public.Sites.All()[0].Local.Gates = gate.New(gate.Rules{Gates: []gate.Gate{g}}, gate.Known{})
	service := httptest.NewServer(engine)
	b.Cleanup(service.Close)
	key := f.key(b, access.Server)

	application, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	site := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "the page") })}
	go func() { _ = site.Serve(application) }()
	b.Cleanup(func() { _ = site.Close() })
	at := nginx(b, fmt.Sprintf(`
		upstream app { server %[1]s; keepalive 4; } upstream porch { server %[2]s; keepalive 4; }
		proxy_http_version 1.1; proxy_set_header Connection "";
		server { listen 127.0.0.1:%%s;
			location = /ask-empty { %[3]s proxy_pass http://porch/empty?site=heronlake.example; }
			location = /ask-gate { %[3]s proxy_pass http://porch/v1/gate/decide?site=heronlake.example; }
			location /none { proxy_pass http://app; }
			location /empty { auth_request /ask-empty; proxy_pass http://app; }
			location /gate { auth_request /ask-gate; proxy_pass http://app; }
		}`, application.Addr(), strings.TrimPrefix(service.URL, "http://"), `internal; proxy_http_version 1.1; proxy_pass_request_body off; proxy_pass_request_headers off;
			proxy_set_header Connection ""; proxy_set_header Host 127.0.0.1; proxy_set_header Content-Length ""; proxy_set_header Authorization "Bearer `+key+`";
			proxy_set_header Accept-Language $http_accept_language; proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for; proxy_set_header Porch-Original-Target $request_uri;`))
	took := map[string][]float64{}
	ask := func(what string, keep bool) {
		request, err := http.NewRequestWithContext(b.Context(), http.MethodGet, at+"/"+what, nil)
		require.NoError(b, err)
		request.Header.Set("X-Forwarded-For", "198.18.3.40")
		begun := time.Now()
		res, err := http.DefaultClient.Do(request)
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, res.Body)
		require.NoError(b, err)
		res.Body.Close()
		if require.Equal(b, http.StatusOK, res.StatusCode, what); keep {
			took[what] = append(took[what], float64(time.Since(begun).Nanoseconds()))
		}
	}
	for b.Loop() {
		for n := range 4300 {
			for _, what := range []string{"none", "empty", "gate"} {
				ask(what, n >= 300)
			}
		}
	}
	middle := func(what string) float64 {
		slices.Sort(took[what])
		return took[what][len(took[what])/2]
	}
	b.ReportMetric(middle("empty")-middle("none"), "empty-adds-ns")
	b.ReportMetric(middle("gate")-middle("none"), "gate-adds-ns")
}

// nginx starts a real one, and gives its address; %s in the configuration is its port.
func nginx(b *testing.B, servers string) string {
	b.Helper()
	dir, err := os.MkdirTemp("", "nginx")
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(b, err)
	require.NoError(b, l.Close())
	conf := filepath.Join(dir, "nginx.conf")
	require.NoError(b, os.WriteFile(conf, fmt.Appendf(nil, `daemon off; master_process off; pid %[1]s/pid; error_log stderr; events {}
http { access_log off; keepalive_requests 1000000; client_body_temp_path %[1]s/a; proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c; uwsgi_temp_path %[1]s/d; scgi_temp_path %[1]s/e; %[2]s }`, dir, fmt.Sprintf(servers, port)), 0o600))
	path, err := exec.LookPath("nginx")
	if err != nil {
		path = "/usr/sbin/nginx" // not on every user's path
	}
	cmd := exec.Command(path, "-c", conf, "-p", dir, "-e", "stderr")
	require.NoError(b, cmd.Start())
	b.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	require.Eventually(b, func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 10*time.Minute, 10*time.Millisecond)
	return "http://127.0.0.1:" + port
}
