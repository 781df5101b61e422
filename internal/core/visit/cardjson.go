package visit

import (
	"encoding/json"
	"math"
	"strconv"
	"unicode/utf8"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/locale"
)

// AppendJSON appends a card as JSON, byte for byte as encoding/json writes it, in a
// fraction of the time.
func (c *Card) AppendJSON(b []byte) []byte {
	b = append(b, `{"address":`...)
	b = appendAddress(b, &c.Address)
	b = append(b, `,"whereabouts":`...)
	b = appendWhereabouts(b, &c.Whereabouts)
	b = append(b, `,"network":{"range":`...)
	b = appendOptional(b, c.Network.Range)
	b = append(b, `,"as_number":`...)
	if n := c.Network.ASNumber; n != nil {
		b = strconv.AppendUint(b, uint64(*n), 10)
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"operator":`...)
	b = appendOptional(b, c.Network.Operator)
	b = append(b, `,"missing":`...)
	b = appendMap(b, c.Network.Missing)
	b = append(b, `},"labels":`...)
	b = appendStrings(b, c.Labels)
	b = append(b, `,"locale":`...)
	b = appendLocale(b, &c.Locale)
	b = append(b, `,"clock":`...)
	b = appendClock(b, &c.Clock)
	b = append(b, `,"money":`...)
	b = appendMoney(b, &c.Money)
	b = append(b, `,"variants":`...)
	b = appendMap(b, c.Variants)
	b = append(b, `,"device":`...)
	if c.Device != nil {
		b = appendAny(b, c.Device)
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"evidence":`...)
	b = appendEvidence(b, c.Evidence)
	b = append(b, `,"edition":{"name":`...)
	b = appendString(b, c.Edition.Name)
	b = append(b, `,"credits":`...)
	b = appendStrings(b, c.Edition.Credits)
	return append(b, "}}"...)
}

func appendAddress(b []byte, a *Address) []byte {
	b = append(b, `{"text":`...)
	b = appendAddr(b, a.Text)
	b = append(b, `,"family":`...)
	if a.Family != nil {
		b = strconv.AppendInt(b, int64(*a.Family), 10)
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"kind":`...)
	if a.Kind != nil {
		b = appendString(b, a.Kind.String())
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"obtained":`...)
	b = appendString(b, a.Obtained)
	b = append(b, `,"set_aside":`...)
	b = strconv.AppendBool(b, a.SetAside)
	b = append(b, `,"stored_as":`...)
	b = appendOptional(b, a.StoredAs)
	b = append(b, `,"embedded":`...)
	b = appendAddr(b, a.Embedded)
	b = append(b, `,"reason":`...)
	b = appendOptional(b, a.Reason)
	return append(b, '}')
}

func appendAddr(b []byte, a addr.Optional) []byte {
	if !a.IsValid() {
		return append(b, "null"...)
	}
	if a.Zone() != "" { // which may hold anything
		return appendAny(b, a)
	}
	b = append(b, '"')
	b = a.AppendTo(b)
	return append(b, '"')
}

func appendWhereabouts(b []byte, w *atlas.Whereabouts) []byte {
	b = append(b, `{"level":`...)
	b = appendString(b, string(w.Level))
	for _, f := range [...]struct {
		key   string
		value *string
	}{
		{`,"continent_code":`, w.ContinentCode}, {`,"country_code":`, w.CountryCode}, {`,"region_code":`, w.RegionCode}, {`,"city":`, w.City}, {`,"postal_code":`, w.PostalCode},
	} {
		b = append(b, f.key...)
		b = appendOptional(b, f.value)
	}
	b = append(b, `,"latitude":`...)
	b = appendNumber(b, w.Latitude)
	b = append(b, `,"longitude":`...)
	b = appendNumber(b, w.Longitude)
	b = append(b, `,"radius_km":`...)
	b = appendNumber(b, w.RadiusKm)
	b = append(b, `,"time_zone":`...)
	b = appendOptional(b, w.TimeZone)
	b = append(b, `,"names":{"continent":`...)
	b = appendOptional(b, w.Names.Continent)
	b = append(b, `,"country":`...)
	b = appendOptional(b, w.Names.Country)
	b = append(b, `,"region":`...)
	b = appendOptional(b, w.Names.Region)
	b = append(b, `},"missing":`...)
	b = appendMap(b, w.Missing)
	return append(b, '}')
}

func appendLocale(b []byte, l *locale.Locale) []byte {
	for _, f := range [...]struct{ key, value string }{
		{`{"language":`, l.Language}, {`,"script":`, l.Script}, {`,"direction":`, l.Direction}, {`,"formatting":`, l.Formatting}, {`,"reason":`, l.Reason},
	} {
		b = append(b, f.key...)
		b = appendString(b, f.value)
	}
	b = append(b, `,"offered":`...)
	b = appendStrings(b, l.Offered)
	b = append(b, `,"names":{"language":`...)
	b = appendString(b, l.Names.Language)
	b = append(b, `,"country":`...)
	b = appendOptional(b, l.Names.Country)
	b = append(b, `},"hints":`...)
	b = appendStrings(b, l.Hints)
	return append(b, '}')
}

