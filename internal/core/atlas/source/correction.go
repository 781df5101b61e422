package source

import (
	"errors"
	"fmt"
	"io"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// A Correction is what the owner knows better: this range is here, or is not to
// be located.
type Correction struct {
	ID          uuid.UUID `json:"id"`
	Range       string    `json:"range"` // a prefix, an address or first-last
	DoNotLocate bool      `json:"do_not_locate"`
	CountryCode *string   `json:"country_code"`
	RegionCode  *string   `json:"region_code"`
	City        *string   `json:"city"`
	Latitude    *float64  `json:"latitude"`
	Longitude   *float64  `json:"longitude"`
	RadiusKm    *float64  `json:"radius_km"`
	TimeZone    *string   `json:"time_zone"`
	Note        string    `json:"note"` // why; up to 300 characters
	MadeBy      string    `json:"made_by"`
	MadeAt      time.Time `json:"made_at"`
}

// Check says what is wrong with a correction, with the field before a colon, and
// brings range and codes into their one form.
func (c *Correction) Check() error {
	span, err := addr.ParseRange(strings.TrimSpace(c.Range))
	if err != nil {
		return fmt.Errorf("range: %s", strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": "))
	}
	c.Range = span.String()
	for _, p := range []**string{&c.CountryCode, &c.RegionCode, &c.City, &c.TimeZone} {
		if *p != nil && strings.TrimSpace(**p) == "" {
			*p = nil
		}
	}
	c.Note = plain.Clean(c.Note, 300)
	if c.DoNotLocate {
		if c.CountryCode != nil || c.RegionCode != nil || c.City != nil || c.Latitude != nil || c.Longitude != nil {
			return errors.New("do_not_locate: it excludes a place")
		}
		return nil
	}
	if c.CountryCode == nil {
		return errors.New("country_code: a correction names a country, or says do_not_locate")
	}
	*c.CountryCode = strings.ToUpper(strings.TrimSpace(*c.CountryCode))
	if err := almanac.CheckCode(*c.CountryCode); err != nil {
		return fmt.Errorf("country_code: %w", err)
	}
	if c.RegionCode != nil {
		*c.RegionCode = strings.ToUpper(strings.TrimSpace(*c.RegionCode))
		p := atlas.Place{Country: *c.CountryCode, Region: *c.RegionCode}
		if remark := checkRegion(&p); remark != "" {
			return fmt.Errorf("region_code: %s", strings.TrimSuffix(remark, "; it was dropped"))
		}
		*c.RegionCode = p.Region
	}
	if c.City != nil {
		*c.City = plain.Clean(*c.City, 200)
	}
	switch {
	case (c.Latitude == nil) != (c.Longitude == nil):
		return errors.New("latitude, longitude: one stands there without the other")
	case c.Latitude != nil && !(geo.Point{Latitude: *c.Latitude, Longitude: *c.Longitude}).Valid():
		return errors.New("latitude, longitude: they are beyond 90 or 180 degrees")
	case c.RadiusKm != nil && (math.IsNaN(*c.RadiusKm) || *c.RadiusKm <= 0 || *c.RadiusKm > 20_100):
		return errors.New("radius_km: give more than 0 and at most 20100")
	case c.TimeZone != nil:
		if _, err := time.LoadLocation(*c.TimeZone); err != nil {
			return errors.New("time_zone: this is not a zone of the IANA database")
		}
	}
	return nil
}

func (c *Correction) place() atlas.Place {
	p := atlas.Place{Country: plain.Value(c.CountryCode), Region: plain.Value(c.RegionCode), City: plain.Value(c.City), Zone: plain.Value(c.TimeZone), DoNotLocate: c.DoNotLocate}
	if c.Latitude != nil {
		p.Point = &geo.Point{Latitude: *c.Latitude, Longitude: *c.Longitude}
	}
	if c.RadiusKm != nil {
		p.RadiusKm = *c.RadiusKm
	}
	return p
}

// Said gives what an owner says of a place, as an answer has it: its names, its point and its
// radius follow as those of a correction do. The correction's range is not read. source is who
// says so in the evidence.
func Said(c Correction, source string) (*atlas.LookupResult, error) {
	at := netip.IPv4Unspecified() // any address will do
	c.Range = at.String()
	if err := c.Check(); err != nil {
		return nil, err
	}
	first, err := Corrected([]Correction{c})
	if err != nil {
		return nil, err
	}
	found := *atlas.New(first).Lookup(at)
	found.Evidence = slices.Clone(found.Evidence)
	for i := range found.Evidence {
		e := &found.Evidence[i]
		e.Range, e.Dated = addr.OptionalRange{}, nil
		if e.Source == CorrectionsName {
			e.Source = source
		}
	}
	return &found, nil
}

// CorrectionsName is what the source of the owner's corrections is called.
const CorrectionsName = "Corrections"

// Corrected makes a source of corrections that were checked, for [Atlas.With].
// Without any it is nil.
func Corrected(list []Correction) (*atlas.Source, error) {
	if len(list) == 0 {
		return nil, nil
	}
	about := atlas.About{Name: CorrectionsName, Rank: 0, Licence: "yours", Basis: atlas.Corrects}
	for _, c := range list {
		about.Dated = max(about.Dated, c.MadeAt.UTC().Format(time.DateOnly))
	}
	g, w := newGathering(ParseOptions{}, about), newWorker(0)
	w.out = &chunkRows{}
	for i := range list {
		span, err := addr.ParseRange(list[i].Range)
		if err != nil {
			return nil, err
		}
		p := list[i].place()
		w.out.rows++
		w.out.places.Add(&p)
		if err := w.add(uint32(i+1), nil, rangeText{span: span}, verdict{place: uint32(i)}); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(w.out.v4, compile.Order)
	slices.SortFunc(w.out.v6, compile.Order)
	if err := g.take(w.out); err != nil {
		return nil, err
	}
	return g.finish()
}

// WriteGeofeed writes corrections as a geofeed (RFC 8805), to be published where
// one's own networks are among them.
func WriteGeofeed(w io.Writer, list []Correction, at time.Time) error {
	if _, err := fmt.Fprintf(w, "# Corrections of %s\n# prefix,country_code,region_code,city,postal_code\n", at.UTC().Format(time.DateOnly)); err != nil {
		return err
	}
	for _, c := range list {
		span, err := addr.ParseRange(c.Range)
		if err != nil {
			return err
		}
		place := atlas.Place{Country: plain.Value(c.CountryCode), Region: plain.Value(c.RegionCode), City: plain.Value(c.City)}
		for _, p := range span.Prefixes() {
			if _, err := w.Write(AppendEntry(nil, p, &place)); err != nil {
				return err
			}
		}
	}
	return nil
}
