// Package rehearsal makes up visits: an address for a place, the token of a request that is answered as if
// somebody else sent it, and what is expected of the answers.
package rehearsal

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/plain"
)

// A Place is where a made-up visitor comes from: exactly one of its fields is set, but for a town, which may
// have a country.
type Place struct {
	Address  netip.Addr
	Country  *almanac.Country
	Region   string // ISO 3166-2
	Town     string
	Network  uint32 // an AS number
	Label    string
	NotFound bool // the visitor cannot be found
	Unknown  bool // no source knows the address
}

// NotFoundWord and UnknownWord stand for visitors without a location.
const (
	NotFoundWord = "not-found"
	UnknownWord  = "unknown"
)

// ErrPlace is wrapped where a text is no place.
var ErrPlace = errors.New("is no place to come from")

const placeHint = "give a country, a region such as PT-11, a town, a network such as AS64500, label:office, a prefix, an address, unknown or not-found"

// ParsePlace reads where somebody comes from: a country's code or name, a region's code, a town ("Lisbon" or
// "Lisbon, PT"), AS64500, label:office, a prefix (its first address), an address, "unknown" or "not-found".
// The error wraps [ErrPlace].
func ParsePlace(text string) (Place, error) {
	text = strings.TrimSpace(text)
	lower, upper := strings.ToLower(text), strings.ToUpper(text)
	switch {
	case lower == NotFoundWord:
		return Place{NotFound: true}, nil
	case lower == UnknownWord:
		return Place{Unknown: true}, nil
	case text == "" || len(text) > 100:
		return Place{}, fmt.Errorf("%.40q %w: %s", text, ErrPlace, placeHint)
	}
	if label, ok := strings.CutPrefix(text, "label:"); ok && label != "" {
		return Place{Label: label}, nil
	}
	if a, err := addr.Parse(text); err == nil {
		return Place{Address: a}, nil
	}
	if p, err := addr.ParsePrefix(text); err == nil {
		return Place{Address: p.Addr()}, nil
	}
	if c, ok := almanac.ByCode(upper); ok {
		return Place{Country: c}, nil
	}
	if digits, ok := strings.CutPrefix(upper, "AS"); ok && strings.Trim(digits, "0123456789") == "" && digits != "" {
		var n uint32
		if _, err := fmt.Sscan(digits, &n); err == nil && n > 0 {
			return Place{Network: n}, nil
		}
	}
	if region, err := almanac.CurrentRegion(upper); err == nil {
		return Place{Region: region}, nil
	}
	for i, all := 0, almanac.All(); i < len(all); i++ {
		if strings.EqualFold(all[i].Name, text) || all[i].Alpha3 == upper {
			return Place{Country: &all[i]}, nil
		}
	}
	town, code, _ := strings.Cut(text, ",")
	p := Place{Town: strings.TrimSpace(town)}
	if code = strings.ToUpper(strings.TrimSpace(code)); code != "" {
		country, ok := almanac.ByCode(code)
		if !ok {
			return p, fmt.Errorf("%.40q %w: %w", text, ErrPlace, almanac.CheckCode(code))
		}
		p.Country = country
	}
	if len(text) == 2 { // it was meant for a country
		return p, fmt.Errorf("%.40q %w: %w", text, ErrPlace, almanac.CheckCode(text))
	}
	return p, nil
}

// Fits says whether an address of a location, a network and labels is at the place.
func (p *Place) Fits(w *atlas.Location, n *atlas.Network, labels []string) bool {
	country := plain.Value(w.CountryCode)
	switch {
	case p.Unknown:
		return country == ""
	case p.Label != "":
		for _, l := range labels {
			if l == p.Label {
				return true
			}
		}
		return false
	case p.Network != 0:
		return n.ASNumber != nil && *n.ASNumber == p.Network
	case p.Region != "":
		return plain.Value(w.RegionCode) == p.Region
	case p.Town != "":
		return (p.Country == nil || p.Country.Code == country) && w.City != nil && (gazetteer.SamePlace(country, plain.Value(w.RegionCode), *w.City, p.Town) || strings.EqualFold(plain.Value(w.Names.City), p.Town))
	case p.Country != nil:
		return p.Country.Code == country
	}
	return false
}

// Languages is what a browser at a place is likely to ask for, as a header: the most spoken official
// language there, and English.
func Languages(c *almanac.Country) string {
	if c == nil || len(c.Languages) == 0 {
		return "en"
	}
	first := c.Languages[0]
	if base, _, _ := strings.Cut(first, "-"); base == "en" {
		return "en-" + c.Code + ",en;q=0.8"
	} else if !strings.Contains(first, "-") {
		return first + "-" + c.Code + "," + first + ";q=0.9,en;q=0.7"
	}
	return first + ",en;q=0.7"
}

// Header is the field that a request is sent with which is to be answered as if somebody else sent it.
const Header = "Porch-Rehearsal"

// Lasts is how long a token is good.
const Lasts = 60 * time.Second

// A Token bids a site answer one request as if somebody else sent it. It is good once, for one request
// line, and for a minute.
type Token struct {
	Site    string  `json:"site"`
	Scheme  string  `json:"scheme"`
	Host    string  `json:"host"`
	Method  string  `json:"method"`
	Target  string  `json:"target"` // the path with its query, as it is sent
	Number  string  `json:"number"`
	Expires int64   `json:"expires"` // Unix seconds
	As      Persona `json:"as"`
}

// A Persona is who is supposed to have sent a request.
type Persona struct {
	Address   string `json:"address"` // "" for a visitor who was not found
	Languages string `json:"languages,omitempty"`
	Choice    string `json:"choice,omitempty"` // the language that was chosen before, BCP 47
	At        int64  `json:"at,omitempty"`     // Unix seconds; 0 for now
}

// Errors of tokens.
var (
	ErrOver    = errors.New("the time of the rehearsal is over")
	ErrAnother = errors.New("the rehearsal is of another request")
)

// Fits says what keeps a token from being of a request; nil for nothing. Whether its number was used is for
// the caller to say.
func (t *Token) Fits(site, scheme, host, method, target string, now time.Time) error {
	switch {
	case now.Unix() >= t.Expires:
		return ErrOver
	case t.Site != site || t.Scheme != scheme || !strings.EqualFold(t.Host, host) || t.Method != method || t.Target != target || t.Number == "":
		return ErrAnother
	}
	return nil
}
