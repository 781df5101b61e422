package companions

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
)

// An entry is one companion in memory.
type entry struct {
	all   *Companions
	host  string
	name  string
	now   atomic.Pointer[current] // as it is said now; nil where it is not
	slots *lru.Cache[companion.Facts, *slot]

	mu    sync.Mutex
	spent companion.Spent
	// What went wrong, while it does.
	failures  int // in a row
	since     time.Time
	reason    string
	openUntil time.Time // before then it is not asked
	probing   bool      // the one question after that is on its way
	// What was asked last, perhaps by somebody who tries another question; lastFacts are of the companion's own.
	last      *companion.Question
	lastFacts *companion.Facts
	lastOwn   bool // last is the companion's own question
}

// A current is a companion as it is said at one time.
type current struct {
	*companion.Compiled
	of   *document.Document
	said companion.Said
	zone *time.Location // by whose clock days end
	off  string         // why it is not asked; "" where it is
}

// A slot is what is known for one question.
type slot struct {
	got    atomic.Pointer[got]
	wanted atomic.Int64 // how often it was asked for, lately

	mu        sync.Mutex
	asking    chan struct{} // is closed when the answer is there; nil while nobody asks
	failures  int           // in a row
	notBefore time.Time
	reason    string // why there is no newer answer
}

// got is an answer that came.
type got struct {
	shown *companion.Shown
	at    time.Time
	lasts time.Duration // how long it is fresh
	tag   string        // its ETag
	text  string        // of the question
}

func newEntry(c *Companions, host, name string) *entry {
	slots, _ := lru.New[companion.Facts, *slot](placesKept) // which fails for no size above 0
	return &entry{all: c, host: host, name: name, slots: slots}
}

func compiled(d *document.Document, said companion.Said, zone *time.Location) *current {
	cur := &current{Compiled: companion.Compile(d.Name, said), of: d, said: said, zone: zone}
	if !said.Enabled {
		cur.off = "the companion is switched off"
	}
	return cur
}

// use puts into use what is said of the companion now. Answers to the same question stay, and are read
// again.
func (e *entry) use(after *current) {
	before := e.now.Swap(after)
	switch {
	case before != nil && before.of.Revision == after.of.Revision:
		return
	case before == nil || !before.said.Asks(&after.said):
		e.slots.Purge()
		e.mu.Lock()
		e.failures, e.openUntil, e.reason, e.last, e.lastFacts, e.lastOwn = 0, time.Time{}, "", nil, nil, false
		e.mu.Unlock()
		return
	}
	for _, facts := range e.slots.Keys() {
		s, ok := e.slots.Peek(facts)
		if !ok {
			continue
		}
		s.mu.Lock()
		s.notBefore = time.Time{}
		g := s.got.Load()
		if g != nil {
			s.got.Store(e.again(after, g))
		}
		s.mu.Unlock()
	}
	e.mu.Lock()
	e.openUntil = time.Time{}
	e.mu.Unlock()
}

// again reads an answer as it is said now; nil where its body is kept no more, or is not usable so.
func (e *entry) again(cur *current, g *got) *got {
	b, ok := e.all.bodies.Peek(bodyKey(e.host, e.name, g.text))
	if !ok {
		return nil
	}
	read, err := cur.Read(b.text, nil)
	if err != nil {
		return nil
	}
	out := *g
	out.shown = cur.Show(read)
	return &out
}

// answer writes what the companion says for a visitor.
func (e *entry) answer(cur *current, of *companion.Subject, ask bool, now time.Time, out *companion.Answer) {
	if cur.off != "" {
		cur.Without(cur.off).Fill(out, companion.Never)
		return
	}
	facts, reason := cur.Facts(of)
	if reason != "" {
		cur.Without(reason).Fill(out, companion.Never)
		return
	}
	s, known := e.slots.Get(facts)
	if !known {
		if !ask {
			cur.Without("nobody from there has been here lately").Fill(out, companion.Never)
			return
		}
		s = &slot{}
		if before, had, _ := e.slots.PeekOrAdd(facts, s); had {
			s = before
		}
	}
	if ask {
		s.wanted.Add(1)
	}
	for {
		g := s.got.Load()
		m := companion.Moment{Age: -1, Refresh: -1}
		if g != nil {
			m.Age = max(0, int(now.Sub(g.at)/time.Second))
		}
		if g.fresh(cur, now) {
			m.Refresh = max(1, seconds(g.lasts-now.Sub(g.at)))
			g.shown.In(of.Written).Fill(out, m)
			return
		}
		turn := e.begin(cur, s, facts, ask, now)
		if turn.there {
			continue
		}
		if m.Age > cur.OldestSeconds {
			g, m.Age = nil, -1
		}
		m.Done, m.Refresh = turn.done, turn.refresh
		if g == nil {
			turn.without(cur).Fill(out, m)
			return
		}
		g.shown.In(of.Written).Fill(out, m)
		return
	}
}

// fresh says whether an answer need not be asked for again; nil is none.
func (g *got) fresh(cur *current, now time.Time) bool {
	if g == nil {
		return false
	}
	age := now.Sub(g.at)
	return age < min(g.lasts, time.Duration(cur.OldestSeconds)*time.Second) && age > -backwards
}

// backwards is how much a clock may be put back before an answer that seems to be of the future is no longer
// taken for a fresh one.
const backwards = time.Minute

func seconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

// A turn says whether a question is being asked.
type turn struct {
	there   bool            // the answer came meanwhile
	done    <-chan struct{} // is closed when the answer is there; nil where none is on its way
	refresh int             // seconds after which it makes sense to come back
	reason  string          // why there is no answer yet
}

// without is the answer while there is none.
func (t *turn) without(cur *current) *companion.Answer {
	if t.reason == underWay || t.reason == notAskedYet {
		return cur.Without(t.reason)
	}
	return cur.Failed(t.reason)
}

// soon is when to come back for an answer that is on its way, in seconds.
const soon = 2

// begin has a question asked, unless it is being asked, or must wait.
func (e *entry) begin(cur *current, s *slot, facts companion.Facts, ask bool, now time.Time) turn {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.got.Load().fresh(cur, now):
		return turn{there: true}
	case s.asking != nil:
		return turn{done: s.asking, refresh: soon, reason: underWay}
	case within(s.notBefore, now, longestWait):
		return turn{refresh: seconds(s.notBefore.Sub(now)), reason: s.reason}
	case !ask:
		return turn{refresh: soon, reason: notAskedYet}
	}
	until, reason := e.enter(now)
	if reason != "" {
		return turn{refresh: seconds(until.Sub(now)), reason: reason}
	}
	done := make(chan struct{})
	if !e.all.start(func(ctx context.Context) { e.ask(ctx, cur, s, facts, done) }) {
		e.leave()
		return turn{refresh: soon, reason: "too many questions are being asked"}
	}
	s.asking = done
	return turn{done: done, refresh: soon, reason: underWay}
}

const (
	underWay    = "the service is being asked"
	notAskedYet = "the service was not asked yet"
)

// longestWait bounds how long nothing is asked; what lies farther ahead was said by a wrong clock.
const longestWait = 25 * time.Hour

// within says whether a time lies ahead, but not by more than most.
func within(t, now time.Time, most time.Duration) bool {
	ahead := t.Sub(now)
	return ahead > 0 && ahead <= most
}
