package server

import (
	"context"
	"net/netip"
	"time"

	"eastporch/api"
	"eastporch/internal/config"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/report"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/lookup"
	"eastporch/internal/server/metrics"
	"eastporch/internal/server/refused"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/visits"
	"eastporch/internal/server/webui"
)

// api makes the services that the HTTP API asks, of the parts that are open.
func (s *Server) api(set *settings, known *sites.Sites) (httpapi.Options, error) {
	cfg := set.cfg
	cards := &card.Pipeline{Finder: set.finder, Policy: addr.NewPolicy(cfg.Rules()...), Labels: addr.NewLabels(set.labels), Translators: cfg.Translators(), Places: set.places, NotFound: cfg.NotFound, Atlas: s.shelf}
	public, err := s.public(set, cards, known)
	if err != nil {
		return httpapi.Options{}, err
	}
	recorder, err := s.visits(set, cards, known)
	if err != nil {
		return httpapi.Options{}, err
	}
	atlas, err := s.atlas(set, cards)
	if err != nil {
		return httpapi.Options{}, err
	}
	return httpapi.Options{
		Public: public, Visits: recorder, Atlas: atlas, Access: s.access(cfg), Content: s.content(set, cards),
		Service: httpapi.Service{Version: s.opt.Version, Log: s.opt.Log, Now: time.Now, Metrics: s.metrics, Queue: s.intake, Ping: s.store.Ping, Reload: s.Reload, Findings: func() []checkup.Diagnostic { return append(s.checkCopy(), s.checkAtlas()...) }},
	}, nil
}

func (set *settings) sites() *sites.Sites {
	var list []sites.Site
	for _, site := range set.cfg.Sites {
		list = append(list, sites.Site{Host: site.Host, Name: site.Name, Privacy: site.PrivacyMode(), TimeZone: site.Zone(), Local: set.locals[site.Host], Sets: site.Sets(), Origin: site.Origin(), Inside: site.FetchInside, Refusal: set.refusals[site.Host], LinkHosts: site.LinkHosts, Missing: set.missing[site.Host]})
	}
	return sites.New(list...)
}

func (s *Server) public(set *settings, cards *card.Pipeline, known *sites.Sites) (httpapi.Public, error) {
	proxies := set.cfg.Proxies
	local, err := localize.New(localize.Options{Cards: cards, Rates: s.rates, Groups: set.cfg.CountryGroups(), Now: time.Now})
	return httpapi.Public{
		Cards: cards, Watch: s.watch, Sites: known, Localize: local,
		Proxies: httpapi.Proxies{
			Finder: cards.Finder, Settings: api.ProxySettings{Trusted: append([]string{}, proxies.Trusted...), Header: cards.Finder.Header(), Hops: proxies.Hops},
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

func (s *Server) visits(set *settings, cards *card.Pipeline, known *sites.Sites) (httpapi.Visits, error) {
	service, err := visits.New(visits.Options{Cards: cards, Store: s.store, Queue: s.intake, Privacy: s.privacy, Sites: known, Marker: set.marker()}, time.Now)
	return httpapi.Visits{
		Service: service, Reports: report.New(s.store, time.Now), Stored: s.store, Changed: s.notifier.Next, Stopping: s.stopping,
		Settle: func(ctx context.Context) {
			ctx, cancel := context.WithTimeout(ctx, settleWithin)
			defer cancel()
			s.links.Settle(ctx)
			s.intake.Settle(ctx)
		},
	}, err
}

func (s *Server) atlas(set *settings, cards *card.Pipeline) (httpapi.Atlas, error) {
	opt := atlases.Options{Shelf: s.shelf, Workshop: workshop{s, set.labels}, Store: s.store, Now: time.Now, Feeds: s.feeds()}
	if points := set.cfg.Atlas.TestPoints; points != "" {
		opt.TestPoints = s.opt.Input.Path(points)
	}
	service, err := atlases.New(opt)
	if err != nil {
		return httpapi.Atlas{}, err
	}
	asked, err := lookup.New(lookup.Options{Cards: cards, Edition: s.shelf.Current, Hosts: set.lookUp(), Areas: set.areas, Now: time.Now})
	return httpapi.Atlas{Service: service, Lookup: asked}, err
}

// A workshop changes the edition in use for whoever asks over HTTP.
type workshop struct {
	*Server
	labels map[string][]netip.Prefix
}

func (w workshop) Rebuild() error                             { return w.rebuild() }
func (w workshop) Recorrect(ctx context.Context) error        { return w.recorrect(ctx) }
func (w workshop) Publish(ctx context.Context) (int64, error) { return w.publish(ctx, w.labels) }

func (s *Server) access(cfg *config.Config) httpapi.Access {
	return httpapi.Access{
		Refused: s.refused, Held: refused.Setting{
			Hosts: cfg.Public.Hosts, VisitorPerSecond: s.opt.Config.Limits.VisitorPerSecond, KeyPerSecond: s.opt.Config.Limits.KeyPerSecond, Keys: s.store.Keys,
		},
		Keys: s.keys, Sessions: s.sessions, Audit: s.store, Limits: s.limits, Installation: s.installation,
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

func (s *Server) content(set *settings, cards *card.Pipeline) httpapi.Content {
	var areas []string
	for _, area := range set.areas {
		areas = append(areas, area.Name)
	}
	return httpapi.Content{
		Variants:   &localize.Variants{Store: s.store, Known: set.known(), Areas: areas, Labels: set.cfg.LabelNames(), Revary: s.revary, Now: time.Now, Categories: func(site string) []string { return s.companions.Of(site).Categories() }},
		Gates:      s.gates(set, cards, areas),
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
