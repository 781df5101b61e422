package httpapi

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"eastporch/internal/core/link"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/links"
	"eastporch/internal/server/sites"
)

// linkRows are the tables of links in memory.
type linkRows struct {
	lock     sync.Mutex
	list     []link.Kept
	revision int64
	tally    link.Tally
	away     error // what every question gets
}

func (r *linkRows) Since(_ context.Context, revision int64) (list []link.Kept, err error) {
	r.lock.Lock()
	defer r.lock.Unlock()
	for _, k := range r.list {
		if k.Revision > revision {
			list = append(list, k)
		}
	}
	return list, r.away
}

func (r *linkRows) Limited(context.Context) (map[string]int64, error) {
	return map[string]int64{}, r.away
}

func (r *linkRows) Get(_ context.Context, code string) (link.Kept, error) {
	r.lock.Lock()
	defer r.lock.Unlock()
	for _, k := range r.list {
		if k.Code == code {
			return k, r.away
		}
	}
	return link.Kept{}, link.ErrNoLink
}

func (r *linkRows) Add(ctx context.Context, l link.Link) error {
	if _, err := r.Get(ctx, l.Code); err == nil {
		return link.ErrTaken
	}
	r.lock.Lock()
	defer r.lock.Unlock()
	r.revision++
	r.list = append(r.list, link.Kept{Link: l, Revision: r.revision})
	return r.away
}

func (r *linkRows) Change(_ context.Context, k link.Kept) error {
	r.lock.Lock()
	defer r.lock.Unlock()
	for i := range r.list {
		if r.list[i].Code == k.Code && r.list[i].Revision == k.Revision {
			r.revision++
			k.Revision = r.revision
			r.list = append(append(r.list[:i:i], r.list[i+1:]...), k)
			return r.away
		}
	}
	return link.ErrNoLink
}

func (r *linkRows) AddTally(_ context.Context, t link.Tally) error {
	r.lock.Lock()
	defer r.lock.Unlock()
	if r.away == nil {
		r.tally = t
	}
	return r.away
}

func (r *linkRows) List(context.Context, link.Question, time.Time) ([]link.Listed, error) {
	return nil, r.away
}

func (r *linkRows) Totals(context.Context, string, time.Time) (all, active int64, err error) {
	return int64(len(r.list)), 0, r.away
}

func (r *linkRows) Asked(context.Context, string, time.Time, int) ([]link.Asked, int64, error) {
	return []link.Asked{}, 0, r.away
}

// clicks is a queue that keeps what it is given.
type clicks struct {
	lock  sync.Mutex
	taken []visit.QueuedVisit
	full  error
}

func (q *clicks) Accept(_ context.Context, list []visit.QueuedVisit) (uint64, error) {
	q.lock.Lock()
	defer q.lock.Unlock()
	if q.full == nil {
		q.taken = append(q.taken, list...)
	}
	return 0, q.full
}

// clicksBuffered is how many clicks the tests' buffer holds.
const clicksBuffered = 1000

func newLinks(rows *linkRows, queue *clicks, known *sites.Sites) *links.Links {
	l := links.New(links.Options{Buffer: clicksBuffered, Rows: rows, Queue: queue, Log: slog.New(slog.DiscardHandler), Now: time.Now})
	l.Use(known)
	return l
}
