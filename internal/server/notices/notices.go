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
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/secret"
	"eastporch/internal/core/signed"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/sites"
)

// rows keep what becomes of notices. Errors may be those of package notice and wrap [visit.ErrAway].
type rows interface {
	Healths(ctx context.Context) (map[[2]string]notice.HealthOf, error)
	Health(ctx context.Context, site, name string, revision int64, h notice.ChannelHealth) error
	Standings(ctx context.Context, site string, now time.Time) (map[string]notice.Counts, error)
	Traffic(ctx context.Context, site string, since time.Time) (map[string]notice.Traffic, error)
	Sums(ctx context.Context, site string, now time.Time) (notice.Sums, error)
	outbox
	asked
}

// outbox is what waits to be written and sent, and what was.
type outbox interface {
	Triggered(ctx context.Context, after map[[2]string]bool) ([]notice.Triggered, error)
	Write(ctx context.Context, w notice.Written, now time.Time) error
	Counted(ctx context.Context, site, name string, since time.Time) (map[string]int, error)
	Waiting(ctx context.Context, site, channel string) ([]notice.Letter, error)
	Due(ctx context.Context) (map[[2]string]time.Time, error)
	Forget(ctx context.Context, triggers []int64) error
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
	Rows      rows
	Documents *documents.Documents
	Running   func() *Settings // those that run now
	// Lead has one instance at a time do something until its context ends; where proof fails it must do no more. Woken gives
	// a channel that is closed when a notice is met next, or something is to be sent.
	Lead   func(ctx context.Context, do func(ctx context.Context, proof func(context.Context) error)) error
	Woken  func() <-chan struct{}
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

// Settings are what notices are written with at one time. They never change.
type Settings struct {
	Documents *document.Set
	Sites     *sites.Sites
	Cards     cards
	Labels    func(name string) bool
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
	links, hashes []byte // keys
	asking        sync.Mutex
	mu            sync.Mutex
	broken        map[[2]string]string // why notices cannot be written, by site and name
	compiled      map[[2]string]cached
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
		broken: map[[2]string]string{}, compiled: map[[2]string]cached{},
	}
}

// notices gives the notices of a site, in the order of their names; of all sites where it is "".
func (set *Settings) notices(site string) (list []notice.Kept) {
	for _, d := range set.of(document.Notice, site) {
		if said, err := document.Read[notice.Said](d); err == nil {
			list = append(list, notice.Kept{Site: d.Site, Name: d.Name, Said: said, Revision: d.Revision, MadeBy: d.MadeBy, ChangedAt: d.MadeAt})
		}
	}
	return list
}

// channels gives the channels of a site, in the order of their names, without how they stand.
func (set *Settings) channels(site string) (list []notice.KeptChannel) {
	for _, d := range set.of(document.Channel, site) {
		if k, err := channelOf(d); err == nil {
			list = append(list, k)
		}
	}
	return list
}

func channelOf(d *document.Document) (k notice.KeptChannel, err error) {
	k = notice.KeptChannel{Site: d.Site, Name: d.Name, Revision: d.Revision, MadeBy: d.MadeBy, ChangedAt: d.MadeAt}
	k.Said, err = document.Read[notice.ChannelSaid](d)
	return k, err
}

func (set *Settings) of(kind document.Kind, site string) []*document.Document {
	if site == "" {
		return set.Documents.All(kind)
	}
	return set.Documents.Of(kind, site)
}

// known says what notices of a site may name.
func (set *Settings) known(site string) *notice.Known {
	of := set.Companions(site)
	known := &notice.Known{Channels: map[string]string{}, Labels: set.Labels, Categories: of.Categories(), Companions: of.Values()}
	for _, k := range set.channels(site) {
		known.Channels[k.Name] = k.Said.Kind
	}
	return known
}

// aspect is how a site writes facts.
func (n *Notices) aspect(site *sites.Site) *notice.Aspect {
	zone, err := time.LoadLocation(site.TimeZone)
	if err != nil {
		zone = time.UTC
	}
	return &notice.Aspect{Site: site.Host, Language: site.Local.Languages.Default(), Zone: zone, ConsoleURL: n.ConsoleURL()}
}
