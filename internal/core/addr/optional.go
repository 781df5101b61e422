package addr

import (
	"encoding/json"
	"net/netip"
)

// An Optional is an address that may be absent. The zero Optional is absent and
// is null in JSON.
type Optional struct{ netip.Addr }

// MarshalJSON writes the address as a string, or null.
func (o Optional) MarshalJSON() ([]byte, error) {
	if !o.IsValid() {
		return []byte("null"), nil
	}
	return json.Marshal(o.Addr)
}

// UnmarshalJSON reads null, or an address in any spelling of [Parse].
func (o *Optional) UnmarshalJSON(data []byte) error {
	var text *string
	if err := json.Unmarshal(data, &text); err != nil {
		return err
	}
	o.Addr = netip.Addr{}
	if text == nil {
		return nil
	}
	a, err := Parse(*text)
	o.Addr = a
	return err
}

// An OptionalRange is a range that may be absent. The zero OptionalRange is absent and is
// null in JSON.
type OptionalRange struct{ Range }

// IsValid says whether there is a range.
func (o OptionalRange) IsValid() bool { return o.First.IsValid() }

// String gives the range as a text, "" for none.
func (o OptionalRange) String() string {
	if !o.IsValid() {
		return ""
	}
	return o.Range.String()
}

// MarshalJSON writes the range as a string, or null.
func (o OptionalRange) MarshalJSON() ([]byte, error) {
	if !o.IsValid() {
		return []byte("null"), nil
	}
	return json.Marshal(o.Range.String())
}

// UnmarshalJSON reads null, or a range in any spelling of [ParseRange].
func (o *OptionalRange) UnmarshalJSON(data []byte) error {
	var text *string
	if err := json.Unmarshal(data, &text); err != nil {
		return err
	}
	o.Range = Range{}
	if text == nil {
		return nil
	}
	r, err := ParseRange(*text)
	o.Range = r
	return err
}
