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
