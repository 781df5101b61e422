package visit

import "eastporch/internal/core/addr"

// Mode says how much of an address is kept with a visit. The zero Mode is
// Truncated.
type Mode uint8

// The modes.
const (
	Truncated Mode = iota // a /24 of IPv4, a /48 of IPv6
	Whole
	Hashed  // a keyed hash, whose key is destroyed in time
	Nothing // the configuration says none
)

// Modes are the words of the modes, in the order of their values.
var Modes = []string{"truncated", "whole", "hashed", "none"}

// String gives the word of the configuration.
func (m Mode) String() string { return Modes[m] }

// ParseMode reads the word of a mode; "" is truncated.
func ParseMode(word string) (Mode, bool) {
	for i, w := range Modes {
		if w == word {
			return Mode(i), true
		}
	}
	return Truncated, word == ""
}

// NotKept stands for an address that was not kept.
const NotKept = "not kept"

// Keep leaves of the visit what mode lets be stored: nothing of the address beyond
// the mode is left anywhere in it. hash is what stands for the address under
// [Hashed]; "" counts as [Nothing]. Where the policy names a word to store
// instead of the address, the address goes in every mode.
func (v *Visit) Keep(mode Mode, hash string) {
	if word := v.Card.Address.Placeholder; word != nil {
		if mode != Whole {
			v.Trail = v.Trail.Truncate()
		}
		v.Trail = v.Trail.Forget(*word)
		v.Card.Address.Text, v.Card.Address.Embedded = addr.Optional{}, addr.Optional{}
		if mode != Whole {
			v.Card.Truncate()
		}
		return
	}
	switch mode {
	case Truncated:
		v.Card.Truncate()
		v.Trail = v.Trail.Truncate()
	case Hashed, Nothing:
		word := NotKept
		if mode == Hashed && hash != "" {
			word = hash
		}
		if !v.Card.Address.Text.IsValid() { // there was none to hide
			v.Card.Truncate()
			v.Trail = v.Trail.Truncate().Blank(NotKept)
			break
		}
		v.Card.Forget(word)
		v.Trail = v.Trail.Truncate().Blank(word)
	}
}
