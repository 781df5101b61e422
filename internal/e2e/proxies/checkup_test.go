package proxies

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/config"
	"eastporch/internal/core/checkup"
	"eastporch/internal/testkit/live"
)

// A chainLink is one of a chain of real proxies, the outermost first.
type chainLink struct {
	program string // nginx or haproxy
	from    string // the address that it connects from
	lines   string // what it does with the headers
	server  string // of HAProxy, behind the server's address
	mode    string // of HAProxy, "" is http
}

const (
	nginxExtends   = "proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;"
	haproxyExtends = "option forwardfor"
)

// chainOf starts the links in front of an upstream, and gives the port of the outermost,
// which wants the PROXY protocol, so that a test can connect as anybody.
func chainOf(t *testing.T, upstream string, links ...chainLink) (port string) {
	t.Helper()
	for i := len(links) - 1; i >= 0; i-- {
		l := links[i]
		port = live.FreePort(t)
		outermost := i == 0
		if l.program == "nginx" {
			accept, who := "", ""
			if outermost {
				accept, who = " proxy_protocol", "set_real_ip_from 127.0.0.1; real_ip_header proxy_protocol;"
			}
			locations := l.lines
			if !strings.Contains(locations, "location") {
				locations = "location / { " + l.lines + " @pass }"
			}
			bind := "proxy_bind " + l.from + ";"
			if strings.HasPrefix(upstream, "unix:") {
				bind = ""
			}
			pass := fmt.Sprintf("proxy_pass http://%s; %s proxy_set_header Host localhost;", upstream, bind)
			live.StartNginx(t, port, fmt.Sprintf("server { listen 127.0.0.1:%[1]s%[2]s; listen [::1]:%[1]s%[2]s; %[3]s %[4]s }", port, accept, who, strings.ReplaceAll(locations, "@pass", pass)))
		} else {
			accept, mode, host := "", "http", "http-request set-header Host localhost"
			if outermost {
				accept = " accept-proxy"
			}
			if l.mode != "" {
				mode, host = l.mode, ""
			}
			live.StartHAProxy(t, port, fmt.Sprintf(`
defaults
    mode %[1]s
    timeout connect 5s
    timeout client 30s
    timeout server 30s
frontend front
    bind 127.0.0.1:%[2]s%[3]s
    bind [::1]:%[2]s%[3]s
    %[4]s
    default_backend back
backend back
    source %[5]s
    %[8]s
    server one %[6]s %[7]s
`, mode, port, accept, l.lines, l.from, upstream, l.server, host))
		}
		upstream = "127.0.0.1:" + port
	}
	return port
}

// ask connects to an address of loopback as somebody else, by the PROXY protocol, and
// gives the answer's first line; "" where the connection was closed.
func askAs(t *testing.T, address, visitor, path, key string, header ...string) string {
	t.Helper()
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
	lines := append([]string{"GET " + path + " HTTP/1.1", "Host: localhost", "Authorization: Bearer " + key, "Connection: close"}, header...)
	fmt.Fprintf(conn, "PROXY TCP4 %s 127.0.0.1 4711 80\r\n%s\r\n\r\n", visitor, strings.Join(lines, "\r\n"))
	first, _ := bufio.NewReader(conn).ReadString('\n')
	return strings.TrimSpace(first)
}

func nth(i int) string { return fmt.Sprintf("198.18.3.%d", 1+i) }

