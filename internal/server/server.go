// Package server is the long-running process: it builds every part from the
// configuration, runs them and stops them.
package server

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/json"
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
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"eastporch/internal/config"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/visit"
	"eastporch/internal/editions"
	"eastporch/internal/server/access"
	"eastporch/internal/server/cluster"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/intake"
	"eastporch/internal/server/privacy"
	"eastporch/internal/server/proxyproto"
	"eastporch/internal/server/rates"
	"eastporch/internal/server/store"
	"eastporch/internal/server/webui"
)

// Options says what a server is made of. Config and Log are required.
type Options struct {
	Config  *config.Config
	Input   config.Input // where Config came from, for relative paths
	Log     *slog.Logger
	Version string
	// FreePort lets a listener take any free port when its own is in use.
	FreePort bool
	// Throwaway runs the private cluster without what protects its data.
	Throwaway bool
}

// A Server is everything that runs, from Open to Close.
type Server struct {
	opt      Options
	private  sync.Mutex       // is held while cluster changes
	cluster  *cluster.Cluster // nil where the owner has a database
	store    *store.Store
	privacy  *privacy.Keys
	intake   *intake.Intake
	notifier *store.Notifier
	// stopping is closed when the server begins to stop.
	stopping chan struct{}
	locals   map[string]*visit.Local // by the sites' hosts
	rates    *rates.Feed
	areas    []geo.Area
	varying  sync.Mutex // is held while content variants are read and put into use
	shelf    *editions.Shelf
	sources  []editions.SourceConfig
	// correcting is held while the corrections are read and put into use.
	correcting  sync.Mutex
	corrections atomic.Int64 // how often they had changed when they were read
	endpoints   []endpoint
	jobs        jobs                            // what runs beside the listeners
	work        atomic.Pointer[context.Context] // of the jobs, while they run

	watch    *checkup.Watch
	keys     *access.Keys
	sessions *access.Sessions
}

type endpoint struct {
	name     httpapi.Listener
	secure   bool // speaks TLS
	listener net.Listener
	http     *http.Server
}

// Open reads the atlas, starts or connects to the database and listens. What
// was opened is closed again where a later part fails.
func Open(ctx context.Context, opt Options) (*Server, error) {
	s := &Server{opt: opt, notifier: store.NewNotifier(), stopping: make(chan struct{})}
	err := s.openShelf(ctx)
	if err == nil {
		err = s.openStore(ctx)
	}
	if err == nil {
		err = s.openIntake()
	}
	if err == nil {
		s.areas, err = s.readAreas()
	}
	if err == nil {
		err = s.openLocal(ctx)
	}
	if err == nil {
		err = s.openListeners(ctx)
	}
	if err != nil {
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), opt.Config.ShutdownGrace)
		defer cancel()
		return nil, errors.Join(err, s.close(stop))
	}
	return s, nil
}

