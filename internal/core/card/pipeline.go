package card

import (
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/variant"
)

// A Pipeline turns request facts into cards. It is immutable and safe for
// concurrent use.
type Pipeline struct {
	Finder caller.Finder
	Policy addr.Policy
	Labels addr.Labels
	// Translators are the owner's NAT64 prefixes.
	Translators []netip.Prefix
	// NotFound is the placeholder of visitors who were not found; "" for none.
	NotFound string
	// Places are where visits count whose addresses a rule skips, by the rule's placeholder: what
	// the owner said, and never what was looked up.
	Places map[string]*atlas.LookupResult
	// Atlas gives the edition in use, which may change: each card comes from one.
	Atlas interface{ Current() *atlas.Atlas }

	once       sync.Once
	anywhere   *Local           // used where no site is known
	embeddings []addr.Embedding // which addresses carry another
	clocks     *locale.Clocks
}

// ready makes at first use what follows from the fields.
func (p *Pipeline) ready() *Pipeline {
	p.once.Do(func() {
		p.anywhere, p.embeddings, p.clocks = Anywhere(), addr.Embeddings(p.Translators...), locale.NewClocks()
	})
	return p
}

// A RequestContext is what is known of whoever a card is for, beside the address. The zero RequestContext
// is of no site and asks for nothing.
type RequestContext struct {
	Choice         string // the language that was chosen before, BCP 47
	AcceptLanguage string
	PricesIn       []string // currencies that prices are in beside the site's own, ISO 4217
	At             *Local   // the site's; nil for none
	// Target is what was asked for, which the site's gates decide about; nil for nothing. Pass says that
	// the browser has an owner's pass.
	Target *gate.Target
	Pass   bool
	// Ask has the site's companions asked where they have no fresh answer; the card does not wait for them.
	Ask bool
}

// Visitor finds the visitor of a request and makes its card. The header's keys
// are canonical and decide the languages that are asked for; now decides the clock.
func (p *Pipeline) Visitor(peer netip.Addr, header map[string][]string, req RequestContext, now time.Time) (Card, caller.Trail) {
	trail := p.Finder.Find(peer, header)
	return p.Found(&trail, header, req, now), trail
}

// Found is [Pipeline.Visitor] where the visitor was found before.
func (p *Pipeline) Found(trail *caller.Trail, header map[string][]string, req RequestContext, now time.Time) Card {
	req.AcceptLanguage = first(header["Accept-Language"])
	card := p.Card(trail.Visitor.Addr, trail.Obtained, req, now)
	if !trail.Visitor.IsValid() {
		card.Address.Reason = &trail.Reason
	}
	return card
}

// Given is [Pipeline.Visitor] for an address that is known to be the visitor's. Of the
// header only the languages are read.
func (p *Pipeline) Given(a netip.Addr, header map[string][]string, req RequestContext, now time.Time) (Card, caller.Trail) {
	trail := p.Finder.Given(a)
	return p.Found(&trail, header, req, now), trail
}

// Card makes the card of an address. The zero Addr stands for a visitor who
// was not found. An address that the policy skips is never looked up.
func (p *Pipeline) Card(a netip.Addr, obtained string, req RequestContext, now time.Time) Card {
	card, _ := p.card(p.Atlas.Current(), a, obtained, req, now)
	return card
}

// Localize fills the locale, clock, money and variants of a card for somebody who is in
// a country, which may be nil, and in a time zone: "" is the country's, if it has one.
func (p *Pipeline) Localize(country *almanac.Country, zone string, req RequestContext, now time.Time) Card {
	if zone == "" && country != nil && len(country.Zones) == 1 {
		zone = country.Zones[0]
	}
	card := Card{}
	card.Location.TimeZone = plain.Optional(zone)
	p.localize(&card, country, req, now)
	return card
}

// Why is [Pipeline.Card] for an address that somebody asked for, with every range
// of every source that holds it as evidence, all of them of one edition.
func (p *Pipeline) Why(a netip.Addr, req RequestContext, now time.Time) Card {
	edition := p.Atlas.Current()
	card, subject := p.card(edition, a, caller.ObtainedGiven, req, now)
	if subject.IsValid() {
		card.Evidence = edition.Why(subject)
	}
	return card
}

// Subject is who an address is to gates, with the evidence of where it is: what the card would say, and no
// more of it than that.
func (p *Pipeline) Subject(a netip.Addr) (gate.Subject, []atlas.Evidence) {
	edition := p.Atlas.Current()
	a = addr.Canonical(a)
	of, labels := Address{Text: addr.Optional{Addr: a}}, p.Labels.Of(a)
	found := &nothing
	if looked := p.admit(&of, a); looked.IsValid() {
		found = edition.Lookup(looked)
		labels = joined(labels, found.Labels)
	} else if at := p.Places[plain.Value(of.Placeholder)]; at != nil {
		found = at
	}
	return subject(&of, &found.Location, &found.Network, labels, edition.Name()), found.Evidence
}

var nothing atlas.LookupResult

