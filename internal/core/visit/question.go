package visit

import (
	"errors"
	"net/netip"
	"time"

	"eastporch/internal/core/atlas"
)

// Errors of whatever keeps visits.
var (
	ErrNoVisit = errors.New("no such visit")
	// ErrAway means that the store does not answer now; the same call may
	// succeed later.
	ErrAway = errors.New("the database does not answer")
	// ErrRefused means that the database will not have a visit as it is.
	ErrRefused = errors.New("the database refuses it")
)

// A Filter picks visits of one site. Zero fields pick everything.
type Filter struct {
	Site        string
	Click       string    // only clicks on the link with this code
	From, To    time.Time // From is included, To is not
	CountryCode string
	RegionCode  string
	City        string
	Level       atlas.Level
	Basis       string // of the country
	Skipped     *bool
	Path        string // the beginning of the path
	Referrer    string // a host
	Language    string
	TimeZone    string
	Network     string // as [NetworkKey] writes it
	Label       string
	Link        string
	Mark        string
	Within      netip.Prefix // of what is kept of the address
	Placeholder string       // what stands for the address: one of these lines
}

// OnlyTimes says whether a filter picks by nothing but times.
func (f Filter) OnlyTimes() bool {
	return f == Filter{Site: f.Site, Click: f.Click, From: f.From, To: f.To}
}

// LinkPath is how the paths of links begin; a code follows.
const LinkPath = "/to/"

// CountedFor is what the visits of a filter are counted for: the site, or the link.
func (f Filter) CountedFor() string {
	if f.Click != "" {
		return f.Site + LinkPath + f.Click
	}
	return f.Site
}

// By is what visits are counted by.
type By string

// What visits are counted by.
const (
	ByAll      By = "all"
	ByCountry  By = "country"
	ByBasis    By = "basis"
	ByPlace    By = "place"
	ByPath     By = "path"
	ByReferrer By = "referrer"
	ByLanguage By = "language"
	ByNetwork  By = "network"
	ByLabel    By = "label"
	ByLink     By = "link"
	ByHour     By = "hour" // of the week, where the visitor is
	ByGate     By = "gate"
	ByAgent    By = "agent" // the family of the user agent
	// Where a click led to, and what stands in place of a location that was not looked up.
	ByDestination By = "destination"
	ByPlaceholder By = "placeholder"
)

// KeyCount is how many visits have a key, or where they are counted by place, a place.
type KeyCount struct {
	Key    string
	Place  Place
	Visits int64
}

// Standing says that a visit is stored under the id of one of a list.
type Standing struct {
	Index int  // in the list, from 0
	Same  bool // it is that visit, and no other
}

// Tally is visits by key, and how they were counted: from counts that are kept,
// or by reading rows, of which only so many are read.
type Tally struct {
	Keys    []KeyCount
	Counted bool
	Scanned int64
	Partial bool // there were more rows than are read
	// Others are the visits that are not counted by their own key: of what visitors and
	// pages name themselves only the most frequent of a day are.
	Others int64
}

// Sum adds up the visits of all keys, and the others.
func (t Tally) Sum() int64 {
	n := t.Others
	for _, k := range t.Keys {
		n += k.Visits
	}
	return n
}