// openListeners makes the API and listens.
func (s *Server) openListeners(ctx context.Context) (err error) {
	opt, cfg := s.opt, s.opt.Config
	if s.keys, err = access.NewKeys(ctx, s.store, opt.Log, time.Now); err != nil {
		return err
	}
	s.sessions = access.NewSessions(s.store, time.Now)
	if err := s.noteConfiguration(ctx); err != nil {
		return err
	}
	labels, err := cfg.LabelSets(opt.Input)
	if err != nil {
		return err
	}
	finder, err := cfg.Finder(labels)
	if err != nil {
		return err
	}
	key, err := s.privacy.Lasting("handover")
	if err != nil {
		return err
	}
	if err := s.recorrect(ctx); err != nil {
		return err
	}
	installation, err := s.store.Installation(ctx)
	if err != nil {
		return err
	}
	whole := !slices.ContainsFunc(cfg.Sites, func(site config.Site) bool { return site.PrivacyMode() != visit.Whole })
	s.watch = checkup.NewWatch(finder, whole, time.Now().UTC())
	api := httpapi.Options{
		Enrich: &visit.Pipeline{Finder: finder, Policy: addr.NewPolicy(cfg.Rules()...), Labels: addr.NewLabels(labels), Translators: cfg.Translators(), Atlas: s.shelf},
		Finder: finder, Proxies: httpapi.ProxySettings{Trusted: append([]string{}, cfg.Proxies.Trusted...), Header: finder.Header(), Hops: cfg.Proxies.Hops},
		TryProxies: func(p httpapi.ProxySettings) (caller.Finder, error) {
			other := config.Config{Proxies: config.Proxies(p)}
			return other.Finder(labels)
		},
		Watch: s.watch, Store: s.store, Intake: s.intake, Privacy: s.privacy, Console: webui.Handler(),
		Stored: s.notifier.Next, Stopping: s.stopping,
		Publish: func(ctx context.Context) (int64, error) { return s.publish(ctx, labels) },
		Marker: visit.Marker{
			BotAgents: cfg.Marks.BotAgents, BotLabels: cfg.Marks.BotLabels, MonitorAgents: cfg.Marks.MonitorAgents, MonitorLabels: cfg.Marks.MonitorLabels,
		}.Lower(),
		Shelf: s.shelf, AtlasStore: s.store, Rebuild: s.rebuild, Recorrect: s.recorrect,
		Known: s.known(), LabelNames: cfg.LabelNames(), Rates: s.rates, Variants: s.store, Revary: s.revary,
		VisitorURL: func() string { return s.URL(httpapi.PublicListener) },
		Handover:   httpapi.Handover{Key: key, Lasts: cfg.Handover.CookieLasts},
		Areas:      s.areas, LookUp: s.lookUp(), MapLink: cfg.MapLink,
		Keys: s.keys, Sessions: s.sessions, Audit: s.store,
		Limits: &httpapi.Limits{
			Keys:     access.NewLimiter(float64(cfg.Limits.KeyPerSecond), 2*cfg.Limits.KeyPerSecond),
			Visitors: access.NewLimiter(float64(cfg.Limits.VisitorPerSecond), 2*cfg.Limits.VisitorPerSecond),
			SignIns:  access.NewLimiter(5.0/60, 5), AllTries: access.NewLimiter(1, 60),
		},
		Hosts: map[httpapi.Listener][]string{
			httpapi.PublicListener: cfg.HostNames(cfg.Public, true), httpapi.AdminListener: cfg.HostNames(cfg.Admin, false),
		},
		MaxBody: map[httpapi.Listener]int64{
			httpapi.PublicListener: int64(cfg.Public.MaxBodyBytes), httpapi.AdminListener: int64(cfg.Admin.MaxBodyBytes),
		},
		Secure: cfg.Admin.TLSCertificate != "", Origins: cfg.Admin.Origins, Installation: installation,
		Version: opt.Version, Log: opt.Log, Now: time.Now,
	}
	api.Metrics = httpapi.NewMetrics(httpapi.Measured{
		Version: opt.Version, Checkup: api.Watch, Queue: s.intake.State,
		Pool: func() httpapi.PoolState {
			stat := s.store.Stat()
			return httpapi.PoolState{InUse: int(stat.AcquiredConns()), Idle: int(stat.IdleConns()), Most: int(stat.MaxConns()), Waited: stat.AcquireDuration()}
		},
		RatesAge: func() (time.Duration, bool) {
			r := s.rates.State().Rates
			return time.Duration(r.AgeDays(time.Now())) * 24 * time.Hour, r.Base != ""
		},
	})
	if cfg.Atlas.TestPoints != "" {
		api.TestPoints = opt.Input.Path(cfg.Atlas.TestPoints)
	}
	for _, site := range cfg.Sites {
		api.Sites = append(api.Sites, httpapi.Site{Host: site.Host, Name: site.Name, Privacy: site.PrivacyMode(), TimeZone: site.Zone(), Local: s.locals[site.Host], Sets: site.Sets()})
	}
	for _, name := range []httpapi.Listener{httpapi.PublicListener, httpapi.AdminListener} {
		c := cfg.Public
		if name == httpapi.AdminListener {
			c = cfg.Admin
		}
		l, err := s.listen(ctx, name, c)
		if err != nil {
			return err
		}
		s.endpoints = append(s.endpoints, endpoint{name: name, secure: c.TLSCertificate != "", listener: l, http: &http.Server{
			Handler: httpapi.New(name, api), ReadHeaderTimeout: c.HeaderTimeout, ReadTimeout: c.Timeout,
			WriteTimeout: c.Timeout, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: c.MaxHeaderBytes,
			ErrorLog: log.New(&withoutAddresses{opt.Log}, "", 0),
		}})
	}
	return nil
}

