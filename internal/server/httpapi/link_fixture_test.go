package httpapi

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"eastporch/internal/core/link"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/links"
)

// linkRows is what is counted of links, in memory.
type linkRows struct {
	lock  sync.Mutex
	tally link.Tally
	away  error // what every question gets
}

func (r *linkRows) Limited(context.Context) (map[string]int64, error) {
	return map[string]int64{}, r.away
}

func (r *linkRows) Counted(context.Context, string) (link.Counted, error) {
	return link.Counted{}, r.away
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
	return 0, 0, r.away
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

func newLinks(rows *linkRows, docs *documents.Documents, running func() *links.Book, queue *clicks) *links.Links {
	return links.New(links.Options{Buffer: clicksBuffered, Rows: rows, Documents: docs, Running: running, Queue: queue, Log: slog.New(slog.DiscardHandler), Now: time.Now})
}
