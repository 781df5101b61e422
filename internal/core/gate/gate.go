// Package gate decides who is admitted where: ordered rules by country, group, region, area, label,
// kind and network, explained, with an outcome that is chosen for whoever's location is not known.
//
// [Check] makes rules of what an owner wrote, [New] compiles them, and [Set.Decide] decides without
// allocating. Rules stand on facts of the card, so that another source of range data changes no rule.
package gate

import (
	"net/netip"
	"time"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/geo"
)

// The words of rules and decisions.
const (
	Off   Mode = "off"
	Watch Mode = "watch"
	On    Mode = "on"

	Allow List = "allow"
	Deny  List = "deny"

	Admit  Outcome = "admit"
	Refuse Outcome = "refuse"

	next = "next"
)

// What decided.
const (
	ByNothing   = "nothing" // no gate stands at the path
	ByException = "exception"
	ByPass      = "pass"
	ByRule      = "rule"
	ByMissing   = "missing"
	ByList      = "list"
)

// absence is why a location is not known.
type absence uint8

const (
	present absence = iota
	unknown
	skipped
	notFound
	noData
)

// Absences are the words for why a location is not known, of [Missing] and of decisions.
var Absences = []string{"unknown", "skipped", "not_found", "no_data"}

func (a absence) String() string {
	if a == present {
		return ""
	}
	return Absences[a-1]
}

// of is the outcome that a gate chose.
func (m *Missing) of(a absence) Outcome {
	return [...]Outcome{"", m.Unknown, m.Skipped, m.NotFound, m.NoData}[a]
}

// A Subject is whoever is decided about. Labels, kind and networks are those of the address that was
// received, also where it embeds another.
type Subject struct {
	Address  netip.Addr // the zero Addr where the visitor was not found
	Skipped  bool       // it was never looked up
	NoData   bool       // there is no range data
	Country  *almanac.Country
	Basis    string // of the country
	Region   string // ISO 3166-2
	Point    *geo.Point
	ASNumber uint32
	Labels   []string
	Pass     bool // the browser has an owner's pass
}

// absence is why the subject's country is not known.
func (s *Subject) absence() absence {
	switch {
	case s.Country != nil:
		return present
	case s.NoData:
		return noData
	case s.Skipped:
		return skipped
	case !s.Address.IsValid():
		return notFound
	}
	return unknown
}

// A Request is what somebody asks for, and when.
type Request struct {
	Target Target
	Time   time.Time
}

// A Set is the compiled gates of a site. It is immutable and safe for concurrent use; a nil Set admits
// everybody.
type Set struct {
	rules Rules
	gates []compiledGate
}

// fact is what of a subject a rule held for.
type fact uint8

const (
	noFact fact = iota
	countryFact
	regionFact
	areaFact
	labelFact
	kindFact
	prefixFact
	networkFact
)

// A Verdict is a decision before anybody reads it; [Set.Explain] makes a [Decision] of it.
type Verdict struct {
	Refused bool // and it is to be acted on
	Would   bool // a gate that watches would have refused
	by      string
	gate    int16 // -1 for none
	rule    int16 // -1 for none
	fact    fact
	lacking absence
	entry   int16 // which of the labels, areas or paths
}

// Stands says whether any gate stood in the way, one that only watches included.
func (v *Verdict) Stands() bool { return v.by != ByNothing && v.by != "" }
