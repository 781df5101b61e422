package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"eastporch/internal/config"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/card"
	"eastporch/internal/core/document"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/httpapi"
	"eastporch/internal/server/links"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/visits"
)

// parts are what a running is made of, each of which changes by itself.
type parts struct {
	*settings               // when the configuration is reloaded
	docs      *document.Set // when an owner saves or drops something, here or at another instance
	rates     locale.Rates  // when they are read
	ring      *access.Ring  // when a key is made or revoked
}

// running is all that a request meets, and what is made of it. It never changes: another is exchanged for it, all of it or
// nothing, so that a request meets one from its beginning to its end.
type running struct {
	parts
	sites      *sites.Sites
	companions map[string]*companions.Site // by the sites' hosts
	links      *links.Book
	recorder   *visits.Visits
	notices    *notices.Settings
	kinds      map[document.Kind]documents.Kind
	handlers   map[httpapi.Listener]http.Handler
}

// exchange makes the next running of the parts of the one in use, which change changes, and puts it in its place when
// nothing can fail any more. Everything that changes what runs goes this way, one after the other.
func (s *Server) exchange(change func(next *parts)) error {
	s.exchanging.Lock()
	defer s.exchanging.Unlock()
	before := s.inUse.Load()
	next := before.parts
	change(&next)
	if !s.complete { // the parts are still gathered
		s.inUse.Store(&running{parts: next})
		return nil
	}
	made, err := s.make(next, before)
	if err != nil {
		return err
	}
	if next.docs.Change(document.Correction) != before.docs.Change(document.Correction) || before.handlers == nil {
		if err := s.correct(next.docs); err != nil {
			return err
		}
	}
	s.inUse.Store(made)
	s.companions.Use(made.companions)
	return nil
}

// beginRunning has all parts gathered, and makes the first running of them.
func (s *Server) beginRunning() error {
	s.exchanging.Lock()
	s.complete = true
	s.exchanging.Unlock()
	return s.exchange(func(*parts) {})
}

// correct puts the owner's corrections before all sources.
func (s *Server) correct(docs *document.Set) error {
	list, err := atlases.Corrected(docs)
	if err != nil {
		s.opt.Log.Error("a correction cannot be read", "error", err)
	}
	first, err := source.Corrected(list)
	if err != nil {
		return fmt.Errorf("corrections: %w", err)
	}
	s.shelf.Correct(first)
	return nil
}

// take puts revisions of documents into what runs.
func (s *Server) take(_ context.Context, list []document.Document) error {
	return s.exchange(func(next *parts) { next.docs = next.docs.With(list) })
}

// make makes a running, and changes nothing of what runs.
func (s *Server) make(of parts, before *running) (*running, error) {
	r := &running{parts: of, companions: map[string]*companions.Site{}, handlers: map[httpapi.Listener]http.Handler{}}
	var list []sites.Site
	for _, site := range of.cfg.Sites {
		r.companions[site.Host] = s.companions.Site(of.docs, site.Host, site.Zone())
		list = append(list, sites.Site{
			Host: site.Host, Name: site.Name, Privacy: site.PrivacyMode(), TimeZone: site.Zone(), Local: s.local(&of, &site, r.companions[site.Host]), Sets: site.Sets(), Origin: site.Origin(),
			Inside: site.FetchInside, Refusal: of.refusals[site.Host], LinkHosts: site.LinkHosts, Missing: of.missing[site.Host],
		})
	}
	r.sites = sites.New(list...)
	r.links = s.links.Book(of.docs, r.sites, before.links)
	opts, err := s.api(r)
	if err != nil {
		return nil, err
	}
	r.recorder, r.notices = opts.Visits.Service, s.noticeSettings(r, opts.Public)
	ofNotices, ofChannels := s.notices.Kinds()
	r.kinds = map[document.Kind]documents.Kind{
		document.Gate: opts.Content.Gates.Rules.Kind(), document.Link: s.links.Kind(), document.Companion: s.companions.Kind(), document.Notice: ofNotices, document.Channel: ofChannels,
		document.Variants: opts.Content.Variants.Kind(), document.Correction: opts.Atlas.Service.Kind(),
	}
	for _, name := range []httpapi.Listener{httpapi.PublicListener, httpapi.AdminListener} {
		if r.handlers[name], err = httpapi.New(name, opts); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// local is what a site offers by where visitors are. What is stored and cannot be used is said, and left out: it names what
// the configuration has no more.
func (s *Server) local(of *parts, site *config.Site, beside *companions.Site) *card.Local {
	host := site.Host
	l := &card.Local{Languages: of.languages[host], Hours: site.Hours(), Currency: strings.ToUpper(site.Currency), Endings: site.Endings(), Companions: beside}
	l.SetRates(of.rates)
	stored, err := localize.Stored(of.docs, host)
	l.Variants = variant.New(slices.Concat(site.Sets(), stored), of.cfg.CountryGroups(), of.areas)
	rev, wrong := gates.Rules(of.docs, host)
	if err = errors.Join(err, wrong); err != nil {
		s.opt.Log.Error("what an owner wrote cannot be read", "site", host, "error", err)
	}
	if rev.Revision == 0 {
		return l
	}
	known := of.gateNames()
	if _, findings := gate.Check(rev.Rules, known, true, time.Now()); len(findings) > 0 {
		if f, bad := gate.Wrong(findings); bad {
			s.opt.Log.Error("a gate's rules need to be mended; who such a rule is about counts as unknown", "site", host, "field", f.Field, "reason", f.Text)
		}
	}
	l.Gates = gate.New(rev.Rules, known)
	return l
}
