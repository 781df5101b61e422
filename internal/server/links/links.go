// Package links has the service of tracked links: they are followed from a copy in memory, which the
// database feeds; clicks go through a bounded buffer into the queue of visits.
package links

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"eastporch/internal/core/link"
	"eastporch/internal/server/sites"
)

// rows keep links. Errors may be [link.ErrNoLink], [link.ErrTaken] and wrap [visit.ErrAway].
type rows interface {
	Since(ctx context.Context, revision int64) ([]link.Kept, error)
	Limited(ctx context.Context) (map[string]int64, error)
	Get(ctx context.Context, code string) (link.Kept, error)
	Add(ctx context.Context, l link.Link) error
	Change(ctx context.Context, k link.Kept) error
	AddTally(ctx context.Context, t link.Tally) error
	List(ctx context.Context, q link.Question, now time.Time) ([]link.Listed, error)
	Totals(ctx context.Context, site string, now time.Time) (all, active int64, err error)
	Asked(ctx context.Context, site string, since time.Time, limit int) ([]link.Asked, int64, error)
}

// Options says what the service is made of; all but Buffer are required.
type Options struct {
	Buffer int // clicks that may wait to be recorded; 0 for 16,384
	Rows   rows
	Counts counts
	Queue  queue
	Log    *slog.Logger
	Now    func() time.Time
}

// Links is the service. It is safe for concurrent use.
type Links struct {
	Options
	by       sync.Map // code -> *Entry
	sites    atomic.Pointer[sites.Sites]
	reading  sync.Mutex // is held while what has changed is read
	revision int64      // of the newest link that was read, under reading
	clicks   *recorder

	mu    sync.Mutex
	asked map[link.AskedKey]int64 // and not yet in the database
}

// An Entry is a link in memory.
type Entry struct {
	now  atomic.Pointer[current]
	used atomic.Int64 // redirects that count for the limit
	// What is not in the database yet.
	newlyUsed, newlyLost atomic.Int64
	lost                 atomic.Int64 // clicks that were not recorded, with those
}

type current struct {
	*link.Compiled
	revision int64
}

// New makes the service, which follows no link before it is told the sites and has read the links.
func New(opt Options) *Links {
	l := &Links{Options: opt, asked: map[link.AskedKey]int64{}}
	l.clicks = newRecorder(l)
	return l
}

// Use puts settings into use: the languages of the sites say which destination suits a visitor.
func (l *Links) Use(known *sites.Sites) {
	l.reading.Lock()
	defer l.reading.Unlock()
	l.sites.Store(known)
	l.by.Range(func(_, value any) bool {
		e := value.(*Entry)
		at := e.now.Load()
		e.now.Store(&current{l.compile(at.Link, at.Off), at.revision})
		return true
	})
}

func (l *Links) compile(of link.Link, off *time.Time) *link.Compiled {
	tag := "en"
	if site := l.sites.Load().Of(of.Site); site != nil {
		tag = site.Local.Languages.Default()
	}
	return link.Compile(of, off, tag)
}

// Read reads the links that have changed since it was last called.
func (l *Links) Read(ctx context.Context) error {
	l.reading.Lock()
	defer l.reading.Unlock()
	list, err := l.Rows.Since(ctx, l.revision)
	if err != nil {
		return err
	}
	for _, k := range list {
		fresh := &Entry{}
		value, known := l.by.LoadOrStore(k.Code, fresh)
		e := value.(*Entry)
		e.now.Store(&current{l.compile(k.Link, k.Off), k.Revision})
		if !known {
			e.used.Store(k.Used)
			e.lost.Store(k.ClicksNotRecorded)
		}
		l.revision = k.Revision
	}
	return nil
}

// Find gives the link of a code, however it is written; nil where there is none.
func (l *Links) Find(code string) *Entry {
	value, ok := l.by.Load(code)
	if !ok {
		if value, ok = l.by.Load(link.Fold(code)); !ok {
			return nil
		}
	}
	e := value.(*Entry)
	if e.now.Load() == nil { // it is being read for the first time
		return nil
	}
	return e
}

// Link gives what is said of the link now.
func (e *Entry) Link() *link.Compiled { return e.now.Load().Compiled }

// Take says how the link stands for somebody who follows it; where it is active and counts is true, the
// redirect counts for its limit.
func (e *Entry) Take(of *link.Compiled, counts bool, now time.Time) link.State {
	state, _ := of.Stand(now, e.used.Load())
	if state != link.Active || !counts {
		return state
	}
	if used := e.used.Add(1); of.Limit != nil && used > *of.Limit {
		e.used.Add(-1)
		return link.AtLimit
	}
	e.newlyUsed.Add(1)
	return state
}

// mostAsked bounds the codes that are counted by name between two times that they are brought into the
// database.
const mostAsked = 500

// Ask counts a request for a code that no link of a site has.
func (l *Links) Ask(site, code string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	k := link.AskedKey{Site: site, Code: link.Fold(code)}
	if _, known := l.asked[k]; !known && len(l.asked) >= mostAsked {
		k.Code = ""
	}
	l.asked[k]++
}

// WatchEvery is how soon links that were changed at another instance are followed here, and what was counted
// is in the database.
const WatchEvery = time.Second

// Tick reads what has changed and brings what was counted into the database.
func (l *Links) Tick(ctx context.Context) error {
	if err := l.flush(ctx); err != nil {
		return err
	}
	if err := l.Read(ctx); err != nil {
		return err
	}
	used, err := l.Rows.Limited(ctx)
	if err != nil {
		return err
	}
	for code, n := range used { // of all instances
		if value, ok := l.by.Load(code); ok {
			e := value.(*Entry)
			for have := e.used.Load(); have < n+e.newlyUsed.Load() && !e.used.CompareAndSwap(have, n+e.newlyUsed.Load()); {
				have = e.used.Load()
			}
		}
	}
	return nil
}

// flush brings counts into the database; where it does not answer they stay in memory.
func (l *Links) flush(ctx context.Context) error {
	t := link.Tally{Used: map[string]int64{}, NotRecorded: map[string]int64{}, Day: l.Now().UTC().Truncate(24 * time.Hour)}
	l.by.Range(func(code, value any) bool {
		e := value.(*Entry)
		if n := e.newlyUsed.Swap(0); n > 0 {
			t.Used[code.(string)] = n
		}
		if n := e.newlyLost.Swap(0); n > 0 {
			t.NotRecorded[code.(string)] = n
		}
		return true
	})
	l.mu.Lock()
	t.Asked, l.asked = l.asked, map[link.AskedKey]int64{}
	l.mu.Unlock()
	if len(t.Used)+len(t.NotRecorded)+len(t.Asked) == 0 {
		return nil
	}
	err := l.Rows.AddTally(ctx, t)
	if err == nil {
		return nil
	}
	for code, n := range t.Used {
		value, _ := l.by.Load(code)
		value.(*Entry).newlyUsed.Add(n)
	}
	for code, n := range t.NotRecorded {
		value, _ := l.by.Load(code)
		value.(*Entry).newlyLost.Add(n)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for k, n := range t.Asked {
		if _, known := l.asked[k]; !known && len(l.asked) >= mostAsked {
			k.Code = ""
		}
		l.asked[k] += n
	}
	return err
}
