package config

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/geofeed"
)

// Gather is the format of a source that is made of the geofeeds which other sources name.
const Gather = "gather"

// Locations are where the source is: absolute paths or addresses.
func (s AtlasSource) Locations(in Input) []string {
	var list []string
	for _, file := range append([]string{s.File}, s.Files...) {
		if file != "" {
			list = append(list, in.Path(file))
		}
	}
	for _, address := range append([]string{s.URL}, s.URLs...) {
		if address != "" {
			list = append(list, address)
		}
	}
	return list
}

// Places gives files, relative to the configuration file, and addresses.
func (in Input) Places(list []string) (places []string) {
	for _, at := range list {
		if !strings.HasPrefix(at, "http://") && !strings.HasPrefix(at, "https://") {
			at = in.Path(at)
		}
		places = append(places, at)
	}
	return places
}

// Referrals are the geofeeds that the owner lists, one for each range.
func (s AtlasSource) Referrals() (list []geofeed.Referral) {
	for _, f := range s.Geofeeds {
		for _, text := range f.Ranges {
			if span, err := addr.ParseRange(text); err == nil { // which check has made sure of
				list = append(list, geofeed.Referral{Range: addr.OptionalRange{Range: span}, URL: f.URL})
			}
		}
	}
	return list
}

// joinable are the formats of which several files may be read as one.
var joinable = []source.Format{source.Geofeed, source.Delegated, source.List, source.RPSL}

// checkLocations checks where a source comes from, and its format.
func (l *loader) checkLocations(key string, s AtlasSource) {
	if s.Format == Gather {
		l.checkGather(key, s)
		return
	}
	addresses := append([]string{s.URL}, s.URLs...)
	isDatabase := strings.HasPrefix(s.URL, "postgres://") || strings.HasPrefix(s.URL, "postgresql://")
	given := 0
	for _, is := range []bool{s.File != "", s.URL != "", len(s.Files) > 0, len(s.URLs) > 0} {
		if is {
			given++
		}
	}
	switch {
	case s.Name == "" || given != 1:
		l.problem(key, "a source has a name, and a file or an url", "Give name:, and either file: or url:; or files: or urls: where several are one source.")
	case isDatabase != (s.Query != ""):
		l.problem(key+".query", "a query goes with an address of PostgreSQL", "Give both url: postgres://… and query: SELECT ….")
	case len(s.Files)+len(s.URLs) > 1 && !slices.Contains(joinable, source.Format(s.Format)):
		l.problem(key, fmt.Sprintf("several files of the format %q are no one source", s.Format), fmt.Sprintf("Give each a source of its own; several may be one of %v.", joinable))
	}
	for _, address := range addresses {
		if address != "" && !isDatabase && !strings.HasPrefix(address, "http://") && !strings.HasPrefix(address, "https://") {
			l.problem(key+".url", "this is no address of HTTP or PostgreSQL", "Begin it with https://, http:// or postgres://.")
		}
	}
	if formats := source.Formats; !isDatabase && !slices.Contains(formats, source.Format(s.Format)) {
		l.problem(key+".format", fmt.Sprintf("%q is not a format", s.Format), fmt.Sprintf("Give one of %v, or gather; eastporch atlas describe FILE says which.", formats))
	}
	if len(s.Names) > 0 && s.Format != string(source.MRT) {
		l.problem(key+".names", "names of AS numbers go with a routing table", "Write them at the source whose format is mrt.")
	}
	if len(s.From)+len(s.Geofeeds) > 0 || s.HTTP || s.RPKI != "" {
		l.problem(key+".from", "from, geofeeds, http and rpki are of gathered geofeeds", "Write format: gather, without file and url.")
	}
}

func (l *loader) checkGather(key string, s AtlasSource) {
	if s.Name == "" || s.File != "" || s.URL != "" || len(s.Files)+len(s.URLs)+len(s.Names) > 0 || s.Query != "" {
		l.problem(key, "what is gathered has a name, and no file and no url", "Give name:, rank:, and from: where not all sources count.")
	}
	for i, f := range s.Geofeeds {
		at := fmt.Sprintf("%s.geofeeds.%d", key, i)
		u, err := url.Parse(f.URL)
		if err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" && s.HTTP) {
			l.problem(at+".url", fmt.Sprintf("%.100q is no address of HTTPS", f.URL), "Begin it with https://; http: true allows http://.")
		}
		if len(f.Ranges) == 0 {
			l.problem(at+".ranges", "a geofeed speaks for ranges", "Give those that its network holds, such as 203.0.113.0/24.")
		}
		for j, text := range f.Ranges {
			if _, err := addr.ParseRange(text); err != nil {
				l.problem(fmt.Sprintf("%s.ranges.%d", at, j), reasonOf(err), "Give a prefix, an address, or first-last.")
			}
		}
	}
}

// checkFrom checks that what is gathered comes from sources that are there.
func (l *loader) checkFrom(key string, s AtlasSource, all []AtlasSource) {
	for i, name := range s.From {
		n := slices.IndexFunc(all, func(of AtlasSource) bool { return of.Name == name })
		if n < 0 || all[n].Format != string(source.RPSL) {
			l.problem(fmt.Sprintf("%s.from.%d", key, i), fmt.Sprintf("no source of the format rpsl is called %q", name), "Give the name of one, or leave from: out.")
		}
	}
	named := slices.ContainsFunc(all, func(of AtlasSource) bool { return of.Format == string(source.RPSL) })
	if s.Format == Gather && len(s.Geofeeds) == 0 && !named {
		l.problem(key, "nothing names geofeeds to be gathered", "Add a source of the format rpsl, or list some under geofeeds:.")
	}
}

func (l *loader) checkSource(key string, s AtlasSource) {
	l.checkLocations(key, s)
	for fact := range s.Columns {
		if !slices.Contains(source.Columns, fact) {
			l.problem(key+".columns."+fact, "a column cannot be for this", "Known are "+strings.Join(source.Columns, ", ")+".")
		}
	}
	if s.Rank < 1 {
		l.problem(key+".rank", "a rank is 1 or more, and 1 is highest", "Give each source its rank.")
	}
	if s.Dated != "" {
		if _, err := time.Parse(time.DateOnly, s.Dated); err != nil {
			l.problem(key+".dated", fmt.Sprintf("%q is not a date", s.Dated), "Write it like 2026-11-01, in quotes.")
		}
	}
}
