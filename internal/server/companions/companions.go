// Package companions asks the services outside that owners describe, keeps their answers by rounded place,
// and counts what may be asked of them. Cards take what is kept and never wait.
package companions

import (
	"cmp"
	"context"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/card"
	"eastporch/internal/core/companion"
	"eastporch/internal/server/secrets"
	"eastporch/internal/server/sites"
)

// rows keep companions, and what was asked. Errors may be [companion.ErrChanged] and wrap [visit.ErrAway].
type rows interface {
	All(ctx context.Context) ([]companion.Kept, error)
	Save(ctx context.Context, k companion.Kept, revision *int64) error
	Drop(ctx context.Context, site, name string) (ok bool, err error)
	Claim(ctx context.Context, site, name string, c companion.Claim) (s companion.Spent, ok bool, err error)
	Spent(ctx context.Context) (map[[2]string]companion.Spent, error)
}

// out sends one request, follows no redirect, and gives no more of the body than most bytes.
type out interface {
	Once(request *http.Request, most int64) (*http.Response, []byte, error)
}

// Options says what the service is made of; every field but Count is required.
type Options struct {
	Rows rows
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
	sites   sync.Map   // host -> *Site
	reading sync.Mutex // is held while what has changed is read
	bodies  *lru.Cache[string, body]
	places  chan struct{} // bounds the questions that are asked at once
	hour    atomic.Int64  // since 1970, when what was asked for last faded

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

// A Site has the companions of a site. It is safe for concurrent use.
type Site struct {
	all  *Companions
	host string
	zone atomic.Pointer[time.Location]
	list atomic.Pointer[[]*entry] // in the order of their names; never changed, only replaced
}

// Of gives the companions of a host, whether or not there are any.
func (c *Companions) Of(host string) *Site {
	s := &Site{all: c, host: host}
	s.zone.Store(time.UTC)
	s.list.Store(&[]*entry{})
	known, _ := c.sites.LoadOrStore(host, s)
	return known.(*Site)
}

// Use puts settings into use: the zones of the sites say when days end.
func (c *Companions) Use(known *sites.Sites) {
	for _, site := range known.All() {
		if zone, err := time.LoadLocation(site.TimeZone); err == nil {
			c.Of(site.Host).zone.Store(zone)
		}
	}
}

// Answers says what the companions of the site say for a visitor. See card.Local.
func (s *Site) Answers(of *companion.Subject, ask bool, now time.Time) companion.Answers {
	list := *s.list.Load()
	if len(list) == 0 {
		return nil
	}
	answers := make(companion.Answers, len(list))
	for i, e := range list {
		answers[i].Name = e.name
		e.answer(of, ask, now, &answers[i].Answer)
	}
	return answers
}

// Categories gives those that may be active, such as weather.storm.
func (s *Site) Categories() []string {
	list := []string{}
	for _, e := range *s.list.Load() {
		for _, name := range e.now.Load().Kept.Said.CategoryNames() {
			list = append(list, e.name+"."+name)
		}
	}
	return list
}

// Values gives the names of the values of each companion.
func (s *Site) Values() map[string][]string {
	out := map[string][]string{}
	for _, e := range *s.list.Load() {
		names := []string{}
		for _, v := range e.now.Load().Kept.Said.Values {
			names = append(names, v.Name)
		}
		out[e.name] = names
	}
	return out
}

// find gives the companion of a name, nil for none.
func (s *Site) find(name string) *entry {
	for _, e := range *s.list.Load() {
		if e.name == name {
			return e
		}
	}
	return nil
}

// Read puts into use what is stored now.
func (c *Companions) Read(ctx context.Context) error {
	c.reading.Lock()
	defer c.reading.Unlock()
	list, err := c.Rows.All(ctx)
	if err != nil {
		return err
	}
	spent, err := c.Rows.Spent(ctx)
	if err != nil {
		return err
	}
	by := map[string][]*entry{}
	for _, k := range list {
		s := c.Of(k.Site)
		e := s.find(k.Name)
		if e == nil {
			e = newEntry(s, k)
		} else if e.now.Load().Revision != k.Revision {
			e.change(k)
		}
		e.took(spent[[2]string{k.Site, k.Name}])
		by[k.Site] = append(by[k.Site], e)
	}
	c.sites.Range(func(host, value any) bool {
		list := by[host.(string)]
		slices.SortFunc(list, func(a, b *entry) int { return cmp.Compare(a.name, b.name) })
		value.(*Site).list.Store(&list)
		return true
	})
	return nil
}

// WatchEvery is how soon companions that were changed at another instance are used here, and what it asked is
// known.
const WatchEvery = 2 * time.Second

// Run lets the service ask until ctx ends, and waits for what is asked then.
func (c *Companions) Run(ctx context.Context) error {
	c.mu.Lock()
	c.running = ctx
	c.mu.Unlock()
	<-ctx.Done()
	c.mu.Lock()
	c.running = nil
	c.mu.Unlock()
	c.asking.Wait()
	return nil
}

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
