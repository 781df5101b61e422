package atlas

import (
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/netip"
	"strconv"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
)

// ReadDelegated reads the registries' statistics exchange form, plain or
// extended: registry|country|type|start|value|date|status, where value counts
// addresses for ipv4, which may be no power of two, and is a prefix length for
// ipv6. Only allocated and assigned rows count; rows of AS numbers say nothing
// about prefixes, and countries that are none, such as EU and ZZ, are passed
// over and counted in Remarks. What it says is a registration, never a
// location.
func ReadDelegated(r io.Reader, about About) (*Source, error) {
	about.Basis = Registration
	b := newBuilder(about)
	err := eachLine(r, func(n int, text string) {
		b.digest(text)
		fields := strings.Split(strings.TrimSpace(text), "|")
		if len(fields) < 7 || fields[5] == "summary" || strings.HasPrefix(text, "#") || isVersionLine(fields) {
			if len(fields) < 6 && text != "" && !strings.HasPrefix(text, "#") {
				b.source.Rows++
				b.reject(n, text, "a row has seven fields with | between")
			}
			return
		}
		kind, status := fields[2], fields[6]
		if kind == "asn" || status != "allocated" && status != "assigned" {
			return
		}
		b.source.Rows++
		span, err := delegatedRange(kind, fields[3], fields[4])
		if err != nil {
			b.reject(n, text, err.Error())
			return
		}
		country := strings.ToUpper(fields[1])
		if err := almanac.CheckCode(country); err != nil {
			b.remark(n, text, err.Error()+"; passed over")
			return
		}
		b.add(n, text, record{span: span, country: country})
	})
	if err != nil {
		return nil, err
	}
	return b.build()
}

// isVersionLine recognises the first line, which begins with a version number.
func isVersionLine(fields []string) bool {
	_, err := strconv.ParseFloat(fields[0], 64)
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
			return addr.Range{}, fmt.Errorf("%s/%.8s is no IPv6 prefix", start, value)
		}
		return addr.RangeOf(p), nil
	case "ipv4":
		count, err := strconv.ParseUint(value, 10, 33)
		if err != nil || count == 0 || !first.Is4() {
			return addr.Range{}, fmt.Errorf("%.12q is no count of IPv4 addresses", value)
		}
		b := first.As4()
		end := new(big.Int).SetBytes(b[:]).Uint64() + count - 1
		if end > 1<<32-1 {
			return addr.Range{}, fmt.Errorf("%s addresses from %s on go beyond IPv4", value, start)
		}
		return addr.Range{First: first, Last: netip.AddrFrom4([4]byte{byte(end >> 24), byte(end >> 16), byte(end >> 8), byte(end)})}, nil
	}
	return addr.Range{}, fmt.Errorf("%.12q is no type of a row", kind)
}
