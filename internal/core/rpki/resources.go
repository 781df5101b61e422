package rpki

import (
	"encoding/asn1"
	"errors"
	"net/netip"

	"eastporch/internal/core/addr"
)

// Resources are the addresses that a certificate speaks for (RFC 3779, section 2), by family. A
// family that is inherited has those of the issuer.
type Resources struct {
	Ranges   []addr.Range
	Inherit4 bool
	Inherit6 bool
}

var oidResources = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 7}

var errResources = errors.New("its address resources cannot be read (RFC 3779)")

// parseResources reads the extension IPAddrBlocks.
func parseResources(der []byte) (r Resources, err error) {
	var families []struct {
		Family []byte
		Choice asn1.RawValue
	}
	if rest, err := asn1.Unmarshal(der, &families); err != nil || len(rest) > 0 {
		return r, errResources
	}
	for _, f := range families {
		if len(f.Family) < 2 || f.Family[0] != 0 || f.Family[1] != 1 && f.Family[1] != 2 {
			return r, errResources
		}
		is4 := f.Family[1] == 1
		switch {
		case f.Choice.Tag == asn1.TagNull && is4:
			r.Inherit4 = true
		case f.Choice.Tag == asn1.TagNull:
			r.Inherit6 = true
		case f.Choice.Tag == asn1.TagSequence:
			for rest := f.Choice.Bytes; len(rest) > 0; {
				var one asn1.RawValue
				if rest, err = asn1.Unmarshal(rest, &one); err != nil {
					return r, errResources
				}
				span, err := parseRange(one, is4)
				if err != nil {
					return r, err
				}
				r.Ranges = append(r.Ranges, span)
			}
		default:
			return r, errResources
		}
	}
	return r, nil
}

// parseRange reads a prefix, or first and last.
func parseRange(of asn1.RawValue, is4 bool) (r addr.Range, err error) {
	var first, last asn1.BitString
	switch of.Tag {
	case asn1.TagBitString:
		if _, err := asn1.Unmarshal(of.FullBytes, &first); err != nil {
			return r, errResources
		}
		last = first
	case asn1.TagSequence:
		var pair struct{ Min, Max asn1.BitString }
		if _, err := asn1.Unmarshal(of.FullBytes, &pair); err != nil {
			return r, errResources
		}
		first, last = pair.Min, pair.Max
	default:
		return r, errResources
	}
	from, ok1 := addressOf(first, is4, 0)
	to, ok2 := addressOf(last, is4, 0xff)
	if !ok1 || !ok2 || to.Less(from) {
		return r, errResources
	}
	return addr.Range{First: from, Last: to}, nil
}

// addressOf fills what a bit string leaves open.
func addressOf(bits asn1.BitString, is4 bool, fill byte) (netip.Addr, bool) {
	size := 16
	if is4 {
		size = 4
	}
	if bits.BitLength > 8*size {
		return netip.Addr{}, false
	}
	b := make([]byte, size)
	copy(b, bits.Bytes)
	for i := bits.BitLength; i < 8*size; i++ {
		mask := byte(0x80 >> (i % 8))
		b[i/8] = b[i/8]&^mask | fill&mask
	}
	a, ok := netip.AddrFromSlice(b)
	return a, ok
}

// within says whether all of inner lies in r, of which adjacent ranges count as one.
func (r Resources) within(inner addr.Range) bool {
	at := inner.First
	for {
		next, found := at, false
		for _, own := range r.Ranges {
			if own.Contains(at) && (!found || next.Less(own.Last)) {
				next, found = own.Last, true
			}
		}
		if !found {
			return false
		}
		if !next.Less(inner.Last) {
			return true
		}
		at = next.Next()
	}
}
