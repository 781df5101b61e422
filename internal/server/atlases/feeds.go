package atlases

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"eastporch/api"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/invalid"
	"eastporch/internal/gather"
)

// FeedQuestion picks geofeeds: of a state, and behind a cursor, a number of them; or with an
// address the one that speaks for it.
type FeedQuestion struct {
	State, Address, After string
	Limit                 int
}

// GatheredFeeds lists the geofeeds that were gathered last.
func (s *Atlases) GatheredFeeds(q FeedQuestion) (api.FeedList, error) {
	if q.State != "" && !slices.Contains(gather.States, gather.State(q.State)) {
		return api.FeedList{}, invalid.Field("state", fmt.Sprintf("%.20q is no state of a feed", q.State), fmt.Sprintf("Give one of %v.", gather.States))
	}
	list, err := gather.Feeds(s.Feeds.Dir)
	if err != nil {
		return api.FeedList{}, err
	}
	only := ""
	if q.Address != "" {
		address, err := netip.ParseAddr(q.Address)
		if err != nil {
			return api.FeedList{}, invalid.Field("address", "this is no address", "Give one such as 198.51.100.7.")
		}
		decides, ok := geofeed.Decide(s.referrals()).Of(address.Unmap())
		if only = decides.URL; !ok {
			list = nil
		}
	}
	answer := api.FeedList{Feeds: []api.GatheredFeed{}, Counts: map[string]int{}}
	for _, f := range list {
		answer.Counts[string(f.State)]++
		answer.Entries += f.Entries
		switch {
		case only != "" && f.URL != only, q.State != "" && string(f.State) != q.State, f.URL <= q.After:
		case len(answer.Feeds) == q.Limit:
			answer.Next = &answer.Feeds[len(answer.Feeds)-1].URL
		default:
			answer.Feeds = append(answer.Feeds, told(f))
		}
	}
	return answer, nil
}

// referrals are all that name feeds now.
func (s *Atlases) referrals() (list []geofeed.Referral) {
	if s.Feeds.Listed != nil {
		list = slices.Clone(s.Feeds.Listed())
	}
	for _, of := range s.Shelf.Current().Sources() {
		list = append(list, of.Feeds()...)
	}
	return list
}

func told(f gather.Feed) api.GatheredFeed {
	made := api.GatheredFeed{
		URL: f.URL, State: string(f.State), NamedBy: f.NamedBy, Named: []api.FeedNaming{}, Entries: f.Entries, Outside: f.Outside, Elsewhere: f.Elsewhere,
		Rejected: f.Rejected, Notes: append([]atlas.Note{}, f.Notes...), Signature: string(f.Signature), Failed: cmp.Or(f.Wrong, f.Failed), Failures: f.Failures, Tried: f.Tried, Good: f.Good, Retry: f.Next,
	}
	for _, r := range f.Named {
		made.Named = append(made.Named, api.FeedNaming{Range: r.Range.String(), Source: r.Source, Network: r.Network, ByRemark: r.ByRemark})
	}
	return made
}
