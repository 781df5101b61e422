package visits

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// leastBits is how wide a prefix may be of which everything is erased.
const leastBits = 8

// Erase erases one visit, or all of an address or prefix.
func (s *Visits) Erase(ctx context.Context, ask api.Erase) (api.Receipt, error) {
	done := api.Receipt{Time: s.now().UTC(), Left: []string{}}
	list, left, err := s.erasures(ask)
	if err != nil {
		return done, err
	}
	done.Left = append(done.Left, left...)
	for _, e := range list {
		one, err := s.Store.Erase(ctx, e, done.Time)
		if err != nil {
			return done, err
		}
		done.Visits, done.Days, done.Quarantine = done.Visits+one.Visits, done.Days+one.Days, done.Quarantine+one.Quarantine
	}
	return done, nil
}

// erasures gives what is to be erased, and the sites whose visits cannot be told from their
// neighbours'.
func (s *Visits) erasures(ask api.Erase) (list []visit.Erasure, left []string, err error) {
	given := 0
	for _, text := range []*string{ask.ID, ask.Address, ask.Prefix} {
		if text != nil {
			given++
		}
	}
	switch {
	case given != 1:
		return nil, nil, invalid.Field("id, address, prefix", fmt.Sprintf("%d of them are given", given), "Give one: the id of a visit, an address, or a prefix.")
	case ask.ID != nil:
		id, err := uuid.Parse(*ask.ID)
		if err != nil || id == uuid.Nil {
			return nil, nil, invalid.Field("id", "this is not a UUID", "Give the id of a visit.")
		}
		return []visit.Erasure{{ID: id}}, nil, nil
	case ask.Prefix != nil:
		prefix, err := addr.ParsePrefix(*ask.Prefix)
		if err != nil {
			return nil, nil, invalid.Field("prefix", addr.Reason(err), "Give a prefix such as 198.18.3.0/24.")
		}
		if prefix.Bits() < leastBits {
			return nil, nil, invalid.Field("prefix", "it is too wide to be meant", fmt.Sprintf("Give a prefix of at least %d bits.", leastBits))
		}
		return []visit.Erasure{{Prefix: prefix}}, nil, nil
	}
	ip, err := addr.Parse(*ask.Address)
	if err != nil {
		return nil, nil, invalid.Field("address", addr.Reason(err), "Give one IPv4 or IPv6 address.")
	}
	return s.everywhere(ip)
}

// everywhere gives what erases an address from all sites.
func (s *Visits) everywhere(ip netip.Addr) (list []visit.Erasure, left []string, err error) {
	var truncated *sites.Site
	for _, site := range s.Sites.All() {
		switch site.Privacy {
		case visit.Whole:
			list = []visit.Erasure{{Address: ip}}
		case visit.Truncated:
			truncated, left = site, append(left, site.Host)
		}
	}
	for _, site := range s.Sites.All() {
		if site.Privacy != visit.Hashed {
			continue
		}
		words, err := s.Privacy.Hashes(site.Host, ip)
		if err != nil {
			return nil, nil, err
		}
		if len(words) > 0 {
			list = append(list, visit.Erasure{Placeholder: words})
		}
	}
	switch {
	case len(list) > 0:
		return list, left, nil
	case truncated != nil:
		return nil, nil, onlyByPrefix(truncated, ip)
	}
	return nil, nil, invalid.Field("address", "no site keeps anything that could be told to be of it", "Give the id of the visit.")
}

// OfAddress makes a filter pick the visits of an address, as far as its site keeps it.
func (s *Visits) OfAddress(f *visit.Filter, text string) error {
	ip, err := addr.Parse(text)
	if err != nil {
		return invalid.Field("address", addr.Reason(err), "Give one IPv4 or IPv6 address.")
	}
	site, err := s.Sites.Find(f.Site)
	if err != nil {
		return err
	}
	switch site.Privacy {
	case visit.Whole:
		f.Within = netip.PrefixFrom(ip, ip.BitLen())
	case visit.Hashed:
		words, err := s.Privacy.Hashes(site.Host, ip)
		if err != nil {
			return err
		}
		f.Placeholder = strings.Join(words, "\n")
		if len(words) == 0 {
			f.Placeholder = "\n" // no key is left, so that nothing can be told to be of it
		}
	default:
		return onlyByPrefix(site, ip)
	}
	return nil
}

func onlyByPrefix(site *sites.Site, ip netip.Addr) error {
	hint := "Give the id of the visit."
	if site.Privacy == visit.Truncated {
		hint = fmt.Sprintf("Give the prefix %s, which its neighbours share, or the id of the visit.", addr.TruncatePrefix(netip.PrefixFrom(ip, ip.BitLen())))
	}
	return invalid.Field("address", fmt.Sprintf("%s keeps no whole addresses, so that its visits cannot be told from others'", site.Host), hint)
}

// State says how visits are kept: what waits, since when rows are kept, and when the next
// ones go.
func (s *Visits) State(ctx context.Context) (api.VisitsState, error) {
	kept, err := s.Store.Kept(ctx)
	if err != nil {
		return api.VisitsState{}, err
	}
	_, apart, err := s.Store.Quarantine(ctx, 1)
	if err != nil {
		return api.VisitsState{}, err
	}
	state := api.VisitsState{Intake: s.Queue.State(), Kept: kept, Quarantine: apart}
	for _, site := range s.Sites.All() {
		if site.Privacy == visit.Hashed {
			at := s.Privacy.NextKey(s.now())
			state.NextKey = &at
		}
	}
	return state, nil
}

// Verify lists the days that a site has rows of, or counts one of them anew and says what
// differs, which mend puts right.
func (s *Visits) Verify(ctx context.Context, ask api.Verify) (api.Verified, error) {
	answer := api.Verified{Site: ask.Site, Days: []string{}, Differs: []visit.CountMismatch{}}
	if _, err := s.Sites.Find(ask.Site); err != nil {
		return answer, err
	}
	if ask.Day == nil {
		days, err := s.Store.Days(ctx, ask.Site, s.now())
		for _, d := range days {
			answer.Days = append(answer.Days, d.Format(time.DateOnly))
		}
		return answer, err
	}
	day, err := time.Parse(time.DateOnly, *ask.Day)
	if err != nil {
		return answer, invalid.Field("day", fmt.Sprintf("%.20q is not a day", *ask.Day), "Write it like 2026-11-14; days are of UTC.")
	}
	if day.Before(s.Store.Oldest(s.now())) {
		return answer, invalid.Field("day", "its rows are no longer kept, and its counts stand alone", "Give a later day.")
	}
	differs, rows, err := s.Store.Verify(ctx, ask.Site, day, ask.Mend)
	answer.Days, answer.Rows, answer.Differs = []string{*ask.Day}, rows, append(answer.Differs, differs...)
	return answer, err
}
