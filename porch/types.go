package porch

import (
	"net/netip"
	"time"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/plain"
)

// A Card is what is known of a visitor. What is not known has its zero value; Missing says why,
// by the names of the service's contract, such as postal_code.
type Card struct {
	Address  netip.Addr // the zero Addr where the visitor was not found
	Obtained string     // peer or header: how it was found
	Skipped  bool       // it was never looked up, and Reason says why
	Reason   string

	Level         string // city, region, country, continent or none
	ContinentCode string
	CountryCode   string // ISO 3166-1 alpha-2
	Basis         string // of the country code: correction, self-published claim, table's claim, derived or registration
	RegionCode    string // ISO 3166-2
	City          string // as the source calls it
	PostalCode    string
	Names         Names
	Point         *Point // nil where it is not known
	TimeZone      string // IANA
	LocalTime     time.Time
	Missing       map[string]string

	Operator string // of the network
	ASNumber uint32

	Language     string // that suits the visitor, BCP 47
	Direction    string // ltr or rtl
	CurrencyCode string // ISO 4217

	// Gate is what the site's gates said of the page: "admit" or, by a gate that only watches,
	// "would refuse". "" is for no gate. GateReason says why.
	Gate, GateReason string
	// Rehearsed says that somebody tries the page: record no visit.
	Rehearsed bool

	Edition string   // of the range data
	Credits []string // lines that an answer owes to whoever made that
}

// Names are what the codes are called in the visitor's language.
type Names struct{ Continent, Country, Region, City string }

// A Point is where somebody is, within a radius.
type Point struct{ Latitude, Longitude, RadiusKm float64 }

func cardOf(c *card.Card) Card {
	w := &c.Location
	out := Card{
		Address: c.Address.Text.Addr, Obtained: c.Address.Obtained, Skipped: c.Address.Skipped, Reason: plain.Value(c.Address.Reason),
		Level: string(w.Level), ContinentCode: plain.Value(w.ContinentCode), CountryCode: plain.Value(w.CountryCode), Basis: plain.Value(w.Basis), RegionCode: plain.Value(w.RegionCode),
		City: plain.Value(w.City), PostalCode: plain.Value(w.PostalCode), TimeZone: plain.Value(w.TimeZone), LocalTime: c.Clock.LocalTime.Time,
		Names:    Names{plain.Value(w.Names.Continent), plain.Value(w.Names.Country), plain.Value(w.Names.Region), plain.Value(w.Names.City)},
		Missing:  map[string]string{},
		Operator: plain.Value(c.Network.Operator), Language: c.Locale.Language, Direction: c.Locale.Direction, CurrencyCode: plain.Value(c.Money.CurrencyCode),
		Edition: c.Edition.Name, Credits: append([]string{}, c.Edition.Credits...),
	}
	if d := c.Gate; d != nil && d.By != gate.ByNothing {
		if out.Gate, out.GateReason = string(d.Outcome), d.Reason; d.Outcome != d.Would {
			out.Gate = gate.WouldRefuse
		}
	}
	for _, missing := range []map[string]string{w.Missing, c.Network.Missing} {
		for fact, reason := range missing {
			out.Missing[fact] = reason
		}
	}
	if c.Network.ASNumber != nil {
		out.ASNumber = *c.Network.ASNumber
	}
	if w.Latitude != nil && w.Longitude != nil {
		out.Point = &Point{Latitude: *w.Latitude, Longitude: *w.Longitude}
		if w.RadiusKm != nil {
			out.Point.RadiusKm = *w.RadiusKm
		}
	}
	return out
}

// A Trail explains hop by hop how a visitor was found.
type Trail struct {
	Visitor  netip.Addr // the zero Addr where it was not found
	Obtained string
	Reason   string
	Hops     []Hop // from the peer back to the visitor, and what stands left of it
	Notes    []string
}

// A Hop is one station of a request.
type Hop struct {
	Source  string     // peer, or the name of the header
	Text    string     // as it was written
	Address netip.Addr // the zero Addr where it is none
	Verdict string     // trusted, visitor, unverified or unreadable
	Reason  string
}

func trailOf(t *caller.Trail) Trail {
	out := Trail{Visitor: t.Visitor.Addr, Obtained: t.Obtained, Reason: t.Reason, Notes: append([]string{}, t.Notes...)}
	for _, h := range t.Hops {
		out.Hops = append(out.Hops, Hop{Source: h.Source, Text: h.Text, Address: h.Address.Addr, Verdict: string(h.Verdict), Reason: h.Reason})
	}
	return out
}

// Facts are the codes and names of a card that a proxy hands on, as the service's handover does.
// A fact that is not known is "".
type Facts struct {
	CountryCode, RegionCode, Language, CurrencyCode, TimeZone string

	Variants map[string]string // by the name of their set
	Gate     string
	Names    Names // in the language

	Latitude, Longitude, RadiusKm *float64 // degrees and kilometres, nil where they are not known
}

func factsOf(f *handover.Facts) Facts {
	return Facts{
		CountryCode: f.CountryCode, RegionCode: f.RegionCode, Language: f.Language, CurrencyCode: f.CurrencyCode, TimeZone: f.TimeZone,
		Variants: f.Variants, Gate: f.Gate,
		Names:    Names{plain.Value(f.Names.Continent), plain.Value(f.Names.Country), plain.Value(f.Names.Region), plain.Value(f.Names.City)},
		Latitude: f.Latitude, Longitude: f.Longitude, RadiusKm: f.RadiusKm,
	}
}
