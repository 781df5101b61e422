// Package porch finds the visitor of net/http requests behind proxies, and says
// where the visitor is, in any Go program. It is the small, stable face of the
// same pipeline that the service runs.
//
//	porch, err := porch.New(porch.Options{Proxies: porch.Proxies{Trusted: []string{"10.0.0.0/8"}}})
//	…
//	address, ok := porch.Visitor(r)
//
// Nothing is trusted by default: the other end of the connection is the
// visitor, and headers are not believed.
package porch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/rehearsal"
	editionfile "eastporch/internal/files/edition"
)

// Options say whom a Porch trusts and what it knows. The zero Options trust
// nobody and know no place.
type Options struct {
	Proxies Proxies
	// Open are prefixes that are looked up although their addresses are special.
	Open []string
	// Geofeed is range data (RFC 8805) that cards are made with; it is read
	// once. nil leaves location open.
	Geofeed io.Reader
	// Edition is an edition file of eastporch atlas build, in place of a geofeed. It
	// is used in place: replace it by renaming another over it, never by writing into
	// it, and make another Porch to use that.
	Edition string
	// Site is what the site offers, and whom it admits.
	Site Site
}

// A Site is what a site offers, and whom it admits. The zero Site is open to all.
type Site struct {
	// Host and Name are the site's, such as heronlake.example and Heron Lake Regatta.
	Host, Name string
	// Languages are those that the site has (BCP 47), none for any; Default stands
	// where no other suits, the first of them where it is "".
	Languages []string
	Default   string
	// Gates are its rules, as eastporch gate show --file writes them; nil admits
	// everybody. An owner's pass is only known to the service, and counts are only kept there.
	Gates io.Reader
	// Labels, Groups and Areas (GeoJSON) are what rules may name beside countries.
	Labels map[string][]string // prefixes by name; none for a label of the edition's own
	Groups map[string][]string // country codes by name
	Areas  io.Reader
	// RehearsalKey believes the rehearsals of a service: it stands in the service's data
	// directory as keys/rehearsal.key. nil believes none. Each is believed once by this Porch.
	RehearsalKey []byte
}

// Proxies are those that requests come through. The zero Proxies trust nobody.
type Proxies struct {
	// Trusted are their prefixes, or "unix" for peers that connect through a Unix socket.
	Trusted []string
	// Header is the one header that they write; "" is X-Forwarded-For. Forwarded (RFC
	// 7239) is read by its grammar, any other name as a single address.
	Header string
	// Hops, where it is not 0, counts them, the nearest included.
	Hops int
}

// A Porch finds visitors. It is immutable and safe for concurrent use.
type Porch struct {
	finder   caller.Finder
	pipeline card.Pipeline
	local    *card.Local
	site     Site
	used     *rehearsal.Once
}

// New makes a Porch. The error says which option does not fit.
func New(opt Options) (*Porch, error) {
	s := caller.Settings{Header: opt.Proxies.Header, Hops: opt.Proxies.Hops}
	for _, text := range opt.Proxies.Trusted {
		if text == "unix" {
			s.Unix = true
			continue
		}
		p, err := addr.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("trusted: %w", err)
		}
		s.Trusted = append(s.Trusted, caller.TrustedRange{Prefix: p})
	}
	finder, err := caller.New(s)
	if err != nil {
		return nil, err
	}
	var rules []addr.Rule
	for _, text := range opt.Open {
		p, err := addr.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("open: %w", err)
		}
		rules = append(rules, addr.Rule{Prefix: p, Action: addr.Resolve})
	}
	edition := atlas.New()
	switch {
	case opt.Edition != "" && opt.Geofeed != nil:
		return nil, errors.New("edition and geofeed are both given: give one of them")
	case opt.Edition != "":
		if edition, err = editionfile.Open(opt.Edition); err != nil {
			return nil, err
		}
	case opt.Geofeed != nil:
		source, err := source.ReadGeofeed(opt.Geofeed, atlas.About{Name: "geofeed", Rank: 1})
		if err != nil {
			return nil, err
		}
		edition = atlas.New(source)
	}
	p := &Porch{finder: finder, local: card.Anywhere(), site: opt.Site, used: rehearsal.NewOnce()}
	p.pipeline.Finder, p.pipeline.Policy, p.pipeline.Atlas = finder, addr.NewPolicy(rules...), edition
	if p.local.Languages, err = locale.NewLanguages(opt.Site.Languages, opt.Site.Default); err != nil {
		return nil, fmt.Errorf("languages: %w", err)
	}
	return p, p.openGates()
}

