// Package companions asks the services outside that owners describe, keeps their answers by rounded place,
// and counts what may be asked of them. Cards take what is kept and never wait.
package companions

import (
	"context"
	"log/slog"
	"net/http"
	"net/netip"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/card"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/lifecycle"
	"eastporch/internal/server/secrets"
)

// rows keep what was asked. Errors may wrap [visit.ErrAway].
type rows interface {
	Claim(ctx context.Context, site, name string, c companion.Claim) (s companion.Spent, ok bool, err error)
	Spent(ctx context.Context) (map[[2]string]companion.Spent, error)
}

// out sends one request, follows no redirect, and gives no more of the body than most bytes.
type out interface {
	Once(request *http.Request, most int64) (*http.Response, []byte, error)
}

// Options says what the service is made of; every field but Count is required.
type Options struct {
	Rows      rows
	Documents *documents.Documents
	Running   func(host string) *Site // whose companions run now, nil for a host that is no site
	Outside
	Log   *slog.Logger
	Now   func() time.Time
	Count func(site, name, outcome string) // for the metrics
}

// Outside is how services are reached.
type Outside struct {
	Out     out
	Inside  bool // also those whose address is not public
	Secrets secrets.Store
}

// cards say where made-up visitors are.
type cards interface {
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
	Localize(country *almanac.Country, zone string, req card.RequestContext, now time.Time) card.Card
}

// Companions is the service. It is safe for concurrent use.
type Companions struct {
	Options
	entries sync.Map // [2]string of site and name -> *entry
	bodies  *lru.Cache[string, body]
	places  chan struct{} // bounds the questions that are asked at once

	mu      sync.Mutex
	running context.Context // nil before it runs and after it stopped
	asking  sync.WaitGroup
}

// A body is an answer as it came, its secrets masked, by the text of its question.
type body struct {
	text []byte
	last companion.Question
}

const (
	placesKept = 2_000   // answers of a companion
	bodiesKept = 256     // bodies of answers, of all companions
	bodyMost   = 128_000 // bytes of a body that is kept
	atOnce     = 32      // questions
)

// New makes the service, which asks nobody before it runs.
func New(opt Options) *Companions {
	if opt.Count == nil {
		opt.Count = func(string, string, string) {}
	}
	bodies, _ := lru.New[string, body](bodiesKept) // which fails for no size above 0
	return &Companions{Options: opt, bodies: bodies, places: make(chan struct{}, atOnce)}
}

// A Site has the companions of a site as they are at one time. It never changes, but for what is asked.
type Site struct {
	list []bound // in the order of their names
}

// A bound is a companion as it is said at one time, and what is known by it.
type bound struct {
	*entry
	cur *current
}

// Site makes the companions of a site of documents; days end by the clock of its zone.
func (c *Companions) Site(docs *document.Set, host, zone string) *Site {
	at, err := time.LoadLocation(zone)
	if err != nil {
		at = time.UTC
	}
	s := &Site{}
	for _, d := range docs.Of(document.Companion, host) {
		said, err := document.Read[companion.Said](d)
		if err != nil {
			c.Log.Error("a companion cannot be read", "site", host, "companion", d.Name, "error", err)
			continue
		}
		value, _ := c.entries.LoadOrStore([2]string{host, d.Name}, newEntry(c, host, d.Name))
		s.list = append(s.list, bound{value.(*entry), compiled(d, said, at)})
	}
	return s
}

// Use puts the companions of all sites into use: what was asked before is read as they say now.
func (c *Companions) Use(sites map[string]*Site) {
	inUse := map[*entry]bool{}
	for _, s := range sites {
		for _, e := range s.list {
			inUse[e.entry] = true
			e.use(e.cur)
		}
	}
	c.entries.Range(func(_, value any) bool {
		if e := value.(*entry); !inUse[e] {
			e.now.Store(nil)
		}
		return true
	})
}

// Answers says what the companions of the site say for a visitor. See card.Local.
func (s *Site) Answers(of *companion.Subject, ask bool, now time.Time) companion.Answers {
	if len(s.list) == 0 {
		return nil
	}
	answers := make(companion.Answers, len(s.list))
	for i, e := range s.list {
		answers[i].Name = e.name
		e.answer(e.cur, of, ask, now, &answers[i].Answer)
	}
	return answers
}

// Categories gives those that may be active, such as weather.storm.
func (s *Site) Categories() []string {
	list := []string{}
	for _, e := range s.list {
		for _, name := range e.cur.said.CategoryNames() {
			list = append(list, e.name+"."+name)
		}
	}
	return list
}

// Values gives the names of the values of each companion.
func (s *Site) Values() map[string][]string {
	out := map[string][]string{}
	for _, e := range s.list {
		names := []string{}
		for _, v := range e.cur.said.Values {
			names = append(names, v.Name)
		}
		out[e.name] = names
	}
	return out
}

// find gives the companion of a name, nil for none.
func (s *Site) find(name string) *bound {
	for i := range s.list {
		if s.list[i].name == name {
			return &s.list[i]
		}
	}
	return nil
}

// ReadSpent reads what all instances asked.
func (c *Companions) ReadSpent(ctx context.Context) error {
	all, err := c.Rows.Spent(ctx)
	for key, spent := range all {
		value, _ := c.entries.LoadOrStore(key, newEntry(c, key[0], key[1]))
		value.(*entry).took(spent)
	}
	return err
}

// Run lets the service ask until ctx ends, and waits for what is asked then.
func (c *Companions) Run(ctx context.Context) error {
	c.mu.Lock()
	c.running = ctx
	c.mu.Unlock()
	err := lifecycle.Every(ctx, fadeEvery, func() {
		c.entries.Range(func(_, value any) bool {
			value.(*entry).fade()
			return true
		})
	})
	c.mu.Lock()
	c.running = nil
	c.mu.Unlock()
	c.asking.Wait()
	return err
}

// fadeEvery is how often what was asked for lately comes to count half.
const fadeEvery = time.Hour

// start runs a question beside whoever wants its answer, unless there are too many or the service stops.
func (c *Companions) start(do func(context.Context)) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.running == nil {
		return false
	}
	select {
	case c.places <- struct{}{}:
	default:
		return false
	}
	ctx := c.running
	c.asking.Go(func() {
		defer func() { <-c.places }()
		do(ctx)
	})
	return true
}
