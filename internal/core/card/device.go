package card

import (
	"math"

	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

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
