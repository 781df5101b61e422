package atlas

import (
	"encoding/binary"
	"math"
	"net/netip"
	"strconv"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
)

// A Fact is something that an atlas says of an address: a field of the contract's Location or Network. All that
// asks for facts one by one goes by [Facts]: tables that are read and written, evidence, what is missing, SQL,
// layouts of notices, commands. Begin with [Fact.Text].
type Fact struct {
	Name    string // in the contract, in evidence, in tables and in SQL
	Network bool   // of the network, not of the location
	Title   string // in the card that commands draw; "" for not there, or in a row of its own
	Column  string // its type where an edition is published as SQL; "" for not there
	// Meaning and Example are for whoever writes layouts of notices; Meaning is "" where these have it in another form.
	Meaning, Example string
	MayLack          bool // of many visits
	// Called are the names of columns of strangers' tables that may be for it, in lower case without anything but
	// letters, and Holds the kinds that such columns have. Only facts with them stand in tables.
	Called, Holds []string
	// Given says that it is said by sources alone: nothing else is made of it, and where none says it, it is missing.
	Given bool

	place func(*Place) *string // where a place has it as text; nil otherwise
	claim func(*Place) string  // what a place says of it, where that is not the text that place gives; nil otherwise
	field func(*Location, *Network) any
}

// Facts are all facts. What stands as text in places is written into editions in this order, so that one more there
// is another version of the format.
var Facts = [...]Fact{
	{
		Name: "basis", Meaning: "On what grounds the country is stated.", Example: "self-published claim",
		field: func(w *Location, _ *Network) any { return &w.Basis },
	},
	{
		Name: "continent_code", Column: "text", Meaning: "AF, AN, AS, EU, NA, OC or SA.", Example: "AF",
		field: func(w *Location, _ *Network) any { return &w.ContinentCode },
	},
	{
		Name: "country_code", Title: "Country", Column: "text", Meaning: "ISO 3166-1 alpha-2.", Example: "KE",
		Called: []string{"countrycode", "country", "cc", "iso"}, Holds: []string{"country code"},
		place: func(p *Place) *string { return &p.Country },
		claim: func(p *Place) string {
			if p.ByPoint {
				return ""
			}
			return p.Country
		},
		field: func(w *Location, _ *Network) any { return &w.CountryCode },
	},
	{
		Name: "region_code", Title: "Region", Column: "text", Meaning: "ISO 3166-2.", Example: "KE-30", MayLack: true,
		Called: []string{"regioncode", "region", "subdivision", "subdivisioncode", "state"}, Holds: []string{"region code"},
		place: func(p *Place) *string { return &p.Region },
		field: func(w *Location, _ *Network) any { return &w.RegionCode },
	},
	{
		Name: "city", Title: "City", Column: "text", Meaning: "The town.", Example: "Nairobi", MayLack: true,
		Called: []string{"city", "town", "place", "cityname"}, Holds: []string{"text"},
		place: func(p *Place) *string { return &p.City },
		field: func(w *Location, _ *Network) any { return &w.City },
	},
	{
		Name: "postal_code", Title: "Postal code", Column: "text", Meaning: "The postal code, where a source gives it.", Example: "00100", MayLack: true,
		Called: []string{"postalcode", "postal", "postcode", "zip"}, Given: true,
		place: func(p *Place) *string { return &p.Postal },
		field: func(w *Location, _ *Network) any { return &w.PostalCode },
	},
	{
		Name: "latitude", Column: "double precision", Meaning: "Degrees north.", Example: "-1.29", MayLack: true,
		Called: []string{"latitude", "lat"}, Holds: []string{"number", "integer"},
		claim: func(p *Place) string {
			if p.Point == nil {
				return ""
			}
			return plain.Decimal(p.Point.Latitude)
		},
		field: func(w *Location, _ *Network) any { return &w.Latitude },
	},
	{
		Name: "longitude", Column: "double precision", Meaning: "Degrees east.", Example: "36.82", MayLack: true,
		Called: []string{"longitude", "lon", "lng", "long"}, Holds: []string{"number", "integer"},
		claim: func(p *Place) string {
			if p.Point == nil {
				return ""
			}
			return plain.Decimal(p.Point.Longitude)
		},
		field: func(w *Location, _ *Network) any { return &w.Longitude },
	},
	{
		Name: "radius_km", Column: "double precision",
		Called: []string{"radiuskm", "radius", "km", "withinkm", "within"}, Holds: []string{"number", "integer"},
		claim: func(p *Place) string {
			if p.RadiusKm <= 0 {
				return ""
			}
			return plain.Decimal(p.RadiusKm)
		},
		field: func(w *Location, _ *Network) any { return &w.RadiusKm },
	},
	{
		Name: "time_zone", Title: "Time zone", Column: "text", Meaning: "IANA name.", Example: "Africa/Nairobi",
		Called: []string{"timezone", "tz", "zone"}, Holds: []string{"time zone"},
		place: func(p *Place) *string { return &p.Zone },
		field: func(w *Location, _ *Network) any { return &w.TimeZone },
	},
	{
		Name: "range", Network: true,
		field: func(_ *Location, n *Network) any { return &n.Range },
	},
	{
		Name: "as_number", Network: true, Column: "bigint", Meaning: "The number alone.", Example: "64507", MayLack: true,
		Called: []string{"asnumber", "asn", "as"},
		claim: func(p *Place) string {
			if p.AsNumber == 0 {
				return ""
			}
			return strconv.FormatUint(uint64(p.AsNumber), 10)
		},
		field: func(_ *Location, n *Network) any { return &n.ASNumber },
	},
	{
		Name: "operator", Network: true, Column: "text", Meaning: "The operator alone.", Example: "Savanna", MayLack: true,
		Called: []string{"operator", "owner", "organisation", "organization", "org", "provider", "holder"}, Holds: []string{"text"},
		place: func(p *Place) *string { return &p.Operator },
		field: func(_ *Location, n *Network) any { return &n.Operator },
	},
}