// noteConfiguration writes into the audit log that the configuration changed.
func (s *Server) noteConfiguration(ctx context.Context) error {
	text, err := json.Marshal(s.opt.Config)
	if err != nil {
		return err
	}
	event, err := access.NewEvent(time.Now(), "configuration changed", access.TheService, fmt.Sprintf("checksum %x", sha256.Sum256(text))[:len("checksum ")+12])
	if err != nil {
		return err
	}
	return s.store.NoteConfiguration(ctx, event)
}

// FirstLink makes a one-time link that opens the console, where nobody has ever
// signed in and no admin key is in force; else it gives "".
func (s *Server) FirstLink(ctx context.Context) (string, error) {
	ever, err := s.sessions.EverSignedIn(ctx)
	if err != nil || ever || s.keys.Any(access.Admin) {
		return "", err
	}
	return s.Link(ctx)
}

// Link makes a one-time link that opens the console within an hour. The secret
// stands behind #, so that it reaches no log.
func (s *Server) Link(ctx context.Context) (string, error) {
	secret, err := s.sessions.Link(ctx)
	return s.URL(httpapi.AdminListener) + "/sign-in#" + secret, err
}

// Key makes a key, and revokes those of the same name.
func (s *Server) Key(ctx context.Context, name string, scope access.Scope) (secret string, err error) {
	all, err := s.keys.List(ctx)
	if err != nil {
		return "", err
	}
	for _, k := range all {
		if k.Name == name && k.Revoked == nil {
			if _, err := s.keys.Revoke(ctx, k.ID, false, access.TheService); err != nil {
				return "", err
			}
		}
	}
	_, secret, err = s.keys.Create(ctx, access.Key{Name: name, Scope: scope, Maker: access.Maker{Name: access.TheService}})
	return secret, err
}

func (s *Server) openStore(ctx context.Context) (err error) {
	url := s.opt.Config.Database.URL
	if url == "" {
		if err := os.MkdirAll(s.opt.Config.DataDir, 0o755); err != nil {
			return fmt.Errorf("data directory: %w", err)
		}
		s.cluster, err = cluster.Start(ctx, s.clusterOptions())
		if err != nil {
			return err
		}
		url = s.cluster.URL()
	}
	s.store, err = store.Open(ctx, url, time.Duration(s.opt.Config.RetentionDays)*24*time.Hour)
	return err
}

func (s *Server) clusterOptions() cluster.Options {
	return cluster.Options{Dir: filepath.Join(s.opt.Config.DataDir, "database"), Log: s.opt.Log, Throwaway: s.opt.Throwaway}
}

// restartAgain is how long to wait before a database is started another time.
const restartAgain = 2 * time.Second