// Set-ups of real nginx and HAProxy, half of them wrong: the verdict says which, and its
// lines mend it.
func TestCheckupOfRealSetUps(t *testing.T) {
	t.Parallel()
	nginx, inner := chainLink{program: "nginx", from: "127.0.0.2", lines: nginxExtends}, chainLink{program: "haproxy", from: "127.0.0.2", lines: haproxyExtends}
	outer := chainLink{program: "nginx", from: "127.0.0.3", lines: nginxExtends}
	with := func(l chainLink, lines string) chainLink {
		l.lines = lines
		return l
	}
	proxies := func(trusted ...any) map[string]any { return map[string]any{"proxies.trusted": trusted} }
	and := func(m map[string]any, key string, value any) map[string]any {
		m[key] = value
		return m
	}
	listed := []any{"127.0.0.1/32"}
	forge := func(i int) []string { return []string{fmt.Sprintf("X-Forwarded-For: 203.0.113.%d", i)} }
	tests := []struct {
		name   string
		links  []chainLink // none: clients connect by themselves
		flags  map[string]any
		header func(i int) []string // of the client
		state  checkup.State
		check  string // the finding that is meant
		mended string // among its lines
	}{
		{"nginx", []chainLink{nginx}, proxies("127.0.0.2/32"), nil, checkup.OK, "trusted-proxy", ""},
		{"HAProxy", []chainLink{inner}, proxies("127.0.0.2/32"), nil, checkup.OK, "trusted-proxy", ""},
		{"nginx before HAProxy", []chainLink{outer, inner}, proxies("127.0.0.2/31"), nil, checkup.OK, "trusted-proxy", ""},
		{"the same by two hops", []chainLink{outer, inner}, and(proxies("127.0.0.2/32"), "proxies.hops", 2), nil, checkup.OK, "trusted-proxy", ""},
		{"HAProxy with the PROXY protocol", []chainLink{{program: "haproxy", from: "127.0.0.2", server: "send-proxy-v2", mode: "tcp"}}, and(proxies("203.0.113.0/28"), "public.proxy_protocol", []any{"127.0.0.2/32"}), nil, checkup.OK, "forged-lists", ""},
		{"nginx with X-Real-IP", []chainLink{with(nginx, "proxy_set_header X-Real-IP $remote_addr;")}, and(proxies("127.0.0.2/32"), "proxies.header", "X-Real-IP"), nil, checkup.OK, "trusted-proxy", ""},
		{"HAProxy with Forwarded", []chainLink{with(inner, "http-request add-header Forwarded for=%[src]")}, and(proxies("127.0.0.2/32"), "proxies.header", "Forwarded"), nil, checkup.OK, "trusted-proxy", ""},
		{"no proxy", nil, and(proxies(), "public.proxy_protocol", listed), nil, checkup.OK, "forged-lists", ""},
		{"no proxy, and one stranger who forges", nil, and(proxies(), "public.proxy_protocol", listed), func(i int) []string {
			if i >= 34 {
				return []string{"X-Forwarded-For: 8.8.8.8"}
			}
			return nil
		}, checkup.OK, "forged-lists", ""},
		{"clients who forge lists", []chainLink{nginx}, proxies("127.0.0.2/32"), forge, checkup.OK, "forged-lists", ""},
		{"nginx through a Unix socket", []chainLink{nginx}, proxies("unix"), nil, checkup.OK, "trusted-proxy", ""},

		{"nginx that is not trusted", []chainLink{nginx}, proxies("203.0.113.0/28"), nil, checkup.Attention, "untrusted-proxy", `- "127.0.0.2/32"`},
		{"one that is not trusted before one that is", []chainLink{outer, inner}, proxies("127.0.0.2/32"), nil, checkup.Attention, "untrusted-proxy", `- "127.0.0.3/32"`},
		{"too few hops", []chainLink{outer, inner}, and(proxies("127.0.0.2/32"), "proxies.hops", 1), nil, checkup.Attention, "hops-too-few", "hops: 2"},
		{"too many hops", []chainLink{outer, inner}, and(proxies("127.0.0.2/32"), "proxies.hops", 3), nil, checkup.Attention, "hops-too-many", "hops: 2"},
		{"the header in some locations only", []chainLink{with(nginx, "location = /v1/visitor/address { "+nginxExtends+" @pass } location / { @pass }")}, proxies("127.0.0.2/32"), nil, checkup.Attention, "header-sometimes", nginxExtends},
		{"no header", []chainLink{with(nginx, "")}, proxies("127.0.0.2/32"), nil, checkup.Attention, "header-absent", nginxExtends},
		{"another header than is believed", []chainLink{with(nginx, "proxy_set_header X-Real-IP $remote_addr;")}, proxies("127.0.0.2/32"), nil, checkup.Attention, "header-absent", "header: X-Real-IP"},
		{"nginx that sends none, before HAProxy on one host", []chainLink{with(outer, ""), inner}, proxies("127.0.0.2/31"), nil, checkup.Attention, "nobody-before", haproxyExtends},
		{"HAProxy that writes the header anew", []chainLink{outer, with(inner, "http-request set-header X-Forwarded-For %[src]")}, proxies("127.0.0.2/31"), nil, checkup.Attention, "nobody-before", haproxyExtends},
		{"nginx that hides its clients", []chainLink{with(nginx, "proxy_set_header X-Forwarded-For unknown;")}, proxies("127.0.0.2/32"), nil, checkup.Attention, "unreadable", nginxExtends},
		{"nginx that passes on what clients write", []chainLink{nginx}, proxies("127.0.0.2/32"), func(int) []string { return []string{"X-Real-IP: 203.0.113.77"} }, checkup.Attention, "headers-disagree", "http-request del-header X-Real-IP"},
		{"everybody is trusted", []chainLink{nginx}, proxies("0.0.0.0/0"), nil, checkup.Attention, "trusts-everybody", "0.0.0.0/0"},
		{"visitors are trusted", []chainLink{nginx}, proxies("127.0.0.2/32", "198.18.0.0/16"), nil, checkup.Attention, "trusted-visitors", "198.18.0.0/16"},
		{"the PROXY protocol from one who is not listed", []chainLink{{program: "haproxy", from: "127.0.0.2", lines: haproxyExtends, server: "send-proxy-v2"}}, proxies("127.0.0.2/32"), nil, checkup.Attention, "proxy-protocol-unexpected", `- "127.0.0.2/32"`},
		{"no PROXY protocol from one who is listed", []chainLink{inner}, and(proxies(), "public.proxy_protocol", []any{"127.0.0.2/32"}), nil, checkup.Attention, "proxy-protocol-missing", "send-proxy-v2"},
		{"a TCP balancer that says nothing", []chainLink{{program: "haproxy", from: "127.0.0.2", mode: "tcp"}}, proxies(), nil, checkup.Attention, "one-peer", `- "127.0.0.2/32"`},
		{"a CDN that is not trusted", nil, and(proxies(), "public.proxy_protocol", listed), func(i int) []string {
			if i >= 34 {
				return forge(i)
			}
			return nil
		}, checkup.Attention, "untrusted-proxy", `#     - "ITS ADDRESS"`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			flags := map[string]any{"sites": []any{map[string]any{"host": "localhost"}}} // which keeps truncated addresses
			for key, value := range tt.flags {
				flags[key] = value
			}
			if strings.Contains(tt.name, "Unix socket") {
				flags["public.address"], flags["public.socket_mode"] = "unix:"+filepath.Join(live.ShortDir(t), "v.sock"), "0666"
			}
			s := live.Start(t, flags)
			upstream := strings.TrimPrefix(s.PublicURL, "http://")
			if socket, ok := flags["public.address"]; ok {
				upstream = fmt.Sprint(socket)
			}
			at := upstream
			if len(tt.links) > 0 {
				at = "127.0.0.1:" + chainOf(t, upstream, tt.links...)
			}
			for i := range 74 {
				path, visitor := "/v1/visitor", nth(i)
				if i%4 == 0 {
					path = "/v1/visitor/address"
				}
				if i >= 34 && tt.links == nil { // one peer who asks often
					visitor = "198.18.9.9"
				}
				var header []string
				if tt.header != nil {
					header = tt.header(i)
				}
				askAs(t, at, visitor, path, s.Admin, header...)
			}
			report := live.Parse[checkup.Result](t, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/checkup", ""))
			assert.Equal(t, tt.state, report.State, "%+v", report)
			var meant *checkup.Diagnostic
			for i, f := range report.Findings {
				if f.Name == tt.check {
					meant = &report.Findings[i]
				}
				usable(t, f)
				for _, line := range f.Lines {
					if !strings.HasPrefix(line, "#") {
						assert.NotContains(t, line, "198.18.9.9", "no line trusts a stranger")
						assert.NotContains(t, line, "198.18.3.", "no line trusts a visitor")
					}
				}
			}
			if assert.NotNil(t, meant, "%+v", report) {
				assert.Contains(t, strings.Join(meant.Lines, "\n"), tt.mended)
				t.Logf("%s: %s | %s", report.State, report.Title, strings.Join(meant.Lines, " ⏎ "))
			}
			for _, p := range report.Peers {
				assert.NotContains(t, p.Peer, "198.18.9.9", "a visitor's address is truncated as the site keeps it")
			}
		})
	}
}

