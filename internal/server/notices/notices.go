// Package notices writes and sends what owners want said: when somebody asks, or when a rule is met. What is to be
// sent waits in PostgreSQL, and one instance at a time delivers it.
package notices

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/secret"
	"eastporch/internal/core/signed"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// rows keep notices. Errors may be those of package notice and wrap [visit.ErrAway].
type rows interface {
	Notices(ctx context.Context) ([]notice.Kept, error)
	Channels(ctx context.Context) ([]notice.KeptChannel, error)
	SaveNotice(ctx context.Context, k notice.Kept, revision *int64) error
	SaveChannel(ctx context.Context, k notice.KeptChannel, revision *int64) error
	DropNotice(ctx context.Context, site, name string) (bool, error)
	DropChannel(ctx context.Context, site, name string, now time.Time) (bool, error)
	Health(ctx context.Context, site, name string, revision int64, h notice.ChannelHealth) error
	Standings(ctx context.Context, site string, now time.Time) (map[string]notice.Counts, error)
	Traffic(ctx context.Context, site string, since time.Time) (map[string]notice.Traffic, error)
	Sums(ctx context.Context, site string, now time.Time) (notice.Sums, error)
	Lead(ctx context.Context, do func(ctx context.Context)) error
	outbox
	asked
}

// outbox is what waits to be written and sent, and what was.
type outbox interface {
	Triggered(ctx context.Context, after map[[2]string]bool) ([]notice.Triggered, error)
	Write(ctx context.Context, w notice.Written, now time.Time) error
	Counted(ctx context.Context, site, name string, since time.Time) (map[string]int, error)
	Waiting(ctx context.Context, site, channel string) ([]notice.Letter, error)
	Due(ctx context.Context, now time.Time) ([][2]string, error)
	Record(ctx context.Context, l *notice.Letter, went []string, now time.Time) error
	Sent(ctx context.Context, site, channel string, since time.Time) (map[string][]time.Time, error)
	Messages(ctx context.Context, site, name string, before uuid.UUID, limit int) ([]notice.Letter, error)
	Message(ctx context.Context, site string, id uuid.UUID) (notice.Letter, error)
	DropMessage(ctx context.Context, site string, id uuid.UUID, now time.Time) (bool, error)
	Hasten(ctx context.Context, id uuid.UUID, now time.Time) error
	Known(ctx context.Context, site, name string) (json.RawMessage, error)
	Meet(ctx context.Context, site, name string, known any, list []notice.Triggered, now time.Time) error
}

// asked is who asked for something.
type asked interface {
	Ask(ctx context.Context, p notice.Pending, l notice.Letter) error
	Pending(ctx context.Context, id uuid.UUID) (notice.Pending, error)
	Confirm(ctx context.Context, id uuid.UUID, site string, recipient []byte, l *notice.Letter, now time.Time) error
	Stop(ctx context.Context, site string, recipients [][]byte, address string, now time.Time) error
	Recipient(ctx context.Context, site string, recipient []byte, since time.Time) (confirmed, stopped bool, err error)
	Asked(ctx context.Context, site string, since time.Time) ([]notice.AskedFor, error)
}

// visits are those that are stored; [visit.ErrNoVisit] where there is none.
type visits interface {
	Visit(ctx context.Context, id uuid.UUID) (visit.Visit, error)
	Visits(ctx context.Context, f visit.Filter, before uuid.UUID, limit int) ([]visit.Visit, error)
}

// secrets are read by name, and kept.
type secrets interface {
	Read(names []string) (secret.Values, error)
	Names() []string
	Write(file, value string) error
}

// Options says what the service is made of; every field is required.
type Options struct {
	Rows   rows
	Visits visits
	Outside
	Secret []byte // that links are signed with
	Log    *slog.Logger
	Now    func() time.Time
}

// Outside is how messages leave; Count may be nil.
type Outside struct {
	Post       out
	Inside     bool          // also to servers whose address is not public
	Within     time.Duration // how long the other side may take; 0 for as long as is usual
	Secrets    secrets
	Count      func(site, channel, outcome string) // attempts, for the metrics
	PublicURL  func() string                       // of the public listener, as visitors reach it, without a slash at its end
	ConsoleURL func() string                       // of the console, as its owner reaches it
}

// out sends one request, follows no redirect, and gives no more of the body than most bytes.
type out interface {
	Once(request *http.Request, most int64) (*http.Response, []byte, error)
}

// Settings are what follows from the configuration, and may change while the service runs.
type Settings struct {
	Sites  *sites.Sites
	Cards  cards
	Labels func(name string) bool
	// Companions gives those of a host, and what they have; Findings what the checkup says; Editions the edition
	// that waits, "" for none, and the one in use.
	Companions func(host string) Companions
	Findings   func() []checkup.Diagnostic
	Editions   func() (waiting, inUse string)
}

// cards says what is known of an address.
type cards interface {
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
}

// Companions are those of a site.
type Companions interface {
	Answers(of *companion.Subject, ask bool, now time.Time) companion.Answers
	Categories() []string
	Values() map[string][]string
}

// Notices is the service. It is safe for concurrent use.
type Notices struct {
	Options
	settings      atomic.Pointer[Settings]
	links, hashes []byte // keys
	asking        sync.Mutex
	wake          chan struct{}
	mu            sync.Mutex
	broken        map[[2]string]string // why notices cannot be written, by site and name
	compiled      map[[2]string]cached
	lastWatch     time.Time
}

// cached is a notice that was compiled, and of what.
type cached struct {
	revision int64
	of       *Settings
	*notice.Compiled
}

// New makes the service, which sends nothing before it runs.
func New(opt Options) *Notices {
	if opt.Count == nil {
		opt.Count = func(string, string, string) {}
	}
	return &Notices{
		Options: opt, links: signed.Key(opt.Secret, "notice links"), hashes: signed.Key(opt.Secret, "notice recipients"),
		wake: make(chan struct{}, 1), broken: map[[2]string]string{}, compiled: map[[2]string]cached{},
	}
}

// Use puts settings into use.
func (n *Notices) Use(set *Settings) { n.settings.Store(set) }

// known says what notices of a site may name.
func (n *Notices) known(ctx context.Context, site string) (*notice.Known, error) {
	set := n.settings.Load()
	of := set.Companions(site)
	known := &notice.Known{Channels: map[string]string{}, Labels: set.Labels, Categories: of.Categories(), Companions: of.Values()}
	list, err := n.Rows.Channels(ctx)
	for _, k := range list {
		if k.Site == site {
			known.Channels[k.Name] = k.Said.Kind
		}
	}
	return known, err
}

// aspect is how a site writes facts.
func (n *Notices) aspect(site *sites.Site) *notice.Aspect {
	zone, err := time.LoadLocation(site.TimeZone)
	if err != nil {
		zone = time.UTC
	}
	return &notice.Aspect{Site: site.Host, Language: site.Local.Languages.Default(), Zone: zone, ConsoleURL: n.ConsoleURL()}
}

// Wake has what waits looked at now.
func (n *Notices) Wake() {
	select {
	case n.wake <- struct{}{}:
	default: // it will be
	}
}
