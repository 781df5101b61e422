package server

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/checkup"
	"eastporch/internal/fetch"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/store/topics"
)

// openNotices makes the service of notices, which begins to send when the rest is there.
func (s *Server) openNotices(secret []byte) {
	cfg := s.opt.Config.Notices
	at := func(given string, listener httpapi.Listener) func() string {
		return func() string { return strings.TrimSuffix(cmp.Or(given, s.URL(listener)), "/") }
	}
	s.notices = notices.New(notices.Options{
		Rows: s.store.Notices(), Documents: s.documents, Running: func() *notices.Settings { return s.inUse.Load().notices }, Visits: s.store,
		Lead: s.changes.Lead, Woken: func() <-chan struct{} { return s.changes.Next(topics.Notices) }, Secret: secret, Log: s.opt.Log, Now: time.Now,
		Outside: notices.Outside{
			Post: &fetch.Client{Inside: cfg.SendInside, InsideKey: "notices.send_inside"}, Inside: cfg.SendInside, Secrets: s.secrets(), Count: func(site, channel, outcome string) { s.metrics.Notice(site, channel, outcome) },
			PublicURL: at(cfg.PublicURL, httpapi.PublicListener), ConsoleURL: at(cfg.ConsoleURL, httpapi.AdminListener),
		},
	})
}

// noticeSettings are what notices are written with.
func (s *Server) noticeSettings(r *running, public httpapi.Public) *notices.Settings {
	return &notices.Settings{
		Documents: r.docs, Sites: public.Sites, Cards: public.Cards, Labels: r.cfg.KnowsLabel,
		Companions: func(host string) notices.Companions { return r.companions[host] },
		Findings: func() []checkup.Diagnostic {
			list := slices.Concat(s.watch.Result().Findings, s.checkCompanions(), s.checkCopy(), s.checkAtlas())
			if f, ok := public.Localize.CheckRates(); ok {
				list = append(list, f)
			}
			return list
		},
		Editions: s.waitingEdition,
	}
}

// waitingEdition gives the newest edition that waits to be used, "" for none, and the one in use.
func (s *Server) waitingEdition() (waiting, inUse string) {
	list, err := s.shelf.List()
	if err != nil {
		s.opt.Log.Debug("the editions were not looked at", "error", err)
	}
	for _, e := range list {
		switch e.State {
		case "ready":
			waiting = cmp.Or(waiting, e.Name)
		case "in use":
			inUse = e.Name
		}
	}
	return waiting, inUse
}

// checkCompanions are findings about the companions of all sites.
func (s *Server) checkCompanions() (list []checkup.Diagnostic) {
	r := s.inUse.Load()
	for _, site := range r.cfg.Sites {
		list = append(list, r.companions[site.Host].Check()...)
	}
	return list
}
