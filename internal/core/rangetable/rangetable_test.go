package rangetable

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// longest is the reference: a scan for the longest prefix that holds a.
func longest(entries []Entry, a netip.Addr) (value uint32, ok bool) {
	best := -1
	for _, e := range entries {
		if e.Prefix.Contains(a) && e.Prefix.Bits() > best {
			best, value = e.Prefix.Bits(), e.Value
		}
	}
	return value, best >= 0
}

func entry(prefix string, value uint32) Entry {
	return Entry{netip.MustParsePrefix(prefix), value}
}

func TestLookup(t *testing.T) {
	table, err := New([]Entry{
		entry("10.0.0.0/8", 1), entry("10.1.0.0/16", 2), entry("10.1.1.0/24", 3), entry("255.0.0.0/8", 4),
		entry("2001:db8::/32", 5), entry("2001:db8::1/128", 6),
	})
	require.NoError(t, err)
	tests := []struct {
		name, addr string
		want       uint32
		bounds     string
	}{
		{"longest prefix wins", "10.1.1.9", 3, "10.1.1.0/24"},
		{"the outer range resumes after the inner one", "10.1.2.0", 2, "10.1.2.0-10.1.255.255"},
		{"before the inner one", "10.0.255.255", 1, "10.0.0.0/16"},
		{"one past the end", "11.0.0.0", 0, ""},
		{"the last address there is", "255.255.255.255", 4, "255.0.0.0/8"},
		{"IPv6", "2001:db8::2", 5, "2001:db8::2-2001:db8:ffff:ffff:ffff:ffff:ffff:ffff"},
		{"a single address", "2001:db8::1", 6, "2001:db8::1/128"},
		{"mapped is IPv4", "::ffff:10.1.1.9", 3, "10.1.1.0/24"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, bounds, ok := table.Lookup(netip.MustParseAddr(tt.addr))
			assert.Equal(t, tt.want, got)
			assert.Equal(t, tt.want != 0, ok)
			if ok {
				assert.Equal(t, tt.bounds, bounds.String())
			}
		})
	}
	_, _, ok := table.Lookup(netip.Addr{})
	assert.False(t, ok)
	_, _, ok = (&Table{}).Lookup(netip.MustParseAddr("10.0.0.1"))
	assert.False(t, ok, "the zero table holds nothing")
}

func TestBuildRefuses(t *testing.T) {
	_, err := New([]Entry{entry("10.0.0.0/8", 1), entry("10.0.0.0/8", 2)})
	require.ErrorIs(t, err, ErrDuplicate)
	_, err = New([]Entry{{}})
	assert.Error(t, err)
}

// Random nested prefixes, with edges of both families, against the scan.
func TestAgreesWithAScan(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	for round := range 40 {
		seen := map[netip.Prefix]bool{}
		var entries []Entry
		for range 1 + r.IntN(60) {
			p := prefixNear(r)
			if !seen[p] {
				seen[p] = true
				entries = append(entries, Entry{p, uint32(len(entries) + 1)})
			}
		}
		table, err := New(entries)
		require.NoError(t, err)
		var probes []netip.Addr
		for _, e := range entries {
			first, last := e.Prefix.Addr(), lastOf(e.Prefix)
			probes = append(probes, first, last, first.Prev(), last.Next())
		}
		for _, e := range entries { // in every form, and none
			if a := e.Prefix.Addr(); a.Is4() {
				probes = append(probes, netip.AddrFrom16(a.As16()))
			}
		}
		values := make([]uint32, len(probes)+1)
		table.FindAll(append(probes, netip.Addr{}), values)
		for i, a := range probes {
			require.Equal(t, table.Find(a), values[i], "%s among many", a)
		}
		require.Zero(t, values[len(probes)])
		for _, a := range probes {
			if !a.IsValid() || a.Is4In6() {
				continue
			}
			want, wantOK := longest(entries, a)
			got, bounds, ok := table.Lookup(a)
			require.Equal(t, wantOK, ok, "round %d: %s in %v", round, a, entries)
			require.Equal(t, want, got, "round %d: %s in %v", round, a, entries)
			if ok {
				for _, edge := range []netip.Addr{bounds.First, bounds.Last} {
					value, _ := longest(entries, edge)
					require.Equal(t, want, value, "the bounds of %s share its value", a)
				}
				require.True(t, bounds.Contains(a))
			}
		}
	}
}

