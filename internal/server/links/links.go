// Package links has all about tracked links: they are followed from a book in memory, which documents feed; clicks go
// through a bounded buffer into the queue of visits. Begin with [Links], or with [API] for the operations.
package links

import (
	"context"
	"log/slog"
	"maps"
	"sync"
	"sync/atomic"
	"time"

	"eastporch/internal/core/document"
	"eastporch/internal/core/link"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/sites"
)

// rows keep what is counted of links. Errors may wrap [visit.ErrAway].
type rows interface {
	Limited(ctx context.Context) (map[string]int64, error)
	Counted(ctx context.Context, code string) (link.Counted, error)
	AddTally(ctx context.Context, t link.Tally) error
	List(ctx context.Context, q link.Question, now time.Time) ([]link.Listed, error)
	Totals(ctx context.Context, site string, now time.Time) (all, active int64, err error)
	Asked(ctx context.Context, site string, since time.Time, limit int) ([]link.Asked, int64, error)
}

// Options says what the service is made of; all but Buffer are required.
type Options struct {
	Buffer    int // clicks that may wait to be recorded; 0 for 16,384
	Rows      rows
	Documents *documents.Documents
	Running   func() *Book // the one that is followed now
	Counts    counts
	Queue     queue
	Log       *slog.Logger
	Now       func() time.Time
}

// Links is the service. It is safe for concurrent use.
type Links struct {
	Options
	tallies sync.Map // code -> *tally
	clicks  *recorder

	mu    sync.Mutex
	asked map[link.AskedKey]int64 // and not yet in the database
}

// New makes the service.
func New(opt Options) *Links {
	l := &Links{Options: opt, asked: map[link.AskedKey]int64{}}
	l.clicks = newRecorder(l)
	return l
}

// A Book has all links as they are followed at one time. It never changes, but for what is counted.
type Book struct {
	sites *sites.Sites
	by    map[string]*Entry
	last  int64 // change of a link
}

// An Entry is a link in a book.
type Entry struct {
	*link.Compiled
	of    *document.Document
	reads string // the language that the site answers in where it knows no better
	*tally
}

// A tally is what is counted of a link, in whatever book it stands.
type tally struct {
	used atomic.Int64 // redirects that count for the limit
	// What is not in the database yet.
	newlyUsed, newlyLost atomic.Int64
	lost                 atomic.Int64 // clicks that were not recorded, with those
	led                  atomic.Pointer[led]
}

// led is where a link of a site led somebody, and whose place that is.
type led struct {
	from    *sites.Site
	address string
	at      *sites.Site
	target  string
}

// Written is what the document of a link says.
type Written struct {
	link.Said
	Disabled *time.Time `json:"disabled,omitempty"`
}

// Book makes a book of documents and sites; before is the one that is followed until then, nil for none.
func (l *Links) Book(docs *document.Set, known *sites.Sites, before *Book) *Book {
	reads := func(host string) string {
		if site := known.Of(host); site != nil {
			return site.Local.Languages.Default()
		}
		return "en"
	}
	b := &Book{sites: known, last: docs.Change(document.Link)}
	if before != nil && before.last == b.last {
		same := true
		for _, site := range known.All() {
			old := before.sites.Of(site.Host)
			same = same && old != nil && old.Local.Languages.Default() == site.Local.Languages.Default()
		}
		if same && len(known.All()) == len(before.sites.All()) {
			b.by = before.by
			return b
		}
	}
	list := docs.All(document.Link)
	b.by = make(map[string]*Entry, len(list))
	if before != nil {
		maps.Copy(b.by, before.by)
	}
	for _, d := range list {
		tag := reads(d.Site)
		if old := b.by[d.Name]; old != nil && old.of == d && old.reads == tag {
			continue
		}
		said, err := document.Read[Written](d)
		if err != nil {
			l.Log.Error("a link cannot be read", "code", d.Name, "error", err)
			continue
		}
		value, _ := l.tallies.LoadOrStore(d.Name, &tally{})
		b.by[d.Name] = &Entry{Compiled: link.Compile(asLink(d, &said), said.Disabled, tag), of: d, reads: tag, tally: value.(*tally)}
	}
	return b
}

// asLink is a link as its document says, of which nothing is counted yet.
func asLink(d *document.Document, said *Written) link.Link {
	return link.Link{Code: d.Name, Site: d.Site, Said: said.Said, MadeBy: d.FirstBy, MadeAt: d.FirstAt, ChangedAt: d.MadeAt}
}

// Find gives the link of a code, however it is written; nil where there is none.
func (b *Book) Find(code string) *Entry {
	if e := b.by[code]; e != nil {
		return e
	}
	return b.by[link.Fold(code)]
}

// Take says how the link stands for somebody who follows it; where it is active and counts is true, the
// redirect counts for its limit.
func (e *Entry) Take(counts bool, now time.Time) link.State {
	state, _ := e.Stand(now, e.used.Load())
	if state != link.Active || !counts {
		return state
	}
	if used := e.used.Add(1); e.Limit != nil && used > *e.Limit {
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

// FlushEvery is how soon what was counted is in the database.
const FlushEvery = time.Second

// ReadCounts reads how often all instances redirected by links with a limit.
func (l *Links) ReadCounts(ctx context.Context) error {
	used, err := l.Rows.Limited(ctx)
	for code, n := range used {
		value, _ := l.tallies.LoadOrStore(code, &tally{})
		t := value.(*tally)
		for have := t.used.Load(); have < n+t.newlyUsed.Load() && !t.used.CompareAndSwap(have, n+t.newlyUsed.Load()); {
			have = t.used.Load()
		}
	}
	return err
}

// Flush brings counts into the database; where it does not answer they stay in memory.
func (l *Links) Flush(ctx context.Context) error {
	t := link.Tally{Counts: map[string]link.Counted{}, Day: l.Now().UTC().Truncate(24 * time.Hour)}
	l.tallies.Range(func(code, value any) bool {
		of := value.(*tally)
		if n := (link.Counted{Used: of.newlyUsed.Swap(0), NotRecorded: of.newlyLost.Swap(0)}); n != (link.Counted{}) {
			t.Counts[code.(string)] = n
		}
		return true
	})
	l.mu.Lock()
	t.Asked, l.asked = l.asked, map[link.AskedKey]int64{}
	l.mu.Unlock()
	if len(t.Counts)+len(t.Asked) == 0 {
		return nil
	}
	err := l.Rows.AddTally(ctx, t)
	if err == nil {
		return nil
	}
	for code, n := range t.Counts {
		value, _ := l.tallies.Load(code)
		value.(*tally).newlyUsed.Add(n.Used)
		value.(*tally).newlyLost.Add(n.NotRecorded)
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
