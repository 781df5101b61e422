package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"eastporch/internal/core/handover"
)

// SeenFrom are addresses that the regatta's page can be looked at from, by the words of
// its footer.
var SeenFrom = map[string]string{
	"Portugal": "198.18.3.40", "Japan": "198.19.141.9", "Brazil": "198.19.45.7", "Canada": "198.18.41.12", "Norway": "2001:db8:5e1:40::1f",
}

// SiteAddress is where the demo serves the page, where that is free.
const SiteAddress = "127.0.0.1:8082"

// seenFromCookie holds one of the words of [SeenFrom].
const seenFromCookie = "seen_from"

// Front does in Go what a reverse proxy does before the page: it passes /porch/ on to the
// service, and asks the service about every other request. It is for machines without
// nginx.
func Front(visitors *url.URL, key string, app http.Handler) http.Handler {
	service := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.URL.Scheme, r.Out.URL.Host, r.Out.URL.Path = visitors.Scheme, visitors.Host, strings.TrimPrefix(r.In.URL.Path, "/porch")
		r.Out.Host = Site
		r.Out.Header.Set("Authorization", "Bearer "+key)
		r.Out.Header["X-Forwarded-For"] = []string{seenAs(r.In)}
	}}
	web := &http.Client{Timeout: time.Second}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/porch/") {
			service.ServeHTTP(w, r)
			return
		}
		for name := range r.Header {
			if strings.HasPrefix(name, handover.Prefix) {
				r.Header.Del(name)
			}
		}
		ask, err := http.NewRequestWithContext(r.Context(), http.MethodGet, visitors.String()+"/v1/handover", nil)
		if err == nil {
			ask.Host = Site
			ask.Header = http.Header{
				"Authorization": {"Bearer " + key}, "X-Forwarded-For": {seenAs(r)}, "Accept-Language": r.Header["Accept-Language"], "Cookie": r.Header["Cookie"],
			}
			if answer, err := web.Do(ask); err == nil {
				_ = answer.Body.Close()
				for _, name := range handover.Fields {
					if value := answer.Header.Get(name); value != "" {
						r.Header.Set(name, value)
					}
				}
			}
		}
		app.ServeHTTP(w, r)
	})
}

// seenAs is the forwarding list of a request: of where its visitor wants to be seen
// from, or the one that it has with its peer at the end.
func seenAs(r *http.Request) string {
	if cookie, err := r.Cookie(seenFromCookie); err == nil {
		if address := SeenFrom[cookie.Value]; address != "" {
			return address
		}
	}
	peer, _, _ := net.SplitHostPort(r.RemoteAddr)
	return strings.Join(append(slices.Clone(r.Header["X-Forwarded-For"]), peer), ", ")
}

// nginxConf is what nginx does before the page; docs/recipes/nginx-handover.conf
// explains it.
const nginxConf = `# Written by eastporch demo.
%[1]sdaemon off;
worker_processes 1;
pid %[2]s/nginx.pid;
error_log stderr warn;
events {}
http {
    access_log off;
    client_body_temp_path %[2]s/body;
    proxy_temp_path %[2]s/proxy;
    fastcgi_temp_path %[2]s/fastcgi;
    uwsgi_temp_path %[2]s/uwsgi;
    scgi_temp_path %[2]s/scgi;
    map $cookie_seen_from $seen_as {
        default $proxy_add_x_forwarded_for;
%[3]s    }
    server {
        listen %[4]s;
        location /porch/ {
            proxy_pass %[5]s/;
            proxy_set_header Host %[6]s;
            proxy_set_header Authorization "Bearer %[7]s";
            proxy_set_header X-Forwarded-For $seen_as;
        }
        location = /porch-handover {
            internal;
            proxy_pass %[5]s/v1/handover;
            proxy_pass_request_body off;
            proxy_set_header Content-Length "";
            proxy_set_header Host %[6]s;
            proxy_set_header Authorization "Bearer %[7]s";
            proxy_set_header X-Forwarded-For $seen_as;
            proxy_connect_timeout 250ms;
            proxy_read_timeout 1s;
            proxy_intercept_errors on;
            error_page 400 401 403 404 421 422 429 500 502 503 504 = @porch_without;
        }
        location @porch_without {
            return 204;
        }
        location / {
            auth_request /porch-handover;
%[8]s            proxy_set_header Host $http_host;
            proxy_pass http://%[9]s;
        }
    }
}
`

