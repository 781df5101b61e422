// Package rehearsals runs made-up visits from anywhere through the whole pipeline, and stores nothing; on
// request it asks the site itself for the page, with a header that has it answered as if the visitor asked.
package rehearsals

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/refusal"
	"eastporch/internal/core/rehearsal"
	"eastporch/internal/core/signed"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// numbers notes which one-time numbers were used.
type numbers interface {
	UseOnce(ctx context.Context, number string, expires time.Time) (bool, error)
}

// Options says what rehearsals are made of. All of it is required.
type Options struct {
	Cards   *card.Pipeline
	Edition func() *atlas.Atlas
	Marker  visit.Marker
	Gates   Gates
	Signer  *Signer
	Now     func() time.Time
}

// Gates is what rehearsals ask about gates. Both are required.
type Gates struct {
	// Compile compiles rules, or where they are nil the draft of a site; nil where there is none.
	Compile func(ctx context.Context, site string, rules *gate.Rules) (*gate.Set, error)
	// Refer gives the reference of a refusal.
	Refer func(site string, d *gate.Decision, status int, country string) string
}

// Rehearsals is the service. It is safe for concurrent use.
type Rehearsals struct{ opt Options }

// New makes it.
func New(opt Options) *Rehearsals { return &Rehearsals{opt} }

// Bounds of a request.
const (
	maxVisitors = 50
	maxPaths    = 20
	maxVisits   = 200
	maxFetched  = 20 // pages
)

// Run makes up visits. The error is of what is wrong with the request; a visitor who cannot be made up has a
// problem of its own.
func (s *Rehearsals) Run(ctx context.Context, site *sites.Site, req api.RehearsalRequest) (api.Rehearsal, error) {
	begun := time.Now()
	answer := api.Rehearsal{Site: site.Host, Results: []api.Rehearsed{}}
	if err := check(&req); err != nil {
		return answer, err
	}
	gates := site.Local.Gates
	if req.Draft || req.Rules != nil {
		draft, err := s.opt.Gates.Compile(ctx, site.Host, req.Rules)
		if err != nil {
			return answer, err
		}
		if draft != nil {
			gates = draft
		}
	}
	wanted := make([]rehearsal.Place, len(req.Visitors))
	for i, v := range req.Visitors {
		place, err := rehearsal.ParsePlace(v.From)
		if err != nil {
			return answer, invalid.Field(fmt.Sprintf("visitors.%d.from", i), err.Error(), "Give one of these.")
		}
		wanted[i] = place
	}
	found := s.addresses(ctx, wanted)
	for i, v := range req.Visitors {
		at := s.opt.Now()
		if v.At != "" {
			t, err := time.Parse(time.RFC3339, v.At)
			if err != nil || t.Year() < 1971 || t.Year() > 9000 {
				return answer, invalid.Field(fmt.Sprintf("visitors.%d.at", i), fmt.Sprintf("%.40q is not a time", v.At), "Write it like 2026-11-14T06:00:00Z.")
			}
			at = t
		}
		for _, path := range req.Paths {
			if ctx.Err() != nil {
				return answer, ctx.Err()
			}
			result := api.Rehearsed{From: v.From, Path: path, Marks: []string{}, Steps: []gate.Step{}}
			if !found[i].IsValid() && !wanted[i].NotFound {
				result.Problem = plain.Optional(nowhere(&wanted[i]))
				answer.Results = append(answer.Results, result)
				continue
			}
			s.rehearse(&result, site, gates, &v, found[i], at)
			if req.Fetch {
				result.Page = s.page(ctx, site, &v, path, found[i], result.AcceptLanguage)
			}
			status := 0
			if result.Page != nil {
				status = result.Page.Status
			}
			e := rehearsal.Expectation{From: v.From, Path: path, Languages: v.AcceptLanguage, Choice: v.Choice, At: v.At}.Expect(result.Card, status)
			result.Expectation = &e
			answer.Results = append(answer.Results, result)
		}
	}
	answer.TookMs = float64(time.Since(begun).Microseconds()) / 1000
	return answer, nil
}

