package card

import (
	"strconv"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/jsonout"
	"eastporch/internal/core/locale"
)

// AppendJSON appends a card as JSON, byte for byte as encoding/json writes it, in a
// fraction of the time.
func (c *Card) AppendJSON(b []byte) []byte {
	b = append(b, `{"address":`...)
	b = AppendAddress(b, &c.Address)
	// The finding's own JSON is used for the parts that the card still has from it.
	b = append(b, `,"location":`...)
	if c.found != nil && c.found.IsLocated(&c.Location) {
		b = append(b, c.found.Encoded().Location...)
	} else {
		b = c.Location.AppendJSON(b)
	}
	b = append(b, `,"network":`...)
	if c.found != nil && c.found.IsNetwork(&c.Network) {
		b = append(b, c.found.Encoded().Network...)
	} else {
		b = c.Network.AppendJSON(b)
	}
	b = append(b, `,"labels":`...)
	b = jsonout.Strings(b, c.Labels)
	b = append(b, `,"locale":`...)
	b = appendLocale(b, &c.Locale)
	b = append(b, `,"clock":`...)
	b = AppendClock(b, &c.Clock)
	b = append(b, `,"money":`...)
	b = appendMoney(b, &c.Money)
	b = append(b, `,"variants":`...)
	b = jsonout.Map(b, c.Variants)
	b = append(b, `,"device":`...)
	if c.Device != nil {
		b = jsonout.Any(b, c.Device)
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"evidence":`...)
	if c.found != nil && c.found.IsEvidence(c.Evidence) {
		b = append(b, c.found.Encoded().Evidence...)
	} else {
		b = atlas.AppendEvidence(b, c.Evidence)
	}
	b = append(b, `,"edition":{"name":`...)
	b = jsonout.String(b, c.Edition.Name)
	b = append(b, `,"credits":`...)
	b = jsonout.Strings(b, c.Edition.Credits)
	return append(b, "}}"...)
}

// AppendAddress appends the subject of a card as JSON.
func AppendAddress(b []byte, a *Address) []byte {
	b = append(b, `{"text":`...)
	b = jsonout.Address(b, a.Text)
	b = append(b, `,"family":`...)
	b = jsonout.Int(b, a.Family)
	b = append(b, `,"kind":`...)
	if a.Kind != nil {
		b = jsonout.String(b, a.Kind.String())
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"obtained":`...)
	b = jsonout.String(b, a.Obtained)
	b = append(b, `,"skipped":`...)
	b = strconv.AppendBool(b, a.Skipped)
	b = append(b, `,"placeholder":`...)
	b = jsonout.Optional(b, a.Placeholder)
	b = append(b, `,"embedded":`...)
	b = jsonout.Address(b, a.Embedded)
	b = append(b, `,"reason":`...)
	b = jsonout.Optional(b, a.Reason)
	return append(b, '}')
}

func appendLocale(b []byte, l *locale.Locale) []byte {
	for _, f := range [...]struct{ key, value string }{
		{`{"language":`, l.Language}, {`,"script":`, l.Script}, {`,"direction":`, l.Direction}, {`,"formatting":`, l.Formatting}, {`,"reason":`, l.Reason},
	} {
		b = append(b, f.key...)
		b = jsonout.String(b, f.value)
	}
	b = append(b, `,"offered":`...)
	b = jsonout.Strings(b, l.Offered)
	b = append(b, `,"names":{"language":`...)
	b = jsonout.String(b, l.Names.Language)
	b = append(b, `,"country":`...)
	b = jsonout.Optional(b, l.Names.Country)
	b = append(b, `},"hints":`...)
	b = jsonout.Strings(b, l.Hints)
	return append(b, '}')
}

// AppendClock appends a clock as JSON.
func AppendClock(b []byte, c *locale.Clock) []byte {
	b = append(b, `{"time_zone":`...)
	b = jsonout.Optional(b, c.TimeZone)
	b = append(b, `,"local_time":`...)
	b = jsonout.Optional(b, c.LocalTime)
	b = append(b, `,"utc_offset":`...)
	b = jsonout.Optional(b, c.UTCOffset)
	b = append(b, `,"next_change":`...)
	b = jsonout.Optional(b, c.NextChange)
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
	b = jsonout.Optional(b, m.CurrencyCode)
	b = append(b, `,"symbol":`...)
	b = jsonout.Optional(b, m.Symbol)
	b = append(b, `,"minor_units":`...)
	b = jsonout.Int(b, m.MinorUnits)
	b = append(b, `,"display_digits":`...)
	b = jsonout.Int(b, m.Digits)
	b = append(b, `,"also":`...)
	b = jsonout.Strings(b, m.Also)
	b = append(b, `,"rate":`...)
	if r := m.Rate; r != nil {
		b = append(b, `{"from":`...)
		b = jsonout.String(b, r.From)
		b = append(b, `,"rate":`...)
		b = jsonout.String(b, r.Rate.String())
		b = append(b, `,"direction":`...)
		b = jsonout.Optional(b, r.Direction)
		b = append(b, `,"dated":`...)
		b = jsonout.String(b, r.Dated)
		b = append(b, `,"source":`...)
		b = jsonout.String(b, r.Source)
		b = append(b, `,"ending":`...)
		b = jsonout.Optional(b, r.Ending)
		b = append(b, '}')
	} else {
		b = append(b, "null"...)
	}
	return append(b, '}')
}
