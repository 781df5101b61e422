// Package papers has documents for tests that need no database.
package papers

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"eastporch/internal/core/document"
	"eastporch/internal/server/documents"
)

// Rows keep documents in memory. They are safe for concurrent use.
type Rows struct {
	mu   sync.Mutex
	all  []document.Document // every revision, in the order of the changes
	Away error               // what every question gets, where it is not nil
}

func (r *Rows) newest(key document.Key) (d document.Document) {
	for _, one := range r.all {
		if one.Key == key {
			d = one
		}
	}
	return d
}

// Since gives what has changed since a change.
func (r *Rows) Since(_ context.Context, change int64) (list []document.Document, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	by := map[document.Key]document.Document{}
	for _, d := range r.all {
		by[d.Key] = d
	}
	for _, d := range by {
		if d.Change > change {
			list = append(list, d)
		}
	}
	slices.SortFunc(list, func(a, b document.Document) int { return cmp.Compare(a.Change, b.Change) })
	return list, r.Away
}

// Save keeps the next revision of a document.
func (r *Rows) Save(_ context.Context, d document.Document, on *int64, most int) (document.Document, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.Away != nil {
		return d, r.Away
	}
	before, of, taken := r.newest(d.Key), map[string]bool{}, false
	for _, one := range r.all {
		if one.Kind == d.Kind && one.Site == d.Site {
			of[one.Name] = one.Body != nil
		}
		taken = taken || d.Kind == document.Link && one.Kind == d.Kind && one.Name == d.Name && one.Site != d.Site
	}
	n, there := 0, before.Body != nil
	for _, is := range of {
		if is {
			n++
		}
	}
	switch {
	case there && d.Kind == document.Link && on != nil && *on == 0:
		return d, document.ErrTaken
	case on != nil && (*on == 0) == there, on != nil && *on > 0 && *on != before.Revision:
		return d, document.ErrChanged
	case d.Body == nil && !there:
		return d, document.ErrNone
	case !there && most > 0 && n >= most:
		return d, document.ErrFull
	case taken:
		return d, document.ErrTaken
	}
	d.Revision, d.Change, d.FirstBy, d.FirstAt = before.Revision+1, int64(len(r.all))+1, before.FirstBy, before.FirstAt
	if !there {
		d.FirstBy, d.FirstAt = d.MadeBy, d.MadeAt
	}
	r.all = append(r.all, d)
	draft := r.newest(document.Key{Site: d.Site, Kind: document.GateDraft})
	if d.Kind == document.Gate && d.Body != nil && draft.Body != nil { // what was a draft is in force
		draft.Revision, draft.Change, draft.Body, draft.MadeBy = draft.Revision+1, int64(len(r.all))+1, nil, d.MadeBy
		r.all = append(r.all, draft)
	}
	return d, nil
}

// History lists the revisions of a document, the newest first.
func (r *Rows) History(_ context.Context, key document.Key, before int64, limit int) (list []document.Document, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, d := range slices.Backward(r.all) {
		if d.Key == key && (before == 0 || d.Revision < before) && len(list) < limit {
			list = append(list, d)
		}
	}
	return list, r.Away
}

// Revision gives one revision of a document.
func (r *Rows) Revision(_ context.Context, key document.Key, number int64) (document.Document, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, d := range r.all {
		if d.Key == key && d.Revision == number {
			return d, r.Away
		}
	}
	return document.Document{}, document.ErrRevision
}

// Kinds say what is particular about kinds of documents; what they lack is as it usually is.
type Kinds map[document.Kind]documents.Kind

// New makes the service of documents over rows in memory; taken, which may be nil, is told of every set that runs.
func New(rows *Rows, kinds Kinds, now func() time.Time, taken func(*document.Set)) *documents.Documents {
	var running atomic.Pointer[document.Set]
	running.Store(&document.Set{})
	return documents.New(documents.Options{Rows: rows, Now: now, Set: running.Load, Kind: func(k document.Kind) documents.Kind { return kinds[k] }, Take: func(_ context.Context, list []document.Document) error {
		next := running.Load().With(list)
		running.Store(next)
		if taken != nil {
			taken(next)
		}
		return nil
	}})
}
