// Package lookup answers about addresses, ranges and places that somebody asks for.
package lookup

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
)

// cards makes the cards of addresses.
type cards interface {
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
	Why(a netip.Addr, req card.RequestContext, now time.Time) card.Card
}

// Options says what answers are made of. Hosts finds the addresses of a host name, and is nil
// where names are not resolved; Areas may be empty; all else is required.
type Options struct {
	Cards   cards
	Edition func() *atlas.Atlas
	Hosts   func(ctx context.Context, host string) ([]netip.Addr, error)
	Areas   []geo.Area
	Now     func() time.Time
}

// Lookup is the service. It is safe for concurrent use.
type Lookup struct{ Options }

// New makes the service. The error says which option is missing.
func New(opt Options) (*Lookup, error) {
	if opt.Cards == nil || opt.Edition == nil || opt.Now == nil {
		return nil, errors.New("lookup: cards, edition and now are required")
	}
	return &Lookup{opt}, nil
}

// A Question is how cards of addresses are asked for.
type Question struct {
	Of       card.RequestContext
	Language string // of names, BCP 47
	Why      bool   // every range of every source as evidence
}

// Card gives the card of an address in any spelling, or of a host name where names are resolved.
func (s *Lookup) Card(ctx context.Context, text string, q Question) (card.Card, error) {
	ip, note, err := s.read(ctx, text)
	if err != nil {
		return card.Card{}, err
	}
	var c card.Card
	if q.Why {
		c = s.Cards.Why(ip, q.Of, s.Now())
	} else {
		c = s.Cards.Card(ip, caller.ObtainedGiven, q.Of, s.Now())
	}
	if note != "" && c.Address.Reason == nil {
		c.Address.Reason = &note
	}
	return c.In(q.Language), nil
}

// read reads an address, or resolves a host name; then note says what became of it.
func (s *Lookup) read(ctx context.Context, text string) (ip netip.Addr, note string, err error) {
	ip, _, err = addr.Read(text)
	if err == nil || !looksLikeHost(text) {
		return ip, "", err
	}
	if s.Hosts == nil {
		return ip, "", invalid.Field("address", fmt.Sprintf("%.80q is a host name, and names are not looked up here", text), "Give an address, or set resolve_names: true in the configuration.")
	}
	found, problem := s.Hosts(ctx, strings.TrimSuffix(text, "."))
	if problem != nil || len(found) == 0 {
		return ip, "", invalid.Field("address", fmt.Sprintf("%.80q is not an address, and no address has that name", text), "Give an address, or a host name that has one.")
	}
	return found[0], fmt.Sprintf("%s has %d addresses; this is the first.", text, len(found)), nil
}

func looksLikeHost(s string) bool {
	letter := func(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' }
	return strings.Contains(s, ".") && len(s) <= 253 && strings.ContainsFunc(s, letter) &&
		!strings.ContainsFunc(s, func(r rune) bool { return !letter(r) && !(r >= '0' && r <= '9' || r == '.' || r == '-') })
}

// MaxAddresses bounds how many addresses one request asks for.
const MaxAddresses = 10_000

// Check refuses lists of addresses that are empty or too long.
func Check(list []string) error {
	switch {
	case len(list) == 0:
		return invalid.Field("addresses", "there are none", "Give a list of addresses, or one a line as text/plain.")
	case len(list) > MaxAddresses:
		return invalid.Field("addresses", fmt.Sprintf("there are more than %d", MaxAddresses), "Ask in several requests, or use eastporch resolve.")
	}
	return nil
}

// One answers about one of many addresses: with a card, or why there is none. reason words an
// error.
func (s *Lookup) One(ctx context.Context, text string, q Question, reason func(error) string) api.Asked {
	c, err := s.Card(ctx, text, q)
	if err != nil {
		why := reason(err)
		return api.Asked{Input: text, Problem: &why}
	}
	answer := api.Asked{Input: text, Card: &c}
	if _, spelling, err := addr.Read(text); err == nil && spelling != addr.Plain {
		answer.Spelling = plain.Optional(string(spelling))
	}
	return answer
}

// maxStretches bounds how many stretches of a range are looked at.
const maxStretches = 200_000

// Range says which places a range lies at.
func (s *Lookup) Range(text string) (api.RangeAnswer, error) {
	return RangeOf(s.Edition(), text, maxStretches)
}

// RangeOf says which places a range lies at in an edition, looking at no more than most of its
// stretches.
func RangeOf(edition *atlas.Atlas, text string, most int) (api.RangeAnswer, error) {
	span, err := addr.ParseRange(strings.TrimSpace(text))
	if err != nil {
		return api.RangeAnswer{}, invalid.Field("range", addr.Reason(err), "Give a prefix, an address or first-last.")
	}
	shares, done := edition.Span(span, most)
	answer := api.RangeAnswer{Range: span.String(), Edition: edition.Name(), LookedAt: done.String(), Complete: done.Last == span.Last, Shares: make([]api.Share, len(shares))}
	for i, share := range shares {
		one := api.Share{Share: share}
		if share.Point != nil {
			one.Latitude, one.Longitude = &share.Point.Latitude, &share.Point.Longitude
		}
		if known, ok := almanac.ByCode(share.CountryCode); ok {
			one.Country = known.Name
		}
		answer.Shares[i] = one
	}
	return answer, nil
}

// TownsNear lists the towns nearest to a point that have as many people, and the country of the
// nearest.
func TownsNear(p geo.Point, count, people int) api.TownsNear {
	answer := api.TownsNear{At: p.URI(0), Towns: []api.TownNear{}}
	for _, t := range gazetteer.Near(p, count, people) {
		answer.Towns = append(answer.Towns, api.TownNear{
			City: t.Name, CountryCode: t.Country, RegionCode: plain.Optional(t.Region), Latitude: t.Point.Latitude, Longitude: t.Point.Longitude,
			Population: t.Population, TimeZone: t.Zone, Km: math.Round(t.Km*10) / 10,
		})
	}
	if len(answer.Towns) > 0 {
		nearest := answer.Towns[0]
		known, _ := almanac.ByCode(nearest.CountryCode)
		answer.Country = &api.TownsNearCountry{
			CountryCode: nearest.CountryCode, Country: known.Name,
			Reason: fmt.Sprintf("of the nearest town, %s, %g km away", nearest.City, nearest.Km),
		}
	}
	return answer
}

// Held lists the owner's areas, with a point those that hold it.
func (s *Lookup) Held(p *geo.Point) api.Areas {
	answer := api.Areas{Areas: []api.AreaHolds{}}
	for _, known := range s.Areas {
		one := api.AreaHolds{Name: known.Name, Remark: plain.Optional(known.Remark)}
		if p != nil {
			holds := known.Contains(*p)
			if !holds {
				continue
			}
			one.Holds = &holds
		}
		answer.Areas = append(answer.Areas, one)
	}
	return answer
}

// Samples gives addresses that the edition in use puts into a country, and a town unless that
// is "". The same seed gives the same.
func (s *Lookup) Samples(country, city string, count int, seed uint64) (api.Samples, error) {
	if err := almanac.CheckCode(country); err != nil {
		return api.Samples{}, invalid.Field("country_code", err.Error(), "Give a code of ISO 3166-1.")
	}
	edition := s.Edition()
	answer := api.Samples{Edition: edition.Name(), Samples: []api.Sample{}}
	for _, ip := range edition.Sample(country, city, count, seed) {
		family := 6
		if ip.Is4() {
			family = 4
		}
		answer.Samples = append(answer.Samples, api.Sample{Address: ip.String(), Family: family})
	}
	return answer, nil
}
