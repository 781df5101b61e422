package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/netip"
	"strconv"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
)

// ReadDelegated reads the registries' statistics exchange form with [Read],
// plain or extended: registry|country|type|start|value|date|status, where value
// counts addresses for ipv4, which may be no power of two, and is a prefix length
// for ipv6. Only allocated and assigned rows count; rows of AS numbers say
// nothing about prefixes, and countries that are none, such as EU and ZZ, are
// passed over and counted in Remarks. What it says is a registration, never a
// location.
func ReadDelegated(r io.Reader, about atlas.About) (*atlas.Source, error) {
	return Read(r, ParseOptions{Format: Delegated}, about)
}

type delegatedRows struct {
	fields  [][]byte
	country []byte
}

var bar = []byte{'|'}

func (d *delegatedRows) row(line []byte) (span rangeText, key []byte, skip bool, err error) {
	line = bytes.TrimSpace(line)
	if len(line) == 0 || line[0] == '#' {
		return span, nil, true, nil
	}
	d.fields = split(d.fields[:0], line, '|')
	if len(d.fields) < 6 {
		return span, nil, false, errors.New("a row has seven fields with | between")
	}
	if len(d.fields) < 7 || string(d.fields[5]) == "summary" || isVersionLine(d.fields) {
		return span, nil, true, nil
	}
	kind, status := string(d.fields[2]), string(d.fields[6])
	if kind == "asn" || status != "allocated" && status != "assigned" {
		return span, nil, true, nil
	}
	span.span, err = delegatedRange(kind, string(d.fields[3]), string(d.fields[4]))
	d.country = d.fields[1]
	return span, d.country, false, err
}

func (d *delegatedRows) place() (p atlas.Place, remark string, passed bool, err error) {
	p.Country = strings.ToUpper(string(d.country))
	if err := almanac.CheckCode(p.Country); err != nil {
		return p, err.Error() + "; passed over", true, nil
	}
	return p, "", false, nil
}

// isVersionLine recognises the first line, which begins with a version number.
func isVersionLine(fields [][]byte) bool {
	_, err := strconv.ParseFloat(string(fields[0]), 64)
	return err == nil
}

func delegatedRange(kind, start, value string) (addr.Range, error) {
	first, err := addr.Parse(start)
	if err != nil {
		return addr.Range{}, errors.New(strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": "))
	}
	switch kind {
	case "ipv6":
		p, err := addr.ParsePrefix(start + "/" + value)
		if err != nil || !first.Is6() {
			return addr.Range{}, fmt.Errorf("%s/%.8s is not an IPv6 prefix", start, value)
		}
		return addr.RangeOf(p), nil
	case "ipv4":
		count, err := strconv.ParseUint(value, 10, 33)
		if err != nil || count == 0 || !first.Is4() {
			return addr.Range{}, fmt.Errorf("%.12q is not a count of IPv4 addresses", value)
		}
		b := first.As4()
		end := new(big.Int).SetBytes(b[:]).Uint64() + count - 1
		if end > 1<<32-1 {
			return addr.Range{}, fmt.Errorf("%s addresses from %s on go beyond IPv4", value, start)
		}
		return addr.Range{First: first, Last: netip.AddrFrom4([4]byte{byte(end >> 24), byte(end >> 16), byte(end >> 8), byte(end)})}, nil
	}
	return addr.Range{}, fmt.Errorf("%.12q is not a type of a row", kind)
}