// Claimed says whether places may say it, so that tables may have it.
func (f *Fact) Claimed() bool { return f.place != nil || f.claim != nil }

// Claim is what a place says of it, as text; "" where it says nothing.
func (f *Fact) Claim(p *Place) string {
	switch {
	case f.claim != nil:
		return f.claim(p)
	case f.place != nil:
		return *f.place(p)
	}
	return ""
}

// Fill puts a text that a source gives into a place. Only facts that are Given have it.
func (f *Fact) Fill(p *Place, text string) { *f.place(p) = plain.Clean(text, longestGiven) }

// longestGiven bounds the text of a fact that is given, in bytes.
const longestGiven = 40

// Value gives it: a *string, *float64, *uint32 or [addr.OptionalRange], nil or not valid where it is not known.
func (f *Fact) Value(w *Location, n *Network) any {
	switch at := f.field(w, n).(type) {
	case **string:
		return *at
	case **float64:
		return *at
	case **uint32:
		return *at
	case *addr.OptionalRange:
		return *at
	}
	return nil
}

// Text gives it as text, numbers with a decimal point; "" where it is not known.
func (f *Fact) Text(w *Location, n *Network) string {
	switch at := f.field(w, n).(type) {
	case **string:
		return plain.Value(*at)
	case **float64:
		if *at != nil {
			return plain.Decimal(**at)
		}
	case **uint32:
		if *at != nil {
			return strconv.FormatUint(uint64(**at), 10)
		}
	case *addr.OptionalRange:
		if at.IsValid() {
			return at.String()
		}
	}
	return ""
}

// Reason says why it is not known, "" where it is.
func (f *Fact) Reason(w *Location, n *Network) string {
	if f.Network {
		return n.Missing[f.Name]
	}
	return w.Missing[f.Name]
}

// AppendKey appends bytes that differ wherever a location and a network differ in it, or in the reason why it is
// missing.
func (f *Fact) AppendKey(key []byte, w *Location, n *Network) []byte {
	switch at := f.field(w, n).(type) {
	case **string:
		if *at != nil {
			return append(append(append(key, 1), **at...), 0)
		}
	case **float64:
		if *at != nil {
			return binary.BigEndian.AppendUint64(append(key, 1), math.Float64bits(**at))
		}
	case **uint32:
		if *at != nil {
			return binary.BigEndian.AppendUint32(append(key, 1), **at)
		}
	case *addr.OptionalRange:
		if at.IsValid() {
			return AppendRange(append(key, 1), at.Range)
		}
	}
	return append(append(append(key, 0), f.Reason(w, n)...), 0)
}

// AppendRange appends bytes that differ wherever ranges differ.
func AppendRange(key []byte, r addr.Range) []byte {
	for _, a := range [...]netip.Addr{r.First, r.Last} { // of one family
		if a.Is4() {
			four := a.As4()
			key = append(append(key, 4), four[:]...)
		} else if a.IsValid() {
			six := a.As16()
			key = append(append(key, 6), six[:]...)
		}
	}
	return append(key, 0)
}

// missing says of the facts of a location, or of a network, that they are missing for a reason.
func missing(network bool, reason string) map[string]string {
	m := make(map[string]string, len(Facts))
	for i := range Facts {
		if Facts[i].Network == network {
			m[Facts[i].Name] = reason
		}
	}
	return m
}

// texts are where a place has text.
func (p *Place) texts() (list [len(Facts)]*string) {
	for i := range Facts {
		if Facts[i].place != nil {
			list[i] = Facts[i].place(p)
		}
	}
	return list
}