// usable holds the lines of a finding that go into the configuration against what the service
// takes, also those that are to be uncommented first.
func usable(t *testing.T, f checkup.Diagnostic) {
	t.Helper()
	if f.Where != checkup.InConfiguration || len(f.Lines) == 0 {
		return
	}
	plain, all := "", ""
	for _, line := range f.Lines {
		if !strings.HasPrefix(line, "#") {
			plain += line + "\n"
		}
		if bare := strings.TrimPrefix(line, "# "); bare == line || strings.Contains(bare, ":") && !strings.HasSuffix(bare, "not say:") && !strings.HasPrefix(bare, "Only ") || strings.HasPrefix(strings.TrimSpace(bare), "- ") {
			all += strings.ReplaceAll(bare, "ITS ADDRESS", "203.0.113.9") + "\n"
		}
	}
	if strings.TrimSpace(plain) != "" {
		all = plain
	}
	file := filepath.Join(t.TempDir(), "eastporch.yaml")
	require.NoError(t, os.WriteFile(file, []byte(all), 0o600))
	_, err := config.Load(config.Input{File: file, Getenv: func(string) string { return "" }})
	var problems config.Problems
	if errors.As(err, &problems) { // a part of a configuration may lack what stands elsewhere in it
		for _, p := range problems {
			assert.NotContains(t, p.Reason, "not known", "%s\n%s", p, all)
		}
	} else {
		assert.NoError(t, err, all)
	}
}
