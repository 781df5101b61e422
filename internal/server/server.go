// Package server is the long-running process: it builds every part from the
// configuration, runs them and stops them.
package server

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/config"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/document"
	"eastporch/internal/editions"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/cluster"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/heap"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/intake"
	"eastporch/internal/server/lastknown"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/links"
	"eastporch/internal/server/metrics"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/privacy"
	"eastporch/internal/server/rates"
	"eastporch/internal/server/refused"
	"eastporch/internal/server/rehearsals"
	"eastporch/internal/server/store"
	"eastporch/internal/server/store/topics"
	"eastporch/internal/server/visits"
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
	opt     Options
	private sync.Mutex       // is held while cluster changes
	cluster *cluster.Cluster // nil where the owner has a database
	store   *store.Store
	copy    *lastknown.Copy // of what the database said last
	privacy *privacy.Keys
	intake  *intake.Intake
	changes *store.Watch // of the database
	// stopping is closed when the server begins to stop.
	stopping chan struct{}
	// inUse is all that requests meet; exchanging is held while another is put in its place, which is made whole once all
	// parts are there, and reloading while the configuration is read anew.
	inUse      atomic.Pointer[running]
	exchanging sync.Mutex
	complete   bool
	reloading  sync.Mutex
	documents  *documents.Documents
	rates      *rates.Feed
	shelf      *editions.Shelf
	recorder   *visits.Visits   // whose memory all that run share
	atlases    *atlases.Atlases // likewise
	endpoints  []*endpoint
	stages     *lifecycle.Stages
	jobs       *lifecycle.Stage // what runs beside the listeners

	watch    *checkup.Watch
	keys     *access.Keys
	sessions *access.Sessions
	limits   *httpapi.Limits
	refused  *refused.Counter // counts requests that are refused
	metrics  *metrics.Metrics

	links      *links.Links
	companions *companions.Companions
	notices    *notices.Notices
	counter    *gates.Counter
	signer     *rehearsals.Signer

	handoverKey  []byte
	installation uuid.UUID
}

// Open reads the atlas, starts or connects to the database and listens. What
// was opened is closed again where a later part fails.
func Open(ctx context.Context, opt Options) (*Server, error) {
	s := &Server{opt: opt, stages: lifecycle.New(), stopping: make(chan struct{})}
	set, err := s.settle(opt.Config)
	if err == nil {
		s.inUse.Store(&running{parts: parts{settings: set}})
		s.watch = checkup.NewWatch(set.finder, set.whole(), time.Now().UTC())
		err = s.openShelf(ctx)
	}
	if err == nil {
		err = s.openStore(ctx)
	}
	if err == nil {
		err = s.openIntake()
	}
	if err == nil {
		s.openRates(ctx)
		s.openCompanions()
		s.openLinks()
		err = s.openListeners(ctx)
	}
	if err != nil {
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), opt.Config.ShutdownGrace)
		defer cancel()
		return nil, errors.Join(err, s.stages.Close(stop))
	}
	return s, nil
}

// openListeners makes the API and listens.
func (s *Server) openListeners(ctx context.Context) (err error) {
	opt, cfg := s.opt, s.opt.Config
	s.jobs = s.stages.Add("background jobs", nil)
	listeners := s.stages.Add("the listeners", func(context.Context) error {
		for _, d := range s.endpoints {
			_ = d.listener.Close() // closed already where it served
		}
		return nil
	})
	if s.keys, err = access.NewKeys(ctx, copiedKeys{s.store, s.copy}, opt.Log, time.Now); err != nil {
		return err
	}
	s.keys.Use(func(ring *access.Ring) error { return s.exchange(func(next *parts) { next.ring = ring }) })
	if err = s.exchange(func(next *parts) { next.ring = s.keys.Ring() }); err != nil {
		return err
	}
	s.sessions = access.NewSessions(s.store, time.Now)
	if err := s.catchUp(ctx); err != nil {
		return err
	}
	if s.handoverKey, err = s.privacy.Lasting("handover"); err != nil {
		return err
	}
	if s.installation, err = s.installationID(ctx); err != nil {
		return err
	}
	s.limits, s.metrics, s.refused = newLimits(cfg), s.newMetrics(), refused.New(s.store, opt.Log, time.Now)
	if err := s.openGates(ctx); err != nil {
		return err
	}
	if err := s.documents.Read(ctx); err != nil {
		return err
	}
	if err := s.bindAll(ctx, waiting()); err != nil {
		return err
	}
	if err := s.beginRunning(); err != nil {
		return err
	}
	for _, d := range s.endpoints {
		s.begin(listeners, fmt.Sprintf("the %s listener", d.name), func(ctx context.Context) error { return d.run(ctx, cfg.ShutdownGrace*3/4) })
	}
	s.begin(listeners, "streams", func(ctx context.Context) error {
		<-ctx.Done()
		close(s.stopping)
		return nil
	})
	s.begin(s.jobs, "keys", func(ctx context.Context) error {
		return s.keys.Run(ctx, func() <-chan struct{} { return s.changes.Next(topics.Keys) })
	})
	s.begin(s.jobs, "refused requests", s.refused.Run)
	s.begin(s.jobs, "exchange rates", func(ctx context.Context) error { return s.rates.Run(ctx, s.opt.Config.Rates.Refresh, s.ratesFailed) })
	s.begin(s.jobs, "sources", s.refreshSources)
	s.begin(s.jobs, "links", s.countLinks)
	for topic, read := range map[topics.Topic]func(context.Context) error{topics.Documents: s.documents.Read, topics.Links: s.links.ReadCounts, topics.Companions: s.companions.ReadSpent} {
		s.begin(s.jobs, "what is told of "+string(topic), func(ctx context.Context) error { return s.changes.On(ctx, topic, s.logged(topic, read)) })
	}
	s.begin(s.jobs, "notices", s.notices.Run)
	s.begin(s.jobs, "maintenance", s.maintain)
	return nil
}

