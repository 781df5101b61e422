// Package synthetic makes large, invented range data from a seed, for
// benchmarks and for trying the service at full size. Nothing in it is true:
// towns are taken from the gazetteer and dealt out at random.
package synthetic

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/rangetable"
)

// The size of the set that the promises about speed are measured on.
const (
	Rows4  = 3_400_000
	Rows6  = 1_100_000
	Places = 200_000
)

// Ranges makes up to n4 and n6 nested ranges over the whole unicast space, most
// of IPv4 at /20 to /26 and most of IPv6 at /32 to /48, sorted, with values from
// 1 to places. The same seed gives the same ranges. With fewer rows than the
// constants say, the set ends earlier in the space.
func Ranges(seed uint64, n4, n6, places int) (v4, v6 []rangetable.Row) {
	r := rand.New(rand.NewPCG(seed, 1))
	value := func() uint32 { return 1 + r.Uint32N(uint32(places)) }
	return ranges4(r, n4, value), ranges6(r, n6, value)
}

// lengths4 are the lengths of most prefixes, as often as they stand here.
var lengths4 = []uint8{20, 20, 21, 21, 22, 22, 22, 23, 23, 23, 24, 24, 24, 24, 24, 24, 24, 24, 25, 26}

func ranges4(r *rand.Rand, n int, value func() uint32) []rangetable.Row {
	rows := make([]rangetable.Row, 0, n)
	add := func(at uint32, bits uint8) {
		if len(rows) < n {
			rows = append(rows, rangetable.Row{Hi: uint64(at) << 32, Bits: bits, Value: value()})
		}
	}
	for at := uint32(1 << 24); at < 224<<24 && len(rows) < n; {
		parent := uint8(12 + r.UintN(5))
		for at&(1<<(32-parent)-1) != 0 {
			parent++
		}
		end := at + 1<<(32-parent)
		add(at, parent)
		for at < end {
			bits := lengths4[r.IntN(len(lengths4))]
			for at&(1<<(32-bits)-1) != 0 {
				bits++
			}
			if bits <= 26 && r.IntN(100) < 91 { // else the wider one goes on
				add(at, bits)
				if bits <= 24 && r.IntN(100) < 4 {
					add(at+r.Uint32N(1<<(32-bits-4))<<4, 28)
				}
			}
			at += 1 << (32 - bits)
		}
	}
	return rows
}

// blocks6 are the /16s in use.
var blocks6 = []uint64{
	0x2001, 0x2003, 0x2400, 0x2401, 0x2402, 0x2403, 0x2404, 0x2405, 0x2406, 0x2407, 0x2408, 0x2409, 0x240e,
	0x2600, 0x2601, 0x2602, 0x2603, 0x2604, 0x2605, 0x2606, 0x2607, 0x2620, 0x2800, 0x2801, 0x2803, 0x2804, 0x2806,
	0x2a00, 0x2a01, 0x2a02, 0x2a03, 0x2a04, 0x2a05, 0x2a06, 0x2a07, 0x2a0a, 0x2a0d, 0x2a0e, 0x2a10, 0x2c0f,
}

func ranges6(r *rand.Rand, n int, value func() uint32) []rangetable.Row {
	rows := make([]rangetable.Row, 0, n)
	add := func(at uint64, bits uint8) {
		if len(rows) < n {
			rows = append(rows, rangetable.Row{Hi: at, Bits: bits, Value: value()})
		}
	}
	each := n/len(blocks6) + 1
	for i, block := range blocks6 {
		for at := uint64(0); at < 1<<16 && len(rows) < min(n, each*(i+1)); {
			bits := []uint8{29, 32, 32, 32, 32, 32}[r.IntN(6)]
			for at&(1<<(32-bits)-1) != 0 {
				bits++
			}
			first := block<<48 | at<<32
			add(first, bits)
			inner := uint64(0)
			for range 1 << r.UintN(8) { // most hold few, some hold many
				inner += 1 + r.Uint64N(200)
				if inner >= 1<<16 {
					break
				}
				add(first|inner<<16, []uint8{40, 44, 48, 48, 48}[r.IntN(5)])
				if last := &rows[len(rows)-1]; last.Bits < 48 { // aligned, and nothing before it
					last.Hi &^= 1<<(64-last.Bits) - 1
					inner = (last.Hi>>16&0xffff + 1<<(48-last.Bits)) - 1
					if len(rows) > 1 && rows[len(rows)-2].Compare(*last) >= 0 {
						rows = rows[:len(rows)-1]
					}
				}
				if r.IntN(200) == 0 {
					add(first|inner<<16|r.Uint64N(1<<8), 64)
				}
			}
			at += 1<<(32-bits) + r.Uint64N(3)
		}
	}
	return rows
}

// WriteCSV writes the set as a table with the columns range, country_code,
// region_code, city, latitude and longitude.
func WriteCSV(w io.Writer, seed uint64, n4, n6, places int) error {
	v4, v6 := Ranges(seed, n4, n6, places)
	out := bufio.NewWriterSize(w, 1<<20)
	fmt.Fprintln(out, "range,country_code,region_code,city,latitude,longitude")
	tails := tails(seed, places)
	for i := range v4 {
		out.Write(v4[i].Prefix(true).AppendTo(out.AvailableBuffer()))
		out.WriteString(tails[v4[i].Value-1])
	}
	for i := range v6 {
		out.Write(v6[i].Prefix(false).AppendTo(out.AvailableBuffer()))
		out.WriteString(tails[v6[i].Value-1])
	}
	return out.Flush()
}

// tails are what the rows say of each place.
func tails(seed uint64, places int) []string {
	r := rand.New(rand.NewPCG(seed, 2))
	towns, list := gazetteer.Towns(), make([]string, places)
	for i := range list {
		t := &towns[i%len(towns)]
		name := t.Name
		if i >= len(towns) {
			name = fmt.Sprintf("%s %d", t.Name, i/len(towns)+1)
		}
		name = strings.ReplaceAll(name, ",", "") // so that no field wants quotes
		list[i] = fmt.Sprintf(",%s,%s,%s,%.4f,%.4f\n", t.Country, t.Region, name, clamp(t.Point.Latitude+r.NormFloat64()/5, 89), clamp(t.Point.Longitude+r.NormFloat64()/5, 179))
	}
	return list
}

func clamp(v, most float64) float64 { return max(-most, min(most, v)) }

// Queries gives n addresses to look up: uniform over the unicast space, in
// ranges drawn evenly, or in ranges drawn by Zipf's law, where few are asked for
// often.
func Queries(seed uint64, n int, rows []rangetable.Row, is4 bool, how string) []netip.Addr {
	r := rand.New(rand.NewPCG(seed, 3))
	zipf := rand.NewZipf(r, 1.1, 8, uint64(len(rows)-1))
	list := make([]netip.Addr, n)
	for i := range list {
		if how == "uniform" && is4 {
			x := 1<<24 + r.Uint32N(223<<24)
			list[i] = netip.AddrFrom4([4]byte{byte(x >> 24), byte(x >> 16), byte(x >> 8), byte(x)})
			continue
		}
		at := r.IntN(len(rows))
		if how == "zipf" {
			at = int(zipf.Uint64() * 7919 % uint64(len(rows)))
		}
		list[i] = within(r, rows[at].Prefix(is4))
	}
	return list
}

// within draws an address of a prefix.
func within(r *rand.Rand, p netip.Prefix) netip.Addr {
	b, last := p.Addr().AsSlice(), addr.RangeOf(p).Last.AsSlice()
	for i := range b {
		b[i] |= byte(r.UintN(256)) & (b[i] ^ last[i])
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}
