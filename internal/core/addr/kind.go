package addr

import (
	_ "embed"
	"encoding/csv"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
)

// A Kind says what an address is good for, after the IANA special-purpose
// registries (RFC 6890). The zero Kind is Reserved: what is not known to be
// public is not.
type Kind uint8

// The kinds, and nothing else.
const (
	Reserved Kind = iota
	Public
	Private
	Loopback
	LinkLocal
	Shared
	Documentation
	Benchmarking
	Multicast
	Broadcast
	Unspecified
	ThisNetwork
	Protocol
	Service
	Translation
	Tunnel
	Discard
)

var kindWords = [...]string{
	Reserved: "reserved", Public: "public", Private: "private", Loopback: "loopback",
	LinkLocal: "link-local", Shared: "shared", Documentation: "documentation",
	Benchmarking: "benchmarking", Multicast: "multicast", Broadcast: "broadcast",
	Unspecified: "unspecified", ThisNetwork: "this-network", Protocol: "protocol",
	Service: "service", Translation: "translation", Tunnel: "tunnel", Discard: "discard",
}

// Kinds lists every kind in the order of the constants.
func Kinds() []Kind {
	all := make([]Kind, len(kindWords))
	for i := range all {
		all[i] = Kind(i)
	}
	return all
}

// String gives the word that the API and the console use.
func (k Kind) String() string {
	if int(k) < len(kindWords) {
		return kindWords[k]
	}
	return fmt.Sprintf("kind(%d)", uint8(k))
}

// MarshalText writes the word of the kind.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the word of a kind.
func (k *Kind) UnmarshalText(text []byte) error {
	found, ok := ParseKind(string(text))
	if !ok {
		return fmt.Errorf("%q is not a kind of address", quotable(string(text)))
	}
	*k = found
	return nil
}

// ParseKind reads the word of a kind.
func ParseKind(word string) (Kind, bool) {
	i := slices.Index(kindWords[:], word)
	return Kind(max(i, 0)), i >= 0
}

// A Block is a row of the special-purpose registries, or one of the few blocks
// that are special without a row there.
type Block struct {
	Prefix    netip.Prefix
	Kind      Kind
	Name      string // as the registry has it
	Reference string // the RFC behind it
	// Reachable says whether the registry calls it globally reachable; nil
	// where the registry says neither.
	Reachable *bool
}

// KindOf tells the kind of a. The most specific block wins; IPv6 outside
// 2000::/3 and every block is Reserved, and so is the zero Addr.
func KindOf(a netip.Addr) Kind {
	if b := find(Canonical(a)); b != nil {
		return b.Kind
	}
	return kindElsewhere(Canonical(a))
}

// BlockOf gives the most specific block that holds a; ok is false where none
// does, which leaves a public, or reserved for IPv6 outside 2000::/3.
func BlockOf(a netip.Addr) (block Block, ok bool) {
	if b := find(Canonical(a)); b != nil {
		return *b, true
	}
	return Block{}, false
}

// Blocks lists every block, in the order of the registries' file.
func Blocks() []Block { return slices.Clone(registry().rows) }

// Elsewhere are the blocks of what no registry makes special.
func Elsewhere() []Block {
	return []Block{
		{Prefix: netip.MustParsePrefix("0.0.0.0/0"), Kind: Public},
		{Prefix: netip.MustParsePrefix("2000::/3"), Kind: Public},
		{Prefix: netip.MustParsePrefix("::/0"), Kind: Reserved},
	}
}

func kindElsewhere(a netip.Addr) Kind {
	if a.Is4() || a.Is6() && a.As16()[0]>>5 == 1 {
		return Public
	}
	return Reserved
}

//go:embed special-purpose.csv
var registryFile string

// blocks holds the registry and, by first byte and family, the rows that may
// hold an address, the most specific first.
type blocks struct {
	rows   []Block
	v4, v6 [256][]*Block
}

