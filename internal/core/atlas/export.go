package atlas

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
)

// Export writes what the edition says as one table: every stretch that has one
// location, merged from all sources, as a CSV whose columns are [Columns], which
// [ReadTable] reads, or as a geofeed (RFC 8805), which has prefixes and no
// coordinates. Nothing derived is in it; what asks not to be located stands with the
// country ZZ, in a geofeed without any. progress, unless nil, is told the share
// done. Unless raw, what a spreadsheet would take for a formula is made harmless
// ([plain.Guard]). It ends early where w gives an error.
func (a *Atlas) Export(w io.Writer, format Format, raw bool, progress func(share float64)) error {
	out := bufio.NewWriterSize(w, 1<<20)
	row := csv.NewWriter(out)
	switch format {
	case CSV:
		_ = row.Write([]string{"range", "country_code", "region_code", "city", "postal_code", "latitude", "longitude", "radius_km", "time_zone", "as_number", "operator", "labels"})
	case Geofeed:
		fmt.Fprintf(out, "# Edition %s\n# prefix,country_code,region_code,city,postal_code\n", a.name)
	default:
		return fmt.Errorf("an edition is exported as %s or %s, not as %q", CSV, Geofeed, format)
	}
	var last []string
	var span addr.Range
	flush := func() {
		if last == nil {
			return
		}
		if !raw {
			for i, cell := range last {
				last[i] = plain.Guard(cell)
			}
		}
		if format == CSV {
			_ = row.Write(append([]string{span.String()}, last...))
			return
		}
		for _, p := range span.Prefixes() {
			_ = row.Write([]string{p.String(), last[0], last[1], last[2], ""})
		}
	}
	for i, space := range []addr.Range{all4, all6} {
		steps := 0
		sweep(space, a.tables(), func(cell addr.Range) bool {
			says := a.says(cell.First, format)
			if last != nil && says != nil && strings.Join(last, "\x1f") == strings.Join(says, "\x1f") && span.Last.Next() == cell.First {
				span.Last = cell.Last
			} else {
				flush()
				last, span = says, cell
			}
			if steps++; steps%50_000 == 0 && progress != nil {
				progress((float64(i) + weight(addr.Range{First: space.First, Last: cell.Last})/weight(space)) / 2)
			}
			return row.Error() == nil
		})
		flush()
		last = nil
	}
	row.Flush()
	if err := row.Error(); err != nil {
		return err
	}
	return out.Flush()
}

// Stretches calls do for every stretch of addresses that some source says
// something of, in order, with what Lookup finds there, until do gives false.
func (a *Atlas) Stretches(do func(addr.Range, LookupResult) bool) {
	for _, space := range []addr.Range{all4, all6} {
		going := true
		sweep(space, a.tables(), func(cell addr.Range) bool {
			f := a.find(cell.First)
			if f.Location.Level != None || f.Network.Range != nil || len(f.Labels) > 0 {
				going = do(cell, *f)
			}
			return going
		})
		if !going {
			return
		}
	}
}

// says is what an export writes of an address behind its range, or nil.
func (a *Atlas) says(ip netip.Addr, format Format) []string {
	rec, _, located := a.located(ip)
	if rec.byPoint {
		rec.country = ""
	}
	if format == Geofeed {
		if rec.country == "" && !rec.doNotLocate {
			return nil
		}
		return []string{rec.country, rec.region, rec.city}
	}
	fields := make([]string, 11)
	if rec.doNotLocate {
		fields[0] = "ZZ"
	}
	if located {
		copy(fields, []string{rec.country, rec.region, rec.city, rec.postal})
		if rec.point != nil {
			fields[4], fields[5] = decimal(rec.point.Latitude), decimal(rec.point.Longitude)
		}
		if rec.radiusKm > 0 {
			fields[6] = decimal(rec.radiusKm)
		}
		fields[7] = rec.zone
	}
	var labels []string
	for _, s := range a.sources {
		if n, ok := s.find(ip, (*place).names); ok && fields[8]+fields[9] == "" {
			if n.asNumber != 0 {
				fields[8] = strconv.FormatUint(uint64(n.asNumber), 10)
			}
			fields[9] = n.operator
		}
		s.around(ip, func(rec record) { labels = append(labels, rec.labels...) })
	}
	fields[10] = strings.Join(labels, "; ")
	if strings.Join(fields, "") == "" {
		return nil
	}
	return fields
}

func decimal(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// Sample gives up to n addresses that the edition puts into a country, and into
// a town where city is not "". They are spread over its ranges; the same seed
// gives the same addresses.
func (a *Atlas) Sample(country, city string, n int, seed uint64) []netip.Addr {
	r := rand.New(rand.NewPCG(seed, 9))
	var kept []addr.Range
	seen := 0
	for _, space := range []addr.Range{all4, all6} {
		sweep(space, a.tables(), func(cell addr.Range) bool {
			rec, _, ok := a.located(cell.First)
			if !ok || rec.country != country || city != "" && !strings.EqualFold(rec.city, city) {
				return true
			}
			if seen++; len(kept) < n { // a reservoir: every range is as likely as any other
				kept = append(kept, cell)
			} else if i := r.IntN(seen); i < n {
				kept[i] = cell
			}
			return true
		})
	}
	list := make([]netip.Addr, 0, n)
	taken := map[netip.Addr]bool{}
	for tries := 0; len(kept) > 0 && len(list) < n && tries < 4*n; tries++ {
		if ip := within(r, kept[tries%len(kept)]); !taken[ip] {
			taken[ip] = true
			list = append(list, ip)
		}
	}
	return list
}

// within draws an address of a range; of a wide one, from its beginning.
func within(r *rand.Rand, span addr.Range) netip.Addr {
	ip := span.First
	p := span.Prefixes()[0]
	b, last := ip.AsSlice(), addr.RangeOf(p).Last.AsSlice()
	for i := range b {
		b[i] |= byte(r.UintN(256)) & (b[i] ^ last[i])
	}
	drawn, _ := netip.AddrFromSlice(b)
	return drawn
}
