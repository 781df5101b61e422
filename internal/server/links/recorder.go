package links

import (
	"cmp"
	"context"
	"fmt"
	"hash/maphash"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/visit"
	"eastporch/internal/server/visits"
)

// queue takes visits in.
type queue interface {
	Accept(ctx context.Context, visits []visit.QueuedVisit) (index uint64, err error)
}

// Bounds of the buffer of clicks.
const (
	bufferClicks = 16_384
	bufferBytes  = 32 << 20
	// gather is how long the first click of a group waits for others before the group is made into visits and
	// synced to the disk: with the time of both less than 100 ms.
	gather    = 50 * time.Millisecond
	groupMost = 2000
	// repeatWithin is how long after a click of a visitor's another one is a repetition, and repeatsKept how many
	// clicks are remembered for it.
	repeatWithin = 30 * time.Second
	repeatsKept  = 100_000
)

// buffered is a click that waits, or somebody who waits for those before.
type buffered struct {
	of      *Entry
	to      *visits.Visits
	click   visits.Click
	counted bool  // for the limit, already
	carries int64 // bytes
	settled chan struct{}
}

// A recorder makes visits of clicks, beside the requests.
type recorder struct {
	links *Links
	queue chan *buffered
	bytes atomic.Int64
	total atomic.Int64 // clicks that were not recorded
	seen  *lru.Cache[uint64, time.Time]
	seed  maphash.Seed
}

func newRecorder(l *Links) *recorder {
	seen, _ := lru.New[uint64, time.Time](repeatsKept) // which fails for no size above 0
	return &recorder{links: l, queue: make(chan *buffered, cmp.Or(l.Buffer, bufferClicks)), seen: seen, seed: maphash.MakeSeed()}
}

// Record has a click recorded, and never waits: where the buffer is full the click is counted as not
// recorded. The header must not change any more; counted says that [Entry.Take] has counted it.
func (l *Links) Record(of *Entry, to *visits.Visits, click visits.Click, counted bool) {
	b := &buffered{of: of, to: to, click: click, counted: counted, carries: 256}
	for name, lines := range click.Header {
		b.carries += int64(len(name))
		for _, line := range lines {
			b.carries += int64(len(line))
		}
	}
	r := l.clicks
	if r.bytes.Add(b.carries) <= bufferBytes {
		select {
		case r.queue <- b:
			return
		default:
		}
	}
	r.bytes.Add(-b.carries)
	r.lose(b)
}

func (r *recorder) lose(list ...*buffered) {
	for _, b := range list {
		b.of.lost.Add(1)
		b.of.newlyLost.Add(1)
	}
	r.total.Add(int64(len(list)))
}

// Settle waits until the clicks of before are with the other visits, as long as ctx lasts.
func (l *Links) Settle(ctx context.Context) {
	b := &buffered{settled: make(chan struct{})}
	select {
	case l.clicks.queue <- b:
	case <-ctx.Done():
		return
	}
	select {
	case <-b.settled:
	case <-ctx.Done():
	}
}

// NotRecorded is how many clicks were redirected and not recorded since the start.
func (l *Links) NotRecorded() int64 { return l.clicks.total.Load() }

// Run records clicks until ctx ends, and then those that wait: whoever calls Record has stopped by then. It
// does not run twice at once.
func (l *Links) Run(ctx context.Context) error {
	r := l.clicks
	timer := time.NewTimer(0)
	defer timer.Stop()
	<-timer.C
	for {
		var group []*buffered
		select {
		case b := <-r.queue:
			group = append(group, b)
		case <-ctx.Done():
			for {
				select {
				case b := <-r.queue:
					if group = append(group, b); len(group) < groupMost {
						continue
					}
				default:
				}
				if len(group) == 0 {
					last, cancel := context.WithTimeout(context.WithoutCancel(ctx), FlushEvery)
					defer cancel()
					if err := l.Flush(last); err != nil {
						l.Log.Warn("what was counted of links is lost", "error", err)
					}
					return nil
				}
				r.record(context.WithoutCancel(ctx), group)
				group = nil
			}
		}
		timer.Reset(gather)
		for waiting := group[0].settled == nil; waiting && len(group) < groupMost; {
			select {
			case b := <-r.queue:
				group = append(group, b)
				waiting = b.settled == nil
			case <-timer.C:
				waiting = false
			case <-ctx.Done():
				waiting = false
			}
		}
		r.record(context.WithoutCancel(ctx), group)
	}
}

// record brings clicks onto the disk.
func (r *recorder) record(ctx context.Context, group []*buffered) {
	queued, from := make([]visit.QueuedVisit, 0, len(group)), make([]*buffered, 0, len(group))
	for _, b := range group {
		if b.settled != nil {
			defer close(b.settled)
			continue
		}
		r.bytes.Add(-b.carries)
		v, err := r.visit(b)
		if err != nil {
			r.links.Log.Error("a click was not recorded", "link", b.click.Code, "error", err)
			r.lose(b)
			continue
		}
		if !b.counted && !slices.ContainsFunc(v.Row.Marks, func(m string) bool { return m != visit.MarkRepeat && m != visit.MarkPrivate }) {
			b.of.used.Add(1)
			b.of.newlyUsed.Add(1)
		}
		queued, from = append(queued, v), append(from, b)
	}
	if len(queued) == 0 {
		return
	}
	if _, err := r.links.Queue.Accept(ctx, queued); err != nil {
		r.links.Log.Error("clicks were not recorded", "clicks", len(queued), "error", err)
		r.lose(from...)
	}
}

// visit makes the visit of a click; what goes wrong with one must not end the others.
func (r *recorder) visit(b *buffered) (v visit.QueuedVisit, err error) {
	defer func() {
		if wrong := recover(); wrong != nil {
			err = fmt.Errorf("%v", wrong)
		}
	}()
	b.click.Repeated = func(who netip.Addr, agent string) bool { return r.repeats(b.click.Code, who, agent, b.click.Time) }
	return b.to.Click(b.click)
}

// repeats says whether a visitor has clicked a link within the time before. Visitors who were not found are
// not told apart, and repeat nothing.
func (r *recorder) repeats(code string, who netip.Addr, agent string, at time.Time) bool {
	if !who.IsValid() {
		return false
	}
	key := maphash.Comparable(r.seed, struct {
		code, agent string
		who         netip.Addr
	}{code, agent, who})
	if before, ok := r.seen.Get(key); ok && at.Sub(before) < repeatWithin {
		return true
	}
	r.seen.Add(key, at)
	return false
}
