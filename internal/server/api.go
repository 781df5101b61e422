package server

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"eastporch/api"
	"eastporch/internal/config"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/report"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/lookup"
	"eastporch/internal/server/metrics"
	"eastporch/internal/server/refused"
	"eastporch/internal/server/store/topics"
	"eastporch/internal/server/visits"
	"eastporch/internal/server/webui"
)

// api makes the services that the HTTP API asks, of what runs.
func (s *Server) api(r *running) (httpapi.Options, error) {
	public, err := s.public(r)
	if err != nil {
		return httpapi.Options{}, err
	}
	recorder, err := s.visits(r)
	if err != nil {
		return httpapi.Options{}, err
	}
	atlas, err := s.atlas(r)
	if err != nil {
		return httpapi.Options{}, err
	}
	return httpapi.Options{
		Public: public, Visits: recorder, Atlas: atlas, Access: s.access(r), Content: s.content(r),
		Service: httpapi.Service{Version: s.opt.Version, Log: s.opt.Log, Now: time.Now, Metrics: s.metrics, Queue: s.intake, Ping: s.store.Ping, Reload: s.Reload, Findings: func() []checkup.Diagnostic {
			return slices.Concat(s.checkCopy(), s.checkAtlas(), s.checkCompanions())
		}},
	}, nil
}

func (s *Server) public(set *running) (httpapi.Public, error) {
	proxies := set.cfg.Proxies
	local, err := localize.New(localize.Options{Cards: set.cards, Rates: s.rates, Groups: set.cfg.CountryGroups(), Now: time.Now})
	return httpapi.Public{
		Cards: set.cards, Watch: s.watch, Sites: set.sites, Localize: local,
		Proxies: httpapi.Proxies{
			Finder: set.finder, Settings: api.ProxySettings{Trusted: append([]string{}, proxies.Trusted...), Header: set.finder.Header(), Hops: proxies.Hops},
			Try: func(p api.ProxySettings) (caller.Finder, error) {
				other := config.Config{Proxies: config.Proxies{Trusted: p.Trusted, Header: p.Header, Hops: p.Hops}}
				return other.Finder(set.labels)
			},
		},
		Handover: httpapi.Handover{Key: s.handoverKey, Lasts: set.cfg.Handover.CookieLasts},
	}, err
}

// settleWithin bounds how long a question waits for visits that were accepted.
const settleWithin = time.Second

func (s *Server) visits(set *running) (_ httpapi.Visits, err error) {
	opt := visits.Options{Cards: set.cards, Store: s.store, Queue: s.intake, Privacy: s.privacy, Sites: set.sites, Marker: set.marker()}
	if s.recorder == nil {
		s.recorder, err = visits.New(opt, time.Now)
	}
	if err != nil {
		return httpapi.Visits{}, err
	}
	return httpapi.Visits{
		Service: s.recorder.With(opt), Reports: report.New(s.store, time.Now), Stored: s.store, Changed: func() <-chan struct{} { return s.changes.Next(topics.Visits) }, Stopping: s.stopping,
		Settle: func(ctx context.Context) {
			ctx, cancel := context.WithTimeout(ctx, settleWithin)
			defer cancel()
			s.links.Settle(ctx)
			s.intake.Settle(ctx)
		},
	}, nil
}

func (s *Server) atlas(set *running) (_ httpapi.Atlas, err error) {
	opt := atlases.Options{Shelf: s.shelf, Workshop: workshop{s, set.labels}, Store: s.store, Documents: s.documents, Now: time.Now, Feeds: s.feeds()}
	if points := set.cfg.Atlas.TestPoints; points != "" {
		opt.TestPoints = s.opt.Input.Path(points)
	}
	if s.atlases == nil {
		if s.atlases, err = atlases.New(opt); err != nil {
			return httpapi.Atlas{}, err
		}
	}
	asked, err := lookup.New(lookup.Options{Cards: set.cards, Edition: s.shelf.Current, Hosts: set.lookUp(), Areas: set.areas, Now: time.Now})
	return httpapi.Atlas{Service: s.atlases.With(opt), Lookup: asked}, err
}

// A workshop changes the edition in use for whoever asks over HTTP.
type workshop struct {
	*Server
	labels map[string][]netip.Prefix
}

func (w workshop) Rebuild() error                             { return w.rebuild() }
func (w workshop) Publish(ctx context.Context) (int64, error) { return w.publish(ctx, w.labels) }

func (s *Server) access(r *running) httpapi.Access {
	cfg := r.cfg
	return httpapi.Access{
		Refused: s.refused, Held: refused.Setting{
			Hosts: cfg.Public.Hosts, VisitorPerSecond: s.opt.Config.Limits.VisitorPerSecond, KeyPerSecond: s.opt.Config.Limits.KeyPerSecond, Keys: s.store.Keys,
		},
		Keys: s.keys, Ring: r.ring, Sessions: s.sessions, Audit: s.store, Limits: s.limits, Installation: s.installation,
		Listeners: map[httpapi.Listener]httpapi.Door{
			httpapi.PublicListener: {Hosts: cfg.HostNames(cfg.Public, true), MaxBody: int64(cfg.Public.MaxBodyBytes)},
			httpapi.AdminListener: {
				Hosts: cfg.HostNames(cfg.Admin, false), MaxBody: int64(cfg.Admin.MaxBodyBytes), Secure: cfg.Admin.TLSCertificate != "", Origins: cfg.Admin.Origins,
			},
		},
	}
}

// newLimits makes the limits of a configuration.
func newLimits(cfg *config.Config) *httpapi.Limits {
	return &httpapi.Limits{
		Keys:     access.NewLimiter(float64(cfg.Limits.KeyPerSecond), 2*cfg.Limits.KeyPerSecond),
		Visitors: access.NewLimiter(float64(cfg.Limits.VisitorPerSecond), 2*cfg.Limits.VisitorPerSecond),
		SignIns:  access.NewLimiter(5.0/60, 5), AllTries: access.NewLimiter(1, 60),
	}
}

func (s *Server) content(set *running) httpapi.Content {
	var areas []string
	for _, area := range set.areas {
		areas = append(areas, area.Name)
	}
	return httpapi.Content{
		Variants: &localize.Variants{
			Documents: s.documents, Known: set.known(), Areas: areas, Labels: set.cfg.LabelNames(), Categories: func(site string) []string { return set.companions[site].Categories() }, Sites: set.sites,
		},
		Gates:      s.gates(set.settings, areas),
		Documents:  s.documents,
		Links:      s.links,
		Companions: s.companions,
		Notices:    s.notices,
		VisitorURL: func() string { return s.URL(httpapi.PublicListener) }, MapLink: set.cfg.MapLink, Console: webui.Handler(),
	}
}

func (s *Server) newMetrics() *metrics.Metrics {
	return metrics.New(metrics.Measured{
		Version: s.opt.Version, Checkup: s.watch, Queue: s.intake.State,
		Pool: func() metrics.PoolState {
			stat := s.store.Stat()
			return metrics.PoolState{InUse: int(stat.AcquiredConns()), Idle: int(stat.IdleConns()), Most: int(stat.MaxConns()), Waited: stat.AcquireDuration()}
		},
		ClicksNotRecorded: s.links.NotRecorded,
		RatesAge: func() (time.Duration, bool) {
			r := s.rates.State().Rates
			return time.Duration(r.AgeDays(time.Now())) * 24 * time.Hour, r.Base != ""
		},
	})
}
