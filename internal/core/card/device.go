package card

import (
	"math"

	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// A Device is what follows from the position that a visitor's device tells.
type Device struct {
	Latitude      float64  `json:"latitude"`    // degrees
	Longitude     float64  `json:"longitude"`   // degrees
	AccuracyKm    *float64 `json:"accuracy_km"` // the device's own claim
	City          *string  `json:"city"`        // the nearest town
	CountryCode   *string  `json:"country_code"`
	RegionCode    *string  `json:"region_code"`
	TownKm        *float64 `json:"town_km"`         // to that town
	TimeZone      *string  `json:"time_zone"`       // the town's
	FromAddressKm *float64 `json:"from_address_km"` // km to where the address is; null where that is not known
}

// Locate adds to a card what a device says of its position; accuracyKm is nil where it
// does not say how sure it is.
func (c *Card) Locate(at geo.Point, accuracyKm *float64) {
	round := func(km float64) *float64 {
		km = math.Round(km*10) / 10
		return &km
	}
	d := &Device{Latitude: at.Latitude, Longitude: at.Longitude, AccuracyKm: accuracyKm}
	for _, town := range gazetteer.Near(at, 1, 0) {
		d.City, d.CountryCode, d.RegionCode = &town.Name, &town.Country, plain.Optional(town.Region)
		d.TownKm, d.TimeZone = round(town.Km), &town.Zone
	}
	if p := c.Location.Point(); p != nil {
		d.FromAddressKm = round(geo.DistanceKm(at, *p))
	}
	c.Device = d
}