// prefixNear keeps to few bits, so that prefixes nest and touch.
func prefixNear(r *rand.Rand) netip.Prefix {
	if r.IntN(2) == 0 {
		b := [4]byte{byte(r.IntN(3) * 127), byte(r.IntN(3) * 127), byte(r.IntN(2)), byte(r.IntN(4))}
		return netip.PrefixFrom(netip.AddrFrom4(b), r.IntN(33)).Masked()
	}
	b := [16]byte{byte(0x20 + r.IntN(2)), byte(r.IntN(2)), 15: byte(r.IntN(4))}
	return netip.PrefixFrom(netip.AddrFrom16(b), []int{0, 1, 8, 16, 64, 126, 127, 128}[r.IntN(8)]).Masked()
}

func TestLookupDoesNotAllocate(t *testing.T) {
	table, err := New([]Entry{entry("10.0.0.0/8", 1), entry("2001:db8::/32", 2)})
	require.NoError(t, err)
	a4, a6 := netip.MustParseAddr("10.1.1.1"), netip.MustParseAddr("2001:db8::1")
	assert.Zero(t, testing.AllocsPerRun(100, func() {
		table.Lookup(a4)
		table.Lookup(a6)
	}))
}

// A dense /14 of IPv4 and /32 of IPv6, with ranges of all sizes that crowd in places, so that
// buckets overflow in every way: each number and each cell against an array.
func TestDenseNumbersAgreeWithAnArray(t *testing.T) {
	r := rand.New(rand.NewPCG(15, 17))
	for round := range 12 {
		many, crowd, even := 1+r.IntN(1<<r.IntN(14)), 1+r.IntN(1<<(1+r.IntN(16))), uint32(1)<<r.IntN(5)
		for _, is4 := range []bool{true, false} {
			bits, of := 18, netip.MustParsePrefix("198.16.0.0/14")
			if !is4 {
				bits, of = 16, netip.MustParsePrefix("3fff::/32")
			}
			model := make([]uint32, 1<<bits)
			base := NewRow(of, 1)
			var rows []Row
			for range many {
				at := uint32(r.IntN(len(model)))
				if r.IntN(3) > 0 {
					at = uint32((round*7919 + r.IntN(crowd)) % len(model))
				}
				row := Row{Hi: base.Hi | uint64(at&^(even-1))<<(64-of.Bits()-bits), Bits: uint8(of.Bits() + bits - r.IntN(5)), Value: 1 + uint32(r.IntN(4000))}
				row.Hi = row.Hi &^ (1<<(64-row.Bits) - 1)
				rows = append(rows, row)
			}
			slices.SortFunc(rows, Row.Compare)
			rows = slices.CompactFunc(rows, Row.Twin)
			for _, row := range rows { // the wider stand before the narrower
				first := row.Hi << of.Bits() >> (64 - bits)
				for i := range uint64(1) << (of.Bits() + bits - int(row.Bits)) {
					model[first+i] = row.Value
				}
			}
			v4, v6 := rows, []Row(nil)
			if !is4 {
				v4, v6 = nil, rows
			}
			table, err := Build(v4, v6)
			require.NoError(t, err)
			list, values := make([]netip.Addr, len(model)), make([]uint32, len(model))
			for i := range model {
				list[i] = Row{Hi: base.Hi | uint64(i)<<(64-of.Bits()-bits)}.Prefix(is4).Addr()
			}
			table.FindAll(list, values)
			for i, want := range model {
				if table.Find(list[i]) != want || values[i] != want {
					t.Fatalf("round %d, %s: %d and %d, want %d", round, list[i], table.Find(list[i]), values[i], want)
				}
			}
			for i := 0; i < len(model); { // cells follow each other, and hold one value
				cell := table.Cell(list[i])
				if i > 0 && cell.First != list[i] {
					t.Fatalf("round %d: the cell of %s begins at %s", round, list[i], cell.First)
				}
				value := model[i]
				for ; i < len(model) && cell.Contains(list[i]); i++ {
					if model[i] != value {
						t.Fatalf("round %d: %s and %s are one cell", round, cell, list[i])
					}
				}
			}
		}
	}
}

func lastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 1 << (7 - i%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}
