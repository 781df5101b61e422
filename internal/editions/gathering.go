package editions

import (
	"context"
	"fmt"
	"slices"
	"time"

	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/gather"
)

// Gather says how geofeeds are gathered (RFC 9632).
type Gather struct {
	From  []string           // the sources whose objects name feeds; none is all that do
	Owner []geofeed.Referral // feeds that the owner lists, with the ranges they may speak for
	Dir   string             // where feeds are kept
	Plain bool               // feeds over http count, too
	RPKI  string             // the directory of certificates that signatures are checked against; "" is none
	// Pause is how long one host is left alone between two requests; 0 is the usual.
	Pause time.Duration
}

// gathered fetches the feeds that are due, and reads what all of them say.
func (b *build) gathered(ctx context.Context, i int) {
	s := b.sources[i]
	b.Progress(s.Name, "gathering", 0, 0)
	g := &gather.Gatherer{
		Client: b.Fetcher.Client, Dir: s.Gather.Dir, Plain: s.Gather.Plain, Postal: s.Postal, Pause: s.Gather.Pause,
		Progress: func(done, of int) { b.Progress(s.Name, fmt.Sprintf("fetching feed %d of %d", done, of), 0, 0) },
	}
	var err error
	if s.Gather.RPKI != "" {
		g.RPKI, err = gather.Certificates(s.Gather.RPKI)
	}
	var result *gather.Result
	if err == nil {
		result, err = g.Run(ctx, b.referrals(s.Gather))
	}
	if err != nil {
		b.errs[i] = fmt.Errorf("%w: %s: %w", ErrSource, s.Name, err)
		return
	}
	if result.LeftOut > 0 {
		b.lock.Lock()
		b.warnings = append(b.warnings, fmt.Sprintf("%s: %d geofeeds are named beyond the first %d, and left out", s.Name, result.LeftOut, gather.MaxFeeds))
		b.lock.Unlock()
	}
	s.Locations, s.Format = []string{result.Path}, source.Geofeed
	b.one(ctx, i, s)
}

// referrals are those of the owner, and then those of the sources that were read.
func (b *build) referrals(g *Gather) []geofeed.Referral {
	list := slices.Clone(g.Owner)
	for i, m := range b.made {
		if m.Source == nil || len(g.From) > 0 && !slices.Contains(g.From, b.sources[i].Name) {
			continue
		}
		for _, r := range m.Source.Feeds() {
			r.Source = b.sources[i].Name
			list = append(list, r)
		}
	}
	return list
}
