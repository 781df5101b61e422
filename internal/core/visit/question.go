package visit

import (
	"errors"
	"time"

	"eastporch/internal/core/atlas"
)

// Errors of whatever keeps visits.
var (
	ErrNoVisit = errors.New("no such visit")
	// ErrAway means that the store does not answer now; the same call may
	// succeed later.
	ErrAway = errors.New("the database does not answer")
)

// A Filter picks visits of one site. Zero fields pick everything.
type Filter struct {
	Site        string
	From, To    time.Time // From is included, To is not
	CountryCode string
	City        string
	Level       atlas.Level
	SetAside    *bool
	Path        string // the beginning of the path
}

// Count says how many visits match and how many the site has in all.
type Count struct {
	Matching int64 `json:"matching"`
	All      int64 `json:"all"`
}

// CountryCount is a line of the report by country; CountryCode is nil for the
// visits that have none.
type CountryCount struct {
	CountryCode *string `json:"country_code"`
	Visits      int64   `json:"visits"`
}

// PlaceCount is a place with a point, and its visits.
type PlaceCount struct {
	Level       string  `json:"level"`
	CountryCode string  `json:"country_code"`
	RegionCode  *string `json:"region_code"`
	City        *string `json:"city"`
	Latitude    float64 `json:"latitude"`
	Longitude   float64 `json:"longitude"`
	RadiusKm    float64 `json:"radius_km"`
	Visits      int64   `json:"visits"`
}

// Pointless counts the visits that no map can show.
type Pointless struct {
	SetAside int64 `json:"set_aside"`
	Unknown  int64 `json:"unknown"`
}