func appendClock(b []byte, c *locale.Clock) []byte {
	b = append(b, `{"time_zone":`...)
	b = appendOptional(b, c.TimeZone)
	b = append(b, `,"local_time":`...)
	b = appendOptional(b, c.LocalTime)
	b = append(b, `,"utc_offset":`...)
	b = appendOptional(b, c.UTCOffset)
	b = append(b, `,"next_change":`...)
	b = appendOptional(b, c.NextChange)
	b = append(b, `,"business_hours":`...)
	if c.BusinessHours != nil {
		b = strconv.AppendBool(b, *c.BusinessHours)
	} else {
		b = append(b, "null"...)
	}
	return append(b, '}')
}

func appendMoney(b []byte, m *locale.Money) []byte {
	b = append(b, `{"currency_code":`...)
	b = appendOptional(b, m.CurrencyCode)
	b = append(b, `,"symbol":`...)
	b = appendOptional(b, m.Symbol)
	b = append(b, `,"minor_units":`...)
	if m.MinorUnits != nil {
		b = strconv.AppendInt(b, int64(*m.MinorUnits), 10)
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"also":`...)
	b = appendStrings(b, m.Also)
	b = append(b, `,"rate":`...)
	if r := m.Rate; r != nil {
		b = append(b, `{"from":`...)
		b = appendString(b, r.From)
		b = append(b, `,"rate":`...)
		b = appendString(b, r.Rate.String())
		b = append(b, `,"direction":`...)
		b = appendString(b, r.Direction)
		b = append(b, `,"dated":`...)
		b = appendString(b, r.Dated)
		b = append(b, `,"source":`...)
		b = appendString(b, r.Source)
		b = append(b, `,"ending":`...)
		b = appendOptional(b, r.Ending)
		b = append(b, '}')
	} else {
		b = append(b, "null"...)
	}
	return append(b, '}')
}

func appendEvidence(b []byte, list []atlas.Evidence) []byte {
	if list == nil {
		return append(b, "null"...)
	}
	b = append(b, '[')
	for i := range list {
		e := &list[i]
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, `{"facts":`...)
		b = appendStrings(b, e.Facts)
		b = append(b, `,"values":`...)
		b = appendMap(b, e.Values)
		b = append(b, `,"basis":`...)
		b = appendString(b, string(e.Basis))
		b = append(b, `,"source":`...)
		b = appendString(b, e.Source)
		b = append(b, `,"rank":`...)
		if e.Rank != nil {
			b = strconv.AppendInt(b, int64(*e.Rank), 10)
		} else {
			b = append(b, "null"...)
		}
		b = append(b, `,"range":`...)
		b = appendOptional(b, e.Range)
		b = append(b, `,"dated":`...)
		b = appendOptional(b, e.Dated)
		b = append(b, `,"used":`...)
		b = strconv.AppendBool(b, e.Used)
		b = append(b, `,"reason":`...)
		b = appendOptional(b, e.Reason)
		b = append(b, '}')
	}
	return append(b, ']')
}

// appendAny leaves to encoding/json what is seldom there.
func appendAny(b []byte, v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		return append(b, "null"...)
	}
	return append(b, text...)
}

func appendOptional(b []byte, s *string) []byte {
	if s == nil {
		return append(b, "null"...)
	}
	return appendString(b, *s)
}

// escapes are the bytes that make a text want escaping; U+2028 and U+2029 begin with
// 0xe2.
var escapes = func() (set [256]bool) {
	for c := range ' ' {
		set[c] = true
	}
	for _, c := range []byte("\"\\<>&\x7f\xe2") {
		set[c] = true
	}
	return set
}()

// appendString writes a text; one with anything that wants escaping, as encoding/json
// does it for HTML too, is left to that.
func appendString(b []byte, s string) []byte {
	high := false
	for i := 0; i < len(s); i++ {
		if escapes[s[i]] {
			return appendAny(b, s)
		}
		high = high || s[i] >= utf8.RuneSelf
	}
	if high && !utf8.ValidString(s) {
		return appendAny(b, s)
	}
	b = append(b, '"')
	b = append(b, s...)
	return append(b, '"')
}

func appendNumber(b []byte, f *float64) []byte {
	if f == nil {
		return append(b, "null"...)
	}
	if size := math.Abs(*f); size != 0 && (size < 1e-6 || size >= 1e21) || math.IsNaN(size) {
		return appendAny(b, *f)
	}
	return strconv.AppendFloat(b, *f, 'f', -1, 64)
}

func appendStrings(b []byte, list []string) []byte {
	if list == nil {
		return append(b, "null"...)
	}
	b = append(b, '[')
	for i, s := range list {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendString(b, s)
	}
	return append(b, ']')
}

// appendMap writes a map in the order of its keys.
func appendMap(b []byte, m map[string]string) []byte {
	if m == nil {
		return append(b, "null"...)
	}
	var room [16]string
	keys := room[:0]
	for key := range m {
		at := len(keys)
		keys = append(keys, key)
		for ; at > 0 && keys[at-1] > key; at-- {
			keys[at] = keys[at-1]
		}
		keys[at] = key
	}
	b = append(b, '{')
	for i, key := range keys {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendString(b, key)
		b = append(b, ':')
		b = appendString(b, m[key])
	}
	return append(b, '}')
}