// Nginx gives the path of nginx on this machine, "" where there is none.
func Nginx() string {
	for _, path := range []string{"nginx", "/usr/sbin/nginx"} {
		if found, err := exec.LookPath(path); err == nil {
			return found
		}
	}
	return ""
}

// StartSite serves the page at an address, such as 127.0.0.1:8082, until ctx ends: through
// nginx, given by its path, or through [Front] where that is "". stopped is closed when
// everything has ended. visitors is the visitor's door of the service, and key one that
// may ask there.
func StartSite(ctx context.Context, dir, nginx, address, visitors, key string, page *Page) (at string, stopped <-chan struct{}, err error) {
	door, err := url.Parse(visitors)
	if err != nil {
		return "", nil, err
	}
	var app http.Handler = page
	listen := "127.0.0.1:0"
	if nginx == "" {
		app, listen = Front(door, key, page), address
	}
	l, err := net.Listen("tcp", listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return "", nil, fmt.Errorf("the regatta's page: %w", err)
	}
	done := make(chan struct{})
	server := &http.Server{Handler: app, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }() // it ends when the server is closed
	at = l.Addr().String()
	var proxy *exec.Cmd
	if nginx != "" {
		if at, proxy, err = startNginx(dir, nginx, address, visitors, key, at); err != nil {
			_ = server.Close()
			return "", nil, err
		}
	}
	go func() {
		defer close(done)
		<-ctx.Done()
		if proxy != nil {
			_ = proxy.Process.Signal(syscall.SIGTERM)
			_ = proxy.Wait()
		}
		_ = server.Close()
	}()
	return "http://" + at, done, nil
}

// startNginx writes nginx's configuration into dir and starts it at an address, or at a
// free port where that is taken.
func startNginx(dir, nginx, address, visitors, key, app string) (at string, cmd *exec.Cmd, err error) {
	dir = filepath.Join(dir, "site")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", nil, fmt.Errorf("the regatta's page: %w", err)
	}
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return "", nil, fmt.Errorf("the regatta's page: %w", err)
	}
	at = l.Addr().String()
	_ = l.Close() // for nginx to take
	var seen, fields strings.Builder
	for _, name := range slices.Sorted(maps.Keys(SeenFrom)) {
		fmt.Fprintf(&seen, "        %s %q;\n", name, SeenFrom[name])
	}
	for _, name := range handover.Fields {
		variable := "$" + strings.ToLower(strings.ReplaceAll(name, "-", "_"))
		fmt.Fprintf(&fields, "            auth_request_set %[1]s $upstream_http_%[2]s;\n            proxy_set_header %[3]s %[1]s;\n", variable, variable[1:], name)
	}
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;\n"
	}
	conf := filepath.Join(dir, "nginx.conf")
	text := fmt.Sprintf(nginxConf, user, dir, seen.String(), at, visitors, Site, key, fields.String(), app)
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		return "", nil, fmt.Errorf("the regatta's page: %w", err)
	}
	cmd = exec.Command(nginx, "-c", conf, "-p", dir, "-e", "stderr")
	var said bytes.Buffer
	cmd.Stderr = &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for us to pass on
	if err := cmd.Start(); err != nil {
		return "", nil, fmt.Errorf("nginx: %w", err)
	}
	for range 100 {
		if conn, err := net.DialTimeout("tcp", at, time.Second); err == nil {
			_ = conn.Close()
			return at, cmd, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	return "", nil, fmt.Errorf("nginx does not listen at %s: %s", at, strings.TrimSpace(said.String()))
}