func check(req *api.RehearsalRequest) error {
	switch {
	case len(req.Visitors) == 0 || len(req.Visitors) > maxVisitors:
		return invalid.Field("visitors", fmt.Sprintf("there are %d", len(req.Visitors)), fmt.Sprintf("Give 1 to %d.", maxVisitors))
	case len(req.Paths) == 0 || len(req.Paths) > maxPaths:
		return invalid.Field("paths", fmt.Sprintf("there are %d", len(req.Paths)), fmt.Sprintf("Give 1 to %d.", maxPaths))
	case len(req.Visitors)*len(req.Paths) > maxVisits:
		return invalid.Field("visitors", fmt.Sprintf("with these paths they make %d visits", len(req.Visitors)*len(req.Paths)), fmt.Sprintf("At most %d are made up at once.", maxVisits))
	case req.Fetch && len(req.Visitors)*len(req.Paths) > maxFetched:
		return invalid.Field("fetch", fmt.Sprintf("it would ask for %d pages", len(req.Visitors)*len(req.Paths)), fmt.Sprintf("At most %d are asked for at once.", maxFetched))
	}
	for i, path := range req.Paths {
		if !strings.HasPrefix(path, "/") || plain.Check(path, visit.MaxPath) != nil || strings.ContainsAny(path, " #") {
			return invalid.Field(fmt.Sprintf("paths.%d", i), fmt.Sprintf("%.80q is not a path", path), "Give a path such as /tickets.")
		}
	}
	for i, v := range req.Visitors {
		for field, text := range map[string]string{"accept_language": v.AcceptLanguage, "user_agent": v.UserAgent, "choice": v.Choice, "link": v.Link} {
			if err := plain.Check(text, 512); err != nil {
				return invalid.Field(fmt.Sprintf("visitors.%d.%s", i, field), err.Error(), "Write it as a browser does.")
			}
		}
		if (v.Latitude == nil) != (v.Longitude == nil) || v.Latitude != nil && !(geo.Point{Latitude: *v.Latitude, Longitude: *v.Longitude}).Valid() {
			return invalid.Field(fmt.Sprintf("visitors.%d.latitude", i), "it is no point with longitude", "Give both, in degrees, or none.")
		}
	}
	return nil
}

func nowhere(p *rehearsal.Place) string {
	if p.Country != nil && p.Town == "" {
		return fmt.Sprintf("No address of this edition is in %s.", p.Country.Name)
	}
	return "No address of this edition fits."
}

// rehearse runs one made-up visit through the pipeline.
func (s *Rehearsals) rehearse(r *api.Rehearsed, site *sites.Site, gates *gate.Set, v *api.RehearsalVisitor, ip netip.Addr, at time.Time) {
	peer, header := s.opt.Cards.Finder.Request(ip)
	trail := s.opt.Cards.Finder.Find(peer, header)
	if trail.Visitor.Addr != addr.Canonical(ip) { // such as a proxy of the owner's
		trail = s.opt.Cards.Finder.Given(ip)
	}
	if trail.Visitor.IsValid() {
		trail.Obtained = caller.ObtainedRehearsed
	}
	if r.AcceptLanguage = v.AcceptLanguage; r.AcceptLanguage == "" {
		located := s.opt.Cards.Found(&trail, nil, card.RequestContext{}, at)
		country, _ := almanac.ByCode(plain.Value(located.Location.CountryCode))
		r.AcceptLanguage = rehearsal.Languages(country)
	}
	made := s.opt.Cards.Found(&trail, map[string][]string{"Accept-Language": {r.AcceptLanguage}}, card.RequestContext{Choice: v.Choice, At: site.Local}, at)
	if v.Latitude != nil {
		made.Locate(geo.Point{Latitude: *v.Latitude, Longitude: *v.Longitude}, nil)
	}
	sub, asked := made.Subject(false), gate.Request{Target: gate.ReadTarget(r.Path), Time: at}
	verdict, steps := gates.Walk(&sub, &asked)
	decision := gates.Explain(&verdict, &sub, made.Evidence)
	made.Gate, r.Steps = &decision, steps
	r.Card, r.Trail = &made, &trail
	r.Marks = append(r.Marks, s.opt.Marker.Marks(plain.Optional(v.UserAgent), made.Labels)...)
	if decision.Outcome == gate.Refuse {
		how := gates.Refusal(plain.Value(decision.Gate))
		r.Refusal = &api.RehearsedRefusal{Status: how.Status, Reference: s.opt.Gates.Refer(site.Host, &decision, how.Status, plain.Value(made.Location.CountryCode))}
		r.Refusal.Language, r.Refusal.Title, r.Refusal.Text = refusal.Subject{
			Site: site.Name, Reference: gate.Reference{CountryCode: plain.Value(made.Location.CountryCode)}, Refusal: how, Accept: r.AcceptLanguage, Default: site.Local.Languages.Default(),
		}.First()
	}
}

// lookFurther bounds how many stretches are looked at for a better address once some are found.
const lookFurther = 20_000