// Visitor gives the address of whoever made a request; ok is false where it was
// not found, which is no reason to believe anything else.
func (p *Porch) Visitor(r *http.Request) (address netip.Addr, ok bool) {
	address, _ = p.finder.Address(peer(r), r.Header)
	return address, address.IsValid()
}

// Trail explains how the visitor of a request was found.
func (p *Porch) Trail(r *http.Request) Trail {
	found := p.finder.Find(peer(r), r.Header)
	return trailOf(&found)
}

// ChoiceCookie holds the language that a visitor chose, which wins; porch.js sets it.
const ChoiceCookie = handover.ChoiceCookie

// Card makes the card of whoever made a request.
func (p *Porch) Card(r *http.Request) Card {
	made := p.card(r)
	return cardOf(&made)
}

func (p *Porch) card(r *http.Request) card.Card {
	made, _ := p.pipeline.Visitor(peer(r), r.Header, p.context(r), time.Now())
	return made.In(made.Locale.Language)
}

func (p *Porch) context(r *http.Request) card.RequestContext {
	target := gate.ReadTarget(targetOf(r))
	req := card.RequestContext{At: p.local, Target: &target}
	if cookie, err := r.Cookie(ChoiceCookie); err == nil {
		req.Choice = cookie.Value
	}
	return req
}

// OpenCookie reads the signed cookie porch_facts of the service's handover, with the key
// that stands in the service's data directory as keys/handover.key. The error says why it
// is not to be believed.
func OpenCookie(value string, key []byte) (Facts, error) {
	facts, err := handover.Open(value, key, time.Now())
	return factsOf(&facts), err
}

type contextKey struct{}

// Middleware puts the card of each request's visitor into its context, where
// [FromContext] finds it, and its codes into header fields of the request, such as
// Porch-Country-Code. What came from outside under such a name is removed, in every spelling
// that an application server may read as it, and so are other spellings of X-Forwarded-For,
// Forwarded and X-Real-IP, those of them that no trusted proxy wrote, and options of
// Connection that name a field of ours. Whom a gate refuses is shown the page of refusal,
// with the gate's status, before next is asked. A rehearsal of the service is answered as if
// its visitor asked: the card says that it is one, and no visit is to be recorded.
func (p *Porch) Middleware(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		made, rehearsed := p.rehearsed(r)
		if !rehearsed {
			made = p.card(r)
		}
		handed := cardOf(&made)
		handed.Rehearsed = rehearsed
		if rehearsed {
			w.Header().Set(rehearsal.Header, "1")
			w.Header().Set("Cache-Control", "no-store")
		}
		if made.Gate != nil && made.Gate.Outcome == gate.Refuse {
			p.refuse(w, r, &made)
			return
		}
		r = r.WithContext(context.WithValue(r.Context(), contextKey{}, handed))
		r.Header = r.Header.Clone() // which is the caller's
		p.clean(r)
		for i, value := range handover.Of(&made).Values() {
			if value != "" {
				r.Header.Set(handover.Fields[i], value)
			}
		}
		next.ServeHTTP(w, r)
	})
}

// clean removes from a request what only proxies and we may write.
func (p *Porch) clean(r *http.Request) {
	trusted := p.finder.Trusts(peer(r))
	for name := range r.Header {
		forwarding := name == "X-Forwarded-For" || name == "Forwarded" || name == "X-Real-Ip"
		if handover.Forged(name) || forwarding && (!trusted || name != p.finder.Header()) {
			delete(r.Header, name)
		}
	}
	if options, ok := r.Header["Connection"]; ok {
		delete(r.Header, "Connection")
		for _, line := range options {
			for option := range strings.SplitSeq(line, ",") {
				if strings.EqualFold(strings.TrimSpace(option), "upgrade") {
					r.Header.Set("Connection", "Upgrade")
				}
			}
		}
	}
}

// FromContext gives the card that [Porch.Middleware] put into a context.
func FromContext(ctx context.Context) (card Card, ok bool) {
	card, ok = ctx.Value(contextKey{}).(Card)
	return card, ok
}

// peer is the other end of the connection; the zero Addr for a Unix socket.
func peer(r *http.Request) netip.Addr {
	return caller.PeerOf(r.RemoteAddr)
}