// superviseDatabase starts the private database again where it has ended by
// itself, until ctx ends.
func (s *Server) superviseDatabase(ctx context.Context) {
	for s.cluster != nil {
		select {
		case <-ctx.Done():
			return
		case <-s.cluster.Gone():
		}
		if ctx.Err() != nil {
			return
		}
		s.opt.Log.Error("the private database has ended; it is started again")
		again, err := s.cluster.Restart(ctx, s.clusterOptions())
		for err != nil && ctx.Err() == nil {
			s.opt.Log.Error("the private database does not start; visits wait in the spool", "error", err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(restartAgain):
			}
			again, err = s.cluster.Restart(ctx, s.clusterOptions())
		}
		if err != nil {
			return
		}
		s.private.Lock()
		s.cluster = again
		s.private.Unlock()
	}
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

// Run serves until ctx ends or a listener fails, then stops within the configured grace:
// first the listeners and the requests that run, which may still need the rest, then what
// runs beside them, then the queue, the store and the private database. What did not end
// in time is said, and left to the end of the process.
func (s *Server) Run(ctx context.Context) error {
	group, serving := errgroup.WithContext(ctx)
	for _, d := range s.endpoints {
		group.Go(func() error {
			if err := d.http.Serve(d.listener); !errors.Is(err, http.ErrServerClosed) {
				return fmt.Errorf("the %s listener: %w", d.name, err)
			}
			return nil
		})
	}
	work, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	s.begin(work)
	<-serving.Done()
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), s.opt.Config.ShutdownGrace)
	defer cancel()
	errs := []error{s.stopListening(stop)}
	errs = append(errs, group.Wait())
	end()
	if err := s.jobs.wait(stop); err != nil {
		// What they use must not be closed under them; the process ends in a moment.
		return errors.Join(append(errs, err, s.stopCluster(stop))...)
	}
	return errors.Join(append(errs, s.closeRest(stop))...)
}

// begin starts what runs beside the listeners, until work ends.
func (s *Server) begin(work context.Context) {
	s.work.Store(&work)
	s.jobs.start("keys", func() { s.keys.Run(work) })
	s.jobs.start("sources", func() { s.refreshSources(work) })
	s.jobs.start("the queue of visits", func() { s.intake.Run(work) })
	s.jobs.start("notifications", func() { s.notifier.Run(work, s.store) })
	s.jobs.start("the private database", func() { s.superviseDatabase(work) })
	s.jobs.start("corrections", func() { s.watchCorrections(work) })
	s.jobs.start("content variants", func() { s.watchVariants(work) })
	s.jobs.start("exchange rates", func() { s.rates.Run(work, s.ratesFailed) })
	s.jobs.start("maintenance", func() { s.maintain(work) })
}

// rebuild makes an edition of the configured sources, beside the listeners.
func (s *Server) rebuild() {
	if work := s.work.Load(); work != nil {
		s.jobs.start("a build", func() { _ = s.refresh(*work, true) }) // which is in the log
	}
}

// close stops a server that never ran.
func (s *Server) close(ctx context.Context) error {
	return errors.Join(s.stopListening(ctx), s.closeRest(ctx))
}

// stopListening takes no more connections, and waits for the requests that run.
func (s *Server) stopListening(ctx context.Context) error {
	close(s.stopping)
	errs := make([]error, len(s.endpoints))
	var wait sync.WaitGroup
	for i, d := range s.endpoints {
		wait.Go(func() {
			if err := d.http.Shutdown(ctx); err != nil {
				errs[i] = errors.Join(fmt.Errorf("the %s listener did not stop in time: %w", d.name, err), d.http.Close())
			}
			_ = d.listener.Close() // closed already where it served
		})
	}
	wait.Wait()
	return errors.Join(errs...)
}

// closeRest closes what the listeners used, which nothing does any more.
func (s *Server) closeRest(ctx context.Context) error {
	var errs []error
	if s.intake != nil {
		errs = append(errs, s.intake.Close())
	}
	if s.store != nil {
		s.store.Close()
	}
	return errors.Join(append(errs, s.stopCluster(ctx))...)
}

func (s *Server) stopCluster(ctx context.Context) error {
	s.private.Lock()
	defer s.private.Unlock()
	if s.cluster == nil {
		return nil
	}
	return s.cluster.Stop(ctx)
}
