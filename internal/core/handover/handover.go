// Package handover hands the facts of a visitor on to an application: as header fields
// that a reverse proxy copies into the request, and as a signed cookie. Both hold codes
// and the names of places, never an address.
package handover

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/card"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/signed"
	"eastporch/internal/core/variant"
)

// Facts is what is handed on. A fact that is not known is "".
type Facts struct {
	CountryCode  string          `json:"country_code"`  // ISO 3166-1 alpha-2
	RegionCode   string          `json:"region_code"`   // ISO 3166-2
	Language     string          `json:"language"`      // BCP 47
	CurrencyCode string          `json:"currency_code"` // ISO 4217
	TimeZone     string          `json:"time_zone"`     // IANA
	Variants     variant.Choices `json:"variants"`
	Gate         string          `json:"gate"`
	Names        atlas.Names     `json:"names"` // in the language
	Latitude     *float64        `json:"latitude"`
	Longitude    *float64        `json:"longitude"`
	RadiusKm     *float64        `json:"radius_km"`
}

// GateField is the field that says what the gates decided: that the visitor is admitted, or, in an answer that
// decides nothing, whether a gate stands at what was asked for.
const (
	GateField = "Porch-Gate"
	Admitted  = "admit"
	NoGate    = "none"    // none stands there: whoever asks may be served, without facts
	Undecided = "unknown" // one stands there, or may stand there
)

// Of takes the facts out of a card of somebody who is admitted.
func Of(c *card.Card) Facts {
	return Facts{
		CountryCode: plain.Value(c.Location.CountryCode), RegionCode: plain.Value(c.Location.RegionCode), Language: c.Locale.Language,
		CurrencyCode: plain.Value(c.Money.CurrencyCode), TimeZone: plain.Value(c.Clock.TimeZone), Variants: c.Variants, Gate: Admitted,
		Names: c.Location.NamesIn(c.Locale.Language), Latitude: c.Location.Latitude, Longitude: c.Location.Longitude, RadiusKm: c.Location.RadiusKm,
	}
}

// forwarding are the other fields that a proxy writes, folded as [fold] does.
var forwarding = []string{"x-forwarded-for", "forwarded", "x-real-ip"}

// fold writes a field's name as the most forgiving application servers do, to whom every
// character that is not a letter or digit is one and the same (RFC 3875, section 4.1.18,
// and what is made of it).
func fold(name string) string {
	folded := []byte(strings.ToLower(name))
	for i, c := range folded {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') {
			folded[i] = '-'
		}
	}
	return string(folded)
}

// Forged says whether a field of a request from outside must not reach an application: one
// that is read as a handover's, under whatever spelling, or another spelling of a
// forwarding header. Those headers' own spelling is for the proxy to judge.
func Forged(name string) bool {
	folded := fold(name)
	if strings.HasPrefix(folded, "porch-") {
		return true
	}
	return slices.Contains(forwarding, folded) && !strings.EqualFold(name, folded)
}

// Fields are the names of the header fields, in the order of [Facts.Values].
var Fields = []string{"Porch-Country-Code", "Porch-Region-Code", "Porch-Language", "Porch-Currency-Code", "Porch-Time-Zone", "Porch-Variant", "Porch-Gate", "Porch-Names", "Porch-City", "Porch-Latitude", "Porch-Longitude", "Porch-Radius-Km"}

// maxValue bounds a field that holds a name, in bytes: a longer one is left out.
const maxValue = 256

// Values are the values of the header fields, "" for one that is left out. The variants
// are a dictionary of tokens (RFC 9651), offer=early, pictures=lake, and the names one of
// display strings: country=%"Portugal", city=%"S%c3%a3o Paulo". The city stands alone as well,
// percent-encoded as part of a URL is (RFC 3986, UTF-8): S%C3%A3o%20Paulo. Coordinates and
// the radius are plain numbers: degrees, and kilometres.
func (f Facts) Values() []string {
	var variants []string
	for _, name := range slices.Sorted(maps.Keys(f.Variants)) {
		variants = append(variants, name+"="+f.Variants[name])
	}
	return []string{
		f.CountryCode, f.RegionCode, f.Language, f.CurrencyCode, f.TimeZone, strings.Join(variants, ", "), f.Gate, namesField(f.Names),
		encoded(plain.Value(f.Names.City)), number(f.Latitude), number(f.Longitude), number(f.RadiusKm),
	}
}

// encoded percent-encodes what is not unreserved in a URL (RFC 3986, section 2.3).
func encoded(text string) string {
	var b []byte
	for i := range len(text) {
		if c := text[i]; 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte("-._~", c) >= 0 {
			b = append(b, c)
		} else {
			b = fmt.Appendf(b, "%%%02X", c)
		}
	}
	if len(b) > maxValue {
		return ""
	}
	return string(b)
}

func number(n *float64) string {
	if n == nil {
		return ""
	}
	return strconv.FormatFloat(*n, 'f', -1, 64)
}

func namesField(n atlas.Names) string {
	var list []string
	for _, one := range []struct {
		key  string
		name *string
	}{{"country", n.Country}, {"region", n.Region}, {"city", n.City}} {
		if one.name != nil {
			list = append(list, one.key+"="+displayString(*one.name))
		}
	}
	return strings.Join(list, ", ")
}

// displayString writes a text as RFC 9651 has it (section 4.1.11): UTF-8, percent-encoded
// where it is not printable ASCII.
func displayString(text string) string {
	b := []byte(`%"`)
	for i := range len(text) {
		if c := text[i]; c == '%' || c == '"' || c < 0x20 || c > 0x7e {
			b = fmt.Appendf(b, "%%%02x", c)
		} else {
			b = append(b, c)
		}
	}
	return string(append(b, '"'))
}

// The cookies: what [Sign] writes, and the language that a visitor chose, BCP 47, which
// porch.js sets.
const (
	CookieName   = "porch_facts"
	ChoiceCookie = "porch_choice"
	// PassCookie is an owner's pass through the gates.
	PassCookie = "porch_pass"
)

// ErrCookie is wrapped where a cookie is not to be believed.
var ErrCookie = errors.New("the cookie is not to be believed")

// cookie is what a cookie holds.
type cookie struct {
	Facts
	Expires int64 `json:"expires"` // Unix seconds
}

// Sign writes a cookie's value that [Open] believes until it expires: [signed.Sign] says how.
func Sign(f Facts, key []byte, expires time.Time) string {
	return signed.Sign(cookie{f, expires.Unix()}, key)
}

// Open reads a cookie's value. The error wraps [ErrCookie] where it was not signed with
// the key, or its time is over.
func Open(value string, key []byte, now time.Time) (Facts, error) {
	var c cookie
	if err := signed.Open(value, key, &c); err != nil {
		return Facts{}, fmt.Errorf("%w: %w", ErrCookie, err)
	}
	if now.Unix() >= c.Expires {
		return Facts{}, fmt.Errorf("%w: its time is over", ErrCookie)
	}
	return c.Facts, nil
}

// Fields of a question about another request, which the owner's proxy sets.
const (
	OriginalTarget = "Porch-Original-Target"
	OriginalMethod = "Porch-Original-Method"
	OriginalScheme = "Porch-Original-Scheme"
	OriginalHost   = "Porch-Original-Host"
)