// logged says in the log where something is not read that was told of.
func (s *Server) logged(topic topics.Topic, read func(context.Context) error) func(context.Context) error {
	return func(ctx context.Context) error {
		err := read(ctx)
		if err != nil && ctx.Err() == nil {
			s.opt.Log.Debug("what has changed is not read yet", "topic", topic, "error", err)
		}
		return err
	}
}

// begin has a part run with a stage, which does not stop yet.
func (s *Server) begin(stage *lifecycle.Stage, name string, run func(context.Context) error) {
	if err := stage.Go(name, run); err != nil {
		s.opt.Log.Debug("not begun", "part", name, "reason", err)
	}
}

// noteConfiguration writes into the audit log that the configuration changed.
func (s *Server) noteConfiguration(ctx context.Context) error {
	text, err := json.Marshal(s.inUse.Load().cfg)
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
	if err != nil || ever || s.keys.Ring().Any(access.Admin) {
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
		s.begin(s.stages.AddProcess("the private database", s.stopCluster), "the private database", s.superviseDatabase)
		url = s.cluster.URL()
	}
	if s.store, err = store.New(ctx, url, time.Duration(s.opt.Config.RetentionDays)*24*time.Hour); err != nil {
		return err
	}
	stage := s.stages.Add("the store", func(context.Context) error { s.store.Close(); return nil })
	s.openCopy(url)
	if err := s.prepare(ctx, stage); err != nil {
		return err
	}
	s.changes = s.store.NewWatch()
	s.begin(stage, "notifications", s.changes.Run)
	s.documents = documents.New(documents.Options{
		Rows: &copiedDocuments{Documents: s.store.Documents(), copy: s.copy}, Set: func() *document.Set { return s.inUse.Load().docs }, Take: s.take,
		Kind: func(kind document.Kind) documents.Kind { return s.inUse.Load().kinds[kind] }, Now: time.Now,
	})
	return nil
}

// databaseDir is where the private database is.
func databaseDir(cfg *config.Config) string { return filepath.Join(cfg.DataDir, "database") }

// DatabaseURL is the address of the private database of a configuration, for tools: see
// [cluster.ToolURL].
func DatabaseURL(cfg *config.Config, write bool) (string, error) {
	return cluster.ToolURL(databaseDir(cfg), write)
}

func (s *Server) clusterOptions() cluster.Options {
	return cluster.Options{Dir: databaseDir(s.opt.Config), Log: s.opt.Log, Throwaway: s.opt.Throwaway}
}

// restartAgain is how long to wait before a database is started another time.
const restartAgain = 2 * time.Second

// trimEvery is how often the log of the private database is looked at.
const trimEvery = time.Minute

// superviseDatabase starts the private database again where it has ended by
// itself, until ctx ends.
func (s *Server) superviseDatabase(ctx context.Context) error {
	trim := time.NewTicker(trimEvery)
	defer trim.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-trim.C:
			if err := s.cluster.TrimLog(); err != nil {
				s.opt.Log.Warn("the log of the private database was not shortened", "error", err)
			}
			continue
		case <-s.cluster.Gone():
		}
		if ctx.Err() != nil {
			return nil
		}
		s.opt.Log.Error("the private database has ended; it is started again")
		again, err := s.cluster.Restart(ctx, s.clusterOptions())
		for err != nil && ctx.Err() == nil {
			s.opt.Log.Error("the private database does not start; visits wait in the spool", "error", err)
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(restartAgain):
			}
			again, err = s.cluster.Restart(ctx, s.clusterOptions())
		}
		if err != nil { // ctx has ended
			return nil
		}
		s.private.Lock()
		s.cluster = again
		s.private.Unlock()
	}
}

// Run serves until ctx ends or a part fails, then stops within the configured grace: first
// the listeners and the requests that run, which may still need the rest, then what runs beside
// them, then the queue, the store and the private database. What did not end in time is said,
// and left to the end of the process.
func (s *Server) Run(ctx context.Context) error {
	heap.KeepRoom(heap.Room)
	return s.stages.Run(ctx, s.opt.Config.ShutdownGrace)
}

// rebuild makes an edition of the configured sources, beside the listeners. The error is
// [editions.ErrBusy] while one is built.
func (s *Server) rebuild() error {
	build, err := s.shelf.Begin(s.inUse.Load().sources)
	if err != nil {
		return err
	}
	err = s.jobs.Go("a build", func(ctx context.Context) error {
		_ = s.built(build(ctx, true, s.inUse.Load().cfg.Atlas.Activate == "auto")) // which is in the log
		return nil
	})
	if err != nil {
		_, _ = build(stopped(), true, false) // ends it
	}
	return err
}

// stopped gives a context that has ended.
func stopped() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return ctx
}

func (s *Server) stopCluster(ctx context.Context) error {
	s.private.Lock()
	defer s.private.Unlock()
	if s.cluster == nil {
		return nil
	}
	return s.cluster.Stop(ctx)
}