// joined adds to labels those that are not among them; what is given stays as it is.
func joined(labels, more []string) []string {
	if len(more) == 0 {
		return labels
	}
	labels = slices.Clone(labels)
	for _, label := range more {
		if !slices.Contains(labels, label) {
			labels = append(labels, label)
		}
	}
	return labels
}

// card makes a card from one edition, and gives the address that was looked up, if
// any.
func (p *Pipeline) card(edition *atlas.Atlas, a netip.Addr, obtained string, req RequestContext, now time.Time) (Card, netip.Addr) {
	a = addr.Canonical(a)
	card := Card{
		Address: Address{Text: addr.Optional{Addr: a}, Obtained: obtained},
		Labels:  p.Labels.Of(a),
		Edition: EditionRef{Name: edition.Name(), Credits: edition.Credits()},
	}
	subject := p.admit(&card.Address, a)
	if subject.IsValid() {
		found := edition.Lookup(subject)
		card.Location, card.Network, card.Evidence = found.Location, found.Network, found.Evidence
		card.Labels = joined(card.Labels, found.Labels)
	} else {
		reason := "the visitor was not found"
		if card.Address.Skipped {
			reason = "the address was skipped and never looked up"
		}
		card.Location, card.Evidence = atlas.Nowhere(reason), []atlas.Evidence{}
		if at := p.Places[plain.Value(card.Address.Placeholder)]; at != nil {
			card.Location, card.Evidence = at.Location, at.Evidence
		}
		card.Network.Missing = map[string]string{"range": reason, "as_number": reason, "operator": reason}
	}
	var country *almanac.Country
	if code := card.Location.CountryCode; code != nil {
		country, _ = almanac.ByCode(*code)
	}
	p.localize(&card, country, req, now)
	if req.At != nil && req.Target != nil {
		sub := card.Subject(req.Pass)
		verdict := req.At.Gates.Decide(&sub, &gate.Request{Target: *req.Target, Time: now})
		decision := req.At.Gates.Explain(&verdict, &sub, card.Evidence)
		card.Gate = &decision
	}
	return card, subject
}

// localize fills in what follows from where the visitor is and what the site offers.
func (p *Pipeline) localize(card *Card, country *almanac.Country, req RequestContext, now time.Time) {
	at := req.At
	if at == nil {
		at = p.ready().anywhere
	}
	card.Locale = *at.Languages.Negotiate(req.Choice, req.AcceptLanguage, country)
	card.Clock = p.ready().clocks.At(card.Location.TimeZone, now, at.Hours, country)
	card.Money = locale.MoneyOf(country)
	at.exchange(&card.Money, req.PricesIn)
	if at.Companions != nil {
		subject := card.companionSubject(country)
		card.Companions = at.Companions.Answers(&subject, req.Ask, now)
	}
	card.Variants = at.Variants.Choose(variant.Subject{
		Country: country, Language: card.Locale.Language, Labels: card.Labels, Point: card.Location.Point(), Companions: card.Companions,
		Basis: atlas.Basis(plain.Value(card.Location.Basis)),
	})
}

// admit applies the policy. It gives the address to look up, or none with the
// reason in of.
func (p *Pipeline) admit(of *Address, a netip.Addr) netip.Addr {
	if !a.IsValid() {
		if of.Reason = words("The visitor was not found."); p.NotFound != "" {
			of.Placeholder = &p.NotFound
		}
		return a
	}
	kind := addr.KindOf(a)
	of.Family, of.Kind = familyOf(a), &kinds[kind]
	rule, byPrefix := p.Policy.Decide(a)
	inner, by, embedded := addr.Embedded(a, p.ready().embeddings)
	if by.Own && byPrefix && by.Prefix.Bits() > rule.Prefix.Bits() { // the owner's longer prefix says more
		rule, byPrefix = p.Policy.OfKind(kind), false
	}
	if rule.Action == addr.Skip && byPrefix {
		return of.skip(rule, "Skipped by a rule of yours.") // which range it names is nobody's business
	}
	if rule.Action == addr.Skip && !by.Own { // the owner's translator may use addresses of any kind
		return of.skip(rule, fmt.Sprintf("Skipped: %s addresses belong to nobody in particular.", kind))
	}
	if !embedded || byPrefix {
		return a
	}
	of.Embedded.Addr = inner
	innerRule, _ := p.Policy.Decide(inner)
	if innerRule.Action == addr.Skip {
		return of.skip(innerRule, fmt.Sprintf("Skipped: the address embedded by %s is %s.", by.How, addr.KindOf(inner)))
	}
	return inner
}

func (a *Address) skip(rule addr.Rule, reason string) netip.Addr {
	a.Skipped, a.Reason = true, &reason
	if rule.Placeholder != "" {
		a.Placeholder = &rule.Placeholder
	}
	return netip.Addr{}
}

// What the cards of all addresses point to.
var (
	four, six = 4, 6
	kinds     = addr.Kinds()
)

func familyOf(a netip.Addr) *int {
	if a.Is4() {
		return &four
	}
	return &six
}

func words(s string) *string { return &s }

func first(values []string) string {
	if len(values) == 0 {
		return ""
	}
	return values[0]
}
