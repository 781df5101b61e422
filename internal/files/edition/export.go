package edition

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/plain"
)

// Export writes what an edition says as one table: every stretch that has one
// location, merged from all sources, as a CSV whose columns are [Columns], which
// [ReadTable] reads, or as a geofeed (RFC 8805), which has prefixes and no
// coordinates. Nothing derived is in it; what asks not to be located stands with the
// country ZZ, in a geofeed without any. progress, unless nil, is told the share
// done. Unless raw, what a spreadsheet would take for a formula is made harmless
// ([plain.Guard]). It ends early where w gives an error.
func Export(a *atlas.Atlas, w io.Writer, format source.Format, raw bool, progress func(share float64)) error {
	out := bufio.NewWriterSize(w, 1<<20)
	row := csv.NewWriter(out)
	switch format {
	case source.CSV:
		head := []string{"range"}
		for i := range atlas.Facts {
			if atlas.Facts[i].Claimed() {
				head = append(head, atlas.Facts[i].Name)
			}
		}
		_ = row.Write(append(head, "labels"))
	case source.Geofeed:
		fmt.Fprintf(out, "# Edition %s\n# prefix,country_code,region_code,city,postal_code\n", a.Name())
	default:
		return fmt.Errorf("an edition is exported as %s or %s, not as %q", source.CSV, source.Geofeed, format)
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
		if format == source.CSV {
			_ = row.Write(append([]string{span.String()}, last...))
			return
		}
		for _, p := range span.Prefixes() {
			_ = row.Write([]string{p.String(), last[0], last[1], last[2], ""})
		}
	}
	for i, space := range atlas.Spaces {
		steps := 0
		atlas.Sweep(space, func(cell addr.Range) bool {
			says := says(a, cell.First, format)
			if last != nil && says != nil && strings.Join(last, "\x1f") == strings.Join(says, "\x1f") && span.Last.Next() == cell.First {
				span.Last = cell.Last
			} else {
				flush()
				last, span = says, cell
			}
			if steps++; steps%50_000 == 0 && progress != nil {
				progress((float64(i) + atlas.Weight(addr.Range{First: space.First, Last: cell.Last})/atlas.Weight(space)) / 2)
			}
			return row.Error() == nil
		}, a)
		flush()
		last = nil
	}
	row.Flush()
	if err := row.Error(); err != nil {
		return err
	}
	return out.Flush()
}

// says is what an export writes of an address behind its range, or nil.
func says(a *atlas.Atlas, ip netip.Addr, format source.Format) []string {
	rec, _, located := a.Located(ip)
	if rec.ByPoint {
		rec.Country = ""
	}
	if format == source.Geofeed {
		if rec.Country == "" && !rec.DoNotLocate {
			return nil
		}
		return []string{rec.Country, rec.Region, rec.City}
	}
	var labels []string
	var network atlas.Record
	named := false
	for _, s := range a.Sources() {
		if n, ok := s.Find(ip, (*atlas.Place).Names); ok && !named {
			network, named = n, true
		}
		s.Around(ip, func(rec atlas.Record) { labels = append(labels, rec.Labels...) })
	}
	var fields []string
	for i := range atlas.Facts {
		switch f := &atlas.Facts[i]; {
		case !f.Claimed():
		case f.Network:
			fields = append(fields, f.Claim(&network.Place))
		case f.Name == "country_code" && rec.DoNotLocate:
			fields = append(fields, "ZZ")
		case located:
			fields = append(fields, f.Claim(&rec.Place))
		default:
			fields = append(fields, "")
		}
	}
	fields = append(fields, strings.Join(labels, "; "))
	if strings.Join(fields, "") == "" {
		return nil
	}
	return fields
}
