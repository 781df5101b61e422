package httpapi

import (
	"context"
	"log/slog"
	"net/http"
	"net/netip"
	"time"

	"github.com/google/uuid"

	"eastporch/api"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/links"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/lookup"
	"eastporch/internal/server/metrics"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/refused"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/visits"
)

// Options says what the API is made of.
type Options struct {
	Public  Public
	Visits  Visits
	Atlas   Atlas
	Access  Access
	Content Content
	Service Service
}

// Public is what answers about the visitor of a request are made of. Every field is required.
type Public struct {
	Cards    cards
	Proxies  Proxies
	Watch    *checkup.Watch
	Sites    *sites.Sites
	Localize *localize.Localizer
	Handover Handover
}

// cards finds visitors and makes their cards.
type cards interface {
	Visitor(peer netip.Addr, header map[string][]string, req card.RequestContext, now time.Time) (card.Card, caller.Trail)
	Found(trail *caller.Trail, header map[string][]string, req card.RequestContext, now time.Time) card.Card
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
	Localize(country *almanac.Country, zone string, req card.RequestContext, now time.Time) card.Card
	Subject(a netip.Addr) (gate.Subject, []atlas.Evidence)
}

// Proxies are the settings that Finder was made of, and Try makes another of other
// settings; its error says what is wrong with them.
type Proxies struct {
	Finder   caller.Finder
	Settings api.ProxySettings
	Try      func(api.ProxySettings) (caller.Finder, error)
}

// Handover says how the signed cookie of a handover is made.
type Handover struct {
	Key   []byte
	Lasts time.Duration
}

// Visits is what visits are recorded and shown with. Every field is required.
type Visits struct {
	Service *visits.Visits
	Reports *report.Reports
	Stored  storedVisits
	// Changed gives a channel that is closed when visits have been stored, Settle waits for
	// those that were accepted before, and Stopping is closed when the service stops.
	Changed  func() <-chan struct{}
	Settle   func(ctx context.Context)
	Stopping <-chan struct{}
}

// storedVisits lists visits. Its errors may wrap [visit.ErrAway] and [visit.ErrNoVisit].
type storedVisits interface {
	Visits(ctx context.Context, f visit.Filter, before uuid.UUID, limit int) ([]visit.Visit, error)
	Visit(ctx context.Context, id uuid.UUID) (visit.Visit, error)
	Count(ctx context.Context, f visit.Filter, now time.Time) (visit.Count, error)
	StoredAfter(ctx context.Context, f visit.Filter, after, through int64, limit int) ([]visit.StoredVisit, error)
	StoredThrough(ctx context.Context) (int64, error)
}

// Atlas is what answers about addresses and editions are made of. Both are required.
type Atlas struct {
	Service *atlases.Atlases
	Lookup  *lookup.Lookup
}

// Access says who may ask for what. Every field is required but Ring.
type Access struct {
	Keys      *access.Keys
	Ring      *access.Ring // the keys that run; nil for the newest
	Sessions  *access.Sessions
	Audit     auditLog
	Limits    *Limits
	Listeners map[Listener]Door
	// Refused counts what is refused, held against what is let in.
	Refused *refused.Counter
	Held    refused.Setting
	// Installation tells this one's cookies from those of others on the same host.
	Installation uuid.UUID
}

// auditLog is what the handlers write and read of the log.
type auditLog interface {
	AddEvent(ctx context.Context, e access.Event) error
	Events(ctx context.Context, before uuid.UUID, limit int) ([]access.Event, error)
}

// A Door is how a listener is reached.
type Door struct {
	Hosts   []string // the host names that it answers to
	MaxBody int64    // bytes
	Secure  bool     // it speaks TLS
	// Origins are those under which browsers reach it, beside its own; behind a proxy that
	// speaks TLS they are named.
	Origins []string
}

// Content is what owners offer and see. MapLink may be "", and Variants nil where nothing
// serves them; the rest is required on the admin listener.
type Content struct {
	Documents  *documents.Documents
	Variants   *localize.Variants
	Companions *companions.Companions
	Notices    *notices.Notices
	Gates      gates.Services
	Links      *links.Links
	// VisitorURL is where the public listener is, as this machine sees it.
	VisitorURL func() string
	MapLink    string       // template of a link to a map outside, "" for none
	Console    http.Handler // serves what no route does, on the admin listener
}

// Service is the running service itself. Every field is required.
type Service struct {
	Version string
	Log     *slog.Logger
	Now     func() time.Time
	Metrics *metrics.Metrics
	Queue   queueState
	Ping    func(ctx context.Context) error // the database
	// Findings are those of the service itself, for the checkup.
	Findings func() []checkup.Diagnostic
	// Reload puts into use what the configuration says now.
	Reload func(ctx context.Context, force bool) (api.Reloaded, error)
}

// queueState says how the queue of visits stands.
type queueState interface {
	State() visit.Queue
	Room() bool
}
