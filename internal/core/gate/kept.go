package gate

import (
	"errors"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// Errors of whatever keeps rules.
var (
	ErrNoRevision = errors.New("there is no such revision of the rules")
	ErrChanged    = errors.New("the rules were changed by somebody else in the meantime")
)

// Who asked.
const (
	AskedRequest = "request" // a proxy or an application, about a request
	AskedVisit   = "visit"   // a visit that was reported
)

// WouldRefuse is the outcome that is counted where a gate only watches.
const WouldRefuse = "would refuse"

// A CountKey is what decisions are counted by.
type CountKey struct {
	Site                       string
	Slot                       time.Time // the quarter of an hour
	Asked, Gate                string
	Rule                       int
	By, Outcome                string
	Missing, CountryCode, Path string
}

// KeyOf is what a decision about a request is counted by; ok is false where no gate stood.
func KeyOf(site, asked string, d *Decision, country, path string, at time.Time) (k CountKey, ok bool) {
	if d == nil || d.By == ByNothing {
		return k, false
	}
	k = CountKey{
		Site: site, Slot: at.UTC().Truncate(15 * time.Minute), Asked: asked, Gate: plain.Value(d.Gate), By: d.By, Outcome: string(d.Outcome),
		Missing: plain.Value(d.Missing), CountryCode: country,
	}
	if d.Rule != nil {
		k.Rule = *d.Rule
	}
	if d.Outcome != d.Would {
		k.Outcome = WouldRefuse
	}
	if d.Would == Refuse {
		k.Path = plain.Clean(path, maxPattern)
	}
	return k, true
}

// A Pass is what a browser with an owner's pass holds. It ends with the session that made it.
type Pass struct {
	Site    string    `json:"site"`
	Session uuid.UUID `json:"session"`
	Number  string    `json:"number,omitempty"` // of a link that is good once
	Expires int64     `json:"expires"`          // Unix seconds
}

// A Reference is what a refused request is sent to the refusal page with.
type Reference struct {
	Site        string `json:"site"`
	Gate        string `json:"gate"`
	CountryCode string `json:"country_code"`
	Status      int    `json:"status"`
	Code        string `json:"code"` // to be read aloud, such as 5F2K-81QD
	At          int64  `json:"at"`   // Unix seconds
}

// A Past is what is known of a stored visit, so that it can be decided about again.
type Past struct {
	Time                           time.Time
	Path                           string
	Address                        *string // what is kept of it, as text
	Skipped, NotFound, Counted     bool
	CountryCode, Basis, RegionCode *string
	Latitude, Longitude            *float64
	Network                        *string // its AS number, a space and its operator
	Labels                         []string
	Edition                        string
}

// somebody stands for an address that was not kept.
var somebody = netip.MustParseAddr("192.0.0.8") // of the registry's dummies (RFC 7600)

// Subject is whoever made the visit. Where the address was not kept it is one that no rule's network holds.
func (p *Past) Subject() Subject {
	s := Subject{
		Skipped: p.Skipped, NoData: p.Edition == atlas.Empty, Basis: plain.Value(p.Basis), Region: plain.Value(p.RegionCode), Labels: p.Labels,
	}
	switch {
	case p.Address != nil:
		text, _, _ := strings.Cut(*p.Address, "/")
		s.Address, _ = addr.Parse(text)
	case !p.NotFound:
		s.Address = somebody
	}
	if p.CountryCode != nil {
		s.Country, _ = almanac.ByCode(*p.CountryCode)
	}
	if p.Latitude != nil && p.Longitude != nil {
		s.Point = &geo.Point{Latitude: *p.Latitude, Longitude: *p.Longitude}
	}
	if p.Network != nil {
		number, _, _ := strings.Cut(*p.Network, " ")
		n, _ := strconv.ParseUint(number, 10, 32) // "" is 0
		s.ASNumber = uint32(n)
	}
	return s
}
