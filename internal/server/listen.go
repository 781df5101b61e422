package server

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"eastporch/internal/config"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/proxyproto"
)

// An endpoint is a listener and what serves its requests.
type endpoint struct {
	name     httpapi.Listener
	secure   bool // speaks TLS
	listener net.Listener
	http     *http.Server
	handler  func() http.Handler // of what runs
	served   chan error          // nil until it serves
	requests sync.WaitGroup      // that run
	log      *slog.Logger
}

// counted is the handler of what runs, whose requests are waited for.
func (d *endpoint) counted() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d.requests.Add(1)
		defer d.requests.Done()
		d.handler().ServeHTTP(w, r)
	})
}

// serve begins to serve, once.
func (d *endpoint) serve() {
	if d.served == nil {
		d.served = make(chan error, 1)
		go func() { d.served <- d.http.Serve(d.listener) }()
	}
}

// run serves until ctx ends. Then it takes no more connections, and requests have a while to
// end by themselves; after that their connections are closed, which ends them. It returns when no
// request runs any more.
func (d *endpoint) run(ctx context.Context, while time.Duration) error {
	d.serve()
	var failed error
	select {
	case failed = <-d.served:
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), while)
	defer cancel()
	if err := d.http.Shutdown(stop); err != nil { // an export, say, whose reader sees that it is broken off
		d.log.Warn("requests that ran long were ended", "listener", d.name)
		_ = d.http.Close() // of listeners that are closed already
	}
	d.requests.Wait()
	return failed
}

// bindAll makes the endpoints, once; they answer with first until something runs.
func (s *Server) bindAll(ctx context.Context, first http.Handler) error {
	if s.endpoints != nil {
		return nil
	}
	var made []*endpoint
	for _, name := range []httpapi.Listener{httpapi.PublicListener, httpapi.AdminListener} {
		c := s.opt.Config.Public
		if name == httpapi.AdminListener {
			c = s.opt.Config.Admin
		}
		l, err := s.listen(ctx, name, c)
		if err != nil {
			for _, d := range made {
				_ = d.listener.Close()
			}
			return err
		}
		d := &endpoint{name: name, log: s.opt.Log, secure: c.TLSCertificate != "", listener: l, http: &http.Server{
			ReadHeaderTimeout: c.HeaderTimeout, ReadTimeout: c.Timeout,
			WriteTimeout: c.Timeout, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: c.MaxHeaderBytes,
			ErrorLog: log.New(&withoutAddresses{s.opt.Log}, "", 0),
		}}
		d.handler = func() http.Handler {
			if h := s.inUse.Load().handlers[name]; h != nil {
				return h
			}
			return first
		}
		d.http.Handler = d.counted()
		made = append(made, d)
	}
	s.endpoints = made
	return nil
}

func (s *Server) listen(ctx context.Context, name httpapi.Listener, c config.Listener) (net.Listener, error) {
	l, err := s.bind(ctx, c)
	if err != nil {
		return nil, fmt.Errorf("the %s listener: %w; give another with --%s-address", name, err, name)
	}
	listed := c.Listed()
	if listed == nil {
		listed = func(netip.Addr) bool { return false }
	}
	l = &proxyproto.Listener{Listener: l, Listed: listed, Within: c.HeaderTimeout, Mismatch: s.protocolMismatch(name)}
	if c.TLSCertificate == "" {
		return l, nil
	}
	pair, err := tls.LoadX509KeyPair(s.opt.Input.Path(c.TLSCertificate), s.opt.Input.Path(c.TLSKey))
	if err != nil {
		_ = l.Close()
		return nil, fmt.Errorf("the %s listener: %w", name, err)
	}
	return tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}, NextProtos: []string{"h2", "http/1.1"}}), nil
}

// mismatchesLogged is how often a mismatch of the PROXY protocol is written into the log.
const mismatchesLogged = time.Minute

// protocolMismatch shows connections that begin otherwise than was agreed on to the
// checkup, and to the log at most once a minute.
func (s *Server) protocolMismatch(name httpapi.Listener) func(peer netip.Addr, missing bool) {
	var mu sync.Mutex
	var next time.Time
	return func(peer netip.Addr, missing bool) {
		s.watch.Mismatch(peer, missing)
		mu.Lock()
		defer mu.Unlock()
		if now := time.Now(); now.After(next) {
			next = now.Add(mismatchesLogged)
			s.opt.Log.Warn("a connection does not keep to the PROXY protocol as configured; the checkup says more", "listener", name, "listed", missing, "sent", !missing)
		}
	}
}

// bind listens at host:port, or at unix:PATH.
func (s *Server) bind(ctx context.Context, c config.Listener) (net.Listener, error) {
	if path, ok := strings.CutPrefix(c.Address, "unix:"); ok {
		return bindUnix(ctx, path, c)
	}
	var lc net.ListenConfig
	l, err := lc.Listen(ctx, "tcp", c.Address)
	if err != nil && s.opt.FreePort && errors.Is(err, syscall.EADDRINUSE) {
		host, _, _ := net.SplitHostPort(c.Address)
		return lc.Listen(ctx, "tcp", net.JoinHostPort(host, "0"))
	}
	return l, err
}

// bindUnix listens at a Unix socket of the mode and group that the configuration names, so
// that a proxy under another user reaches it. Its directory is made where it is missing, and
// a socket that nobody listens at any more is replaced.
func bindUnix(ctx context.Context, path string, c config.Listener) (net.Listener, error) {
	if conn, err := net.Dial("unix", path); err == nil {
		_ = conn.Close()
		return nil, fmt.Errorf("somebody listens at %s already", path)
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	var lc net.ListenConfig
	l, err := lc.Listen(ctx, "unix", path)
	if err != nil {
		return nil, err
	}
	if err := shareSocket(path, c); err != nil {
		_ = l.Close()
		return nil, err
	}
	return l, nil
}

func shareSocket(path string, c config.Listener) error {
	if c.SocketGroup != "" {
		group, err := user.LookupGroup(c.SocketGroup)
		if err != nil {
			return fmt.Errorf("socket_group: %w", err)
		}
		id, err := strconv.Atoi(group.Gid)
		if err != nil {
			return fmt.Errorf("socket_group: %w", err)
		}
		if err := os.Chown(path, -1, id); err != nil {
			return fmt.Errorf("socket_group: the service's user must be in it: %w", err)
		}
	}
	mode, err := c.Mode()
	if err != nil {
		return fmt.Errorf("socket_mode: %w", err)
	}
	return os.Chmod(path, mode)
}

// URL gives the address of a listener, with the port that was really taken.
func (s *Server) URL(name httpapi.Listener) string {
	for _, d := range s.endpoints {
		if d.name == name {
			if d.secure {
				return "https://" + d.listener.Addr().String()
			}
			return "http://" + d.listener.Addr().String()
		}
	}
	return ""
}