var registry = sync.OnceValue(func() *blocks {
	records, err := csv.NewReader(strings.NewReader(registryFile)).ReadAll()
	if err != nil {
		panic("addr: the embedded registry is unreadable: " + err.Error())
	}
	b := &blocks{}
	for _, r := range records[1:] {
		kind, ok := ParseKind(r[1])
		if !ok { // "mapped": never seen, since mapped addresses are unwrapped first
			continue
		}
		row := Block{Prefix: netip.MustParsePrefix(r[0]), Kind: kind, Name: r[2], Reference: r[3]}
		if r[7] != "" {
			reachable := r[7] == "true"
			row.Reachable = &reachable
		}
		b.rows = append(b.rows, row)
	}
	for i := range b.rows {
		row := &b.rows[i]
		index, first := &b.v4, row.Prefix.Addr().AsSlice()[0]
		if row.Prefix.Addr().Is6() {
			index = &b.v6
		}
		spread := 1 << max(0, 8-row.Prefix.Bits())
		for f := int(first); f < int(first)+spread; f++ {
			index[f] = append(index[f], row)
		}
	}
	for f := range 256 {
		byLength := func(x, y *Block) int { return y.Prefix.Bits() - x.Prefix.Bits() }
		slices.SortStableFunc(b.v4[f], byLength)
		slices.SortStableFunc(b.v6[f], byLength)
	}
	return b
})

func find(a netip.Addr) *Block {
	var candidates []*Block
	switch {
	case a.Is4():
		candidates = registry().v4[a.As4()[0]]
	case a.Is6():
		candidates = registry().v6[a.As16()[0]]
	}
	for _, b := range candidates {
		if b.Prefix.Contains(a) {
			return b
		}
	}
	return nil
}

// An Embedding says where IPv6 addresses of a prefix carry one of IPv4.
type Embedding struct {
	Prefix  netip.Prefix
	How     string // NAT64, 6to4 or Teredo
	Own     bool   // the owner's translator
	At      [4]int // the bytes that carry it
	Flipped bool   // every bit of them (RFC 4380, section 4)
}

// Embeddings are NAT64 with the well-known prefix and those of the owner (RFC
// 6052), 6to4 (RFC 3056) and Teredo (RFC 4380), the longest prefix first.
// 64:ff9b:1::/48 is one only where the owner's prefix lies in it, since only its
// owner knows its length; prefixes of no length of RFC 6052 are passed over.
func Embeddings(translators ...netip.Prefix) []Embedding {
	var list []Embedding
	for _, p := range translators {
		if p.Addr().Is6() && TranslatorLength(p.Bits()) {
			list = append(list, Embedding{Prefix: p.Masked(), How: "NAT64", Own: true, At: translated(p.Bits())})
		}
	}
	list = append(list, wellKnown...)
	slices.SortStableFunc(list, func(x, y Embedding) int { return y.Prefix.Bits() - x.Prefix.Bits() })
	return list
}

var wellKnown = []Embedding{
	{Prefix: netip.MustParsePrefix("64:ff9b::/96"), How: "NAT64", At: translated(96)},
	{Prefix: netip.MustParsePrefix("2001::/32"), How: "Teredo", At: translated(96), Flipped: true},
	{Prefix: netip.MustParsePrefix("2002::/16"), How: "6to4", At: [4]int{2, 3, 4, 5}},
}

// Embedded gives the IPv4 address that a translation or tunnel address carries by
// the first of a list of embeddings that holds it. It serves location only:
// trust, labels and rules see the address that was received. ok is false for every
// other address.
func Embedded(a netip.Addr, list []Embedding) (inner netip.Addr, by Embedding, ok bool) {
	if !a.Is6() || a.Is4In6() {
		return netip.Addr{}, Embedding{}, false
	}
	b := a.As16()
	for _, e := range list {
		if !e.Prefix.Contains(a) {
			continue
		}
		var four [4]byte
		for i, at := range e.At {
			four[i] = b[at]
			if e.Flipped {
				four[i] = ^four[i]
			}
		}
		return netip.AddrFrom4(four), e, true
	}
	return netip.Addr{}, Embedding{}, false
}

// TranslatorLength says whether a NAT64 prefix may have a length (RFC 6052,
// section 2.2).
func TranslatorLength(bits int) bool {
	return slices.Contains([]int{32, 40, 48, 56, 64, 96}, bits)
}

// translated says where the IPv4 address is that follows a NAT64 prefix; the
// ninth byte is passed over (RFC 6052, section 2.2).
func translated(bits int) (at [4]int) {
	next := bits / 8
	for i := range at {
		if next == 8 {
			next++
		}
		at[i] = next
		next++
	}
	return at
}