// addresses finds an address for each place, in one pass over the edition: the first that is located to a
// town, or else the first of all. The zero Addr stands for none.
func (s *Rehearsals) addresses(ctx context.Context, places []rehearsal.Place) []netip.Addr {
	found, best := make([]netip.Addr, len(places)), make([]bool, len(places))
	open := 0
	for i := range places {
		p := &places[i]
		switch {
		case p.Address.IsValid() || p.NotFound:
			found[i], best[i] = p.Address, true
		case p.Label != "":
			found[i] = s.opt.Cards.Labels.Example(p.Label)
			best[i] = found[i].IsValid()
		}
		if !best[i] {
			open++
		}
	}
	if open == 0 {
		return found
	}
	since := 0
	now := s.opt.Now()
	s.opt.Edition().Stretches(func(cell addr.Range, f atlas.LookupResult) bool {
		for i := range places {
			if best[i] || found[i].IsValid() && f.Location.Level != atlas.City || !places[i].Fits(&f.Location, &f.Network, f.Labels) {
				continue
			}
			ip := cell.First
			if cell.Contains(ip.Next()) { // so that it does not look like the network's own
				ip = ip.Next()
			}
			c := s.opt.Cards.Card(ip, caller.ObtainedRehearsed, card.RequestContext{}, now) // which the policy may skip
			if !places[i].Fits(&c.Location, &c.Network, c.Labels) || c.Address.Skipped {
				continue
			}
			found[i] = ip
			if best[i] = c.Location.Level == atlas.City || places[i].Unknown; best[i] {
				open--
			}
		}
		if allFound(found) {
			since++
		}
		return open > 0 && since < lookFurther && ctx.Err() == nil
	})
	for i := range places {
		if places[i].Unknown && !found[i].IsValid() {
			found[i] = s.unlocated(now)
		}
	}
	return found
}

func allFound(list []netip.Addr) bool {
	for _, a := range list {
		if !a.IsValid() {
			return false
		}
	}
	return true
}

// unlocated finds an address that is looked up in vain: spread over IPv4, and the documentation's where the
// owner opened them.
func (s *Rehearsals) unlocated(now time.Time) netip.Addr {
	for n := range 4096 {
		for _, a := range []netip.Addr{
			netip.AddrFrom4([4]byte{198, byte(18 + n>>11&1), byte(n >> 3), byte(n<<5 | 1)}), netip.AddrFrom4([4]byte{byte(1 + n%223), byte(n * 7), byte(n >> 4), 1}),
		} {
			if c := s.opt.Cards.Card(a, caller.ObtainedRehearsed, card.RequestContext{}, now); !c.Address.Skipped && c.Location.CountryCode == nil {
				return a
			}
		}
	}
	return netip.Addr{}
}

// A Signer makes the headers of rehearsals, and believes those that come back, each once.
type Signer struct {
	store numbers
	key   []byte
	now   func() time.Time
}

// NewSigner makes one that signs with a key made of a secret.
func NewSigner(store numbers, secret []byte, now func() time.Time) *Signer {
	return &Signer{store, Key(secret), now}
}

// Key is what tokens of rehearsals are signed with, for the middleware of an application.
func Key(secret []byte) []byte { return signed.Key(secret, "rehearsal") }

// Sign makes the header of one request.
func (s *Signer) Sign(t rehearsal.Token) string {
	t.Number, t.Expires = rand.Text(), s.now().Add(rehearsal.Lasts).Unix()
	return signed.Sign(t, s.key)
}

// ErrUsed means that a header was believed before.
var ErrUsed = errors.New("the rehearsal was used before")

// A Request is what a token must be of.
type Request struct{ Site, Scheme, Host, Method, Target string }

// Open reads the header of a request, once: at every instance a second time fails.
func (s *Signer) Open(ctx context.Context, header string, r Request) (p rehearsal.Persona, err error) {
	var t rehearsal.Token
	if err := signed.Open(header, s.key, &t); err != nil {
		return p, err
	}
	if err := t.Fits(r.Site, r.Scheme, r.Host, r.Method, r.Target, s.now()); err != nil {
		return p, err
	}
	fresh, err := s.store.UseOnce(ctx, t.Number, time.Unix(t.Expires, 0).Add(rehearsal.Lasts))
	if err == nil && !fresh {
		err = ErrUsed
	}
	return t.As, err
}

// persona is who asks for a page.
func persona(v *api.RehearsalVisitor, ip netip.Addr, languages string) rehearsal.Persona {
	p := rehearsal.Persona{Languages: languages, Choice: v.Choice}
	if ip.IsValid() {
		p.Address = ip.String()
	}
	if t, err := time.Parse(time.RFC3339, v.At); err == nil {
		p.At = t.Unix()
	}
	return p
}
