// Package httpapi serves the HTTP contract of api/openapi.yaml with Gin:
// routes, negotiation and problem documents. The rules of the job are in the
// core.
package httpapi

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"runtime/debug"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/variant"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
)

// enricher is the pipeline that makes cards.
type enricher interface {
	Visitor(peer netip.Addr, header map[string][]string, req card.RequestContext, now time.Time) (card.Card, caller.Trail)
	Given(a netip.Addr, header map[string][]string, req card.RequestContext, now time.Time) (card.Card, caller.Trail)
	Card(a netip.Addr, obtained string, req card.RequestContext, now time.Time) card.Card
	Localize(country *almanac.Country, zone string, req card.RequestContext, now time.Time) card.Card
	Why(a netip.Addr, req card.RequestContext, now time.Time) card.Card
}

// visitStore is all that the handlers need of the database. Its errors may
// wrap [visit.ErrAway] and [visit.ErrNoVisit].
type visitStore interface {
	Oldest(now time.Time) time.Time
	Kept(ctx context.Context) (visit.Kept, error)
	Visits(ctx context.Context, f visit.Filter, before uuid.UUID, limit int) ([]visit.Visit, error)
	Visit(ctx context.Context, id uuid.UUID) (visit.Visit, error)
	Count(ctx context.Context, f visit.Filter, now time.Time) (visit.Count, error)
	StoredAfter(ctx context.Context, f visit.Filter, after int64, limit int) ([]visit.StoredVisit, error)
	LastSequence(ctx context.Context) (int64, error)
	Insert(ctx context.Context, batch []visit.QueuedVisit) (visit.Outcome, error)

	VisitsFrom(ctx context.Context, f visit.Filter, after uuid.UUID, limit int) ([]visit.Visit, error)

	Tally(ctx context.Context, f visit.Filter, by visit.By, now time.Time) (visit.Tally, error)
	LeftOut(ctx context.Context, f visit.Filter, now time.Time) (map[string]int64, error)
	Timeline(ctx context.Context, f visit.Filter, starts []time.Time, now time.Time) ([]visit.TimeCount, visit.Tally, error)
	FirstSeen(ctx context.Context, site string, by visit.By) (map[string]time.Time, error)
	Visitors(ctx context.Context, f visit.Filter) ([]visit.TimeCount, error)
	Days(ctx context.Context, site string, now time.Time) ([]time.Time, error)
	Verify(ctx context.Context, site string, of time.Time, mend bool) ([]visit.CountMismatch, int64, error)

	Standing(ctx context.Context, rows []visit.Row) ([]visit.Standing, error)
	Erase(ctx context.Context, e visit.Erasure, now time.Time) (visit.Erased, error)
	Quarantine(ctx context.Context, limit int) ([]visit.SetApart, int, error)
	FromQuarantine(ctx context.Context, id uuid.UUID) (visit.SetApart, error)
	Release(ctx context.Context, id uuid.UUID) (bool, error)
	Ping(ctx context.Context) error
}

// queue takes visits in.
type queue interface {
	Accept(ctx context.Context, visits []visit.QueuedVisit) (index uint64, err error)
	Wait(ctx context.Context, index uint64) error
	Settle(ctx context.Context)
	State() visit.Queue
	Room() bool
}

// privacyKeys leaves of a visit what its site keeps.
type privacyKeys interface {
	Keep(v visit.Visit, mode visit.Mode, private bool) (visit.Visit, error)
	Hashes(site string, a netip.Addr) ([]string, error)
	NextKey(now time.Time) time.Time
}

// ProxySettings say which proxies are trusted, as the configuration does.
type ProxySettings struct {
	Trusted []string `json:"trusted"`
	Header  string   `json:"header"`
	Hops    int      `json:"hops"`
}

// A Site is one web site whose visits are stored.
type Site struct {
	Host    string
	Name    string
	Privacy visit.Mode
	// TimeZone is the one that the site's days are of.
	TimeZone string
	// Local is what the site offers by where visitors are, and Sets the content variants
	// that the configuration has.
	Local *card.Local
	Sets  []variant.Set
}

// Handover says how the signed cookie of a handover is made.
type Handover struct {
	Key   []byte
	Lasts time.Duration
}

// Options says what an API is made of. Every field is required.
type Options struct {
	Enrich enricher
	Finder caller.Finder
	// Proxies are the settings that Finder was made of, and TryProxies makes
	// another of other settings; the error says what is wrong with them.
	Proxies    ProxySettings
	TryProxies func(ProxySettings) (caller.Finder, error)
	Watch      *checkup.Watch
	Metrics    *Metrics
	Store      visitStore
	Intake     queue
	Privacy    privacyKeys
	Marker     visit.Marker
	// Stored gives a channel that is closed when visits have been stored, and
	// Stopping is closed when the service stops.
	Stored   func() <-chan struct{}
	Stopping <-chan struct{}
	Sites    []Site
	// Known has the groups of countries, and says which labels and areas there are;
	// LabelNames lists the labels.
	Known      variant.Known
	LabelNames []string
	Rates      rateFeed
	Variants   variantStore
	// Revary puts the stored content variants into use after they changed.
	Revary   func(context.Context) error
	Handover Handover
	// VisitorURL is where the public listener is, as this machine sees it.
	VisitorURL func() string

	// Shelf has the editions; Rebuild makes another of the configured sources, and
	// Recorrect reads the corrections again after they changed.
	Shelf      shelf
	Rebuild    func() error
	Recorrect  func(context.Context) error
	AtlasStore atlasStore
	// Publish makes the edition in use answer in SQL, and gives its ranges.
	Publish func(context.Context) (int64, error)
	// TestPoints is a file that editions are held against, "" for none.
	TestPoints string
	Areas      []geo.Area
	// LookUp finds the addresses of a host name; nil where names are not resolved.
	LookUp  func(ctx context.Context, host string) ([]netip.Addr, error)
	MapLink string       // template of a link to a map outside, "" for none
	Console http.Handler // serves what no route does, on the admin listener

	Keys     *access.Keys
	Sessions *access.Sessions
	Audit    auditLog
	Limits   *Limits
	Hosts    map[Listener][]string // the host names that each listener answers to
	MaxBody  map[Listener]int64    // bytes
	Secure   bool                  // the admin listener speaks TLS
	// Origins are those under which browsers reach the admin listener, beside its own; behind a
	// proxy that speaks TLS they are named. Installation tells this one's cookies from
	// those of others on the same host.
	Origins      []string
	Installation uuid.UUID

	Version string
	Log     *slog.Logger
	Now     func() time.Time
}

// A Listener is one of the two: the public one serves what pages and proxies need, the
// admin one everything.
type Listener string

// The listeners.
const (
	PublicListener Listener = "public"
	AdminListener  Listener = "admin"
)

type api struct {
	Options
	listener Listener
	sites    map[string]*Site
	hosts    map[string]bool
	*computed
}

// route is one line of the contract.
type route struct {
	method, path string
	public       bool // served on the public listener too
	scope        access.Scope
	handle       func(*api, *gin.Context)
}

var routes = []route{
	{http.MethodGet, "/v1/visitor", true, access.Page, (*api).getVisitor},
	{http.MethodGet, "/v1/visitor/address", true, access.Page, (*api).getVisitorAddress},
	{http.MethodGet, "/v1/handover", true, access.Page, (*api).getHandover},
	{http.MethodGet, "/v1/convert", true, access.Page, (*api).convert},
	{http.MethodGet, "/v1/countries", true, access.Nobody, (*api).listCountries},
	{http.MethodGet, "/v1/countries/:code", true, access.Nobody, (*api).getCountry},
	{http.MethodGet, "/v1/countries/:code/flag.svg", true, access.Nobody, (*api).getFlag},
	{http.MethodGet, "/v1/locale", false, access.Server, (*api).getLocale},
	{http.MethodGet, "/v1/rates", false, access.Server, (*api).getRates},
	{http.MethodGet, "/v1/variants", false, access.Admin, (*api).listVariants},
	{http.MethodPut, "/v1/variants/:name", false, access.Admin, (*api).saveVariants},
	{http.MethodDelete, "/v1/variants/:name", false, access.Admin, (*api).dropVariants},
	{http.MethodGet, "/v1/snippets", false, access.Admin, (*api).getSnippets},
	{http.MethodGet, "/porch.js", true, access.Nobody, (*api).getScript},
	{http.MethodGet, "/porch.d.ts", true, access.Nobody, (*api).getScriptTypes},
	{http.MethodGet, "/v1/addresses/:address", false, access.Server, (*api).getAddress},
	{http.MethodPost, "/v1/trails", false, access.Server, (*api).explainTrail},
	{http.MethodPost, "/v1/visits", true, access.Page, (*api).addVisit},
	{http.MethodGet, "/v1/visits", false, access.Admin, (*api).listVisits},
	{http.MethodGet, "/v1/visits/:id", false, access.Admin, (*api).getVisit},
	{http.MethodGet, "/v1/visits/state", false, access.Admin, (*api).getState},
	{http.MethodGet, "/v1/visits/stream", false, access.Admin, (*api).streamVisits},
	{http.MethodGet, "/v1/visits/export", false, access.Admin, (*api).exportVisits},
	{http.MethodPost, importPath, false, access.Admin, (*api).importVisits},
	{http.MethodPost, "/v1/visits/erase", false, access.Admin, (*api).eraseVisits},
	{http.MethodPost, "/v1/visits/verify", false, access.Admin, (*api).verifyVisits},
	{http.MethodGet, "/v1/visits/quarantine", false, access.Admin, (*api).listQuarantine},
	{http.MethodPost, "/v1/visits/quarantine/:id", false, access.Admin, (*api).replayVisit},
	{http.MethodDelete, "/v1/visits/quarantine/:id", false, access.Admin, (*api).dropVisit},
	{http.MethodGet, "/v1/reports/timeline", false, access.Admin, (*api).getTimeline},
	{http.MethodGet, "/v1/reports/hours", false, access.Admin, (*api).getHours},
	{http.MethodGet, "/v1/reports/visitors", false, access.Admin, (*api).getVisitors},
	{http.MethodGet, "/v1/reports/grid", false, access.Admin, (*api).getGrid},
	{http.MethodGet, "/v1/reports/distances", false, access.Admin, (*api).getDistances},
	{http.MethodGet, "/v1/reports/:by", false, access.Admin, (*api).getReport},
	{http.MethodGet, "/v1/checkup", false, access.Admin, (*api).getCheckup},
	{http.MethodGet, "/metrics", false, access.Server, (*api).getMetrics},
	{http.MethodGet, "/v1/sites", false, access.Admin, (*api).listSites},
	{http.MethodPost, "/v1/addresses", false, access.Server, (*api).getAddresses},
	{http.MethodGet, "/v1/ranges", false, access.Server, (*api).getRange},
	{http.MethodGet, "/v1/towns/near", false, access.Server, (*api).getTownsNear},
	{http.MethodGet, "/v1/areas", false, access.Server, (*api).getAreas},
	{http.MethodGet, "/v1/atlas", false, access.Admin, (*api).getAtlas},
	{http.MethodGet, "/v1/atlas/editions", false, access.Admin, (*api).listEditions},
	{http.MethodPost, "/v1/atlas/editions", false, access.Admin, (*api).buildEdition},
	{http.MethodPost, "/v1/atlas/activate", false, access.Admin, (*api).activateEdition},
	{http.MethodPost, "/v1/atlas/back", false, access.Admin, (*api).backEdition},
	{http.MethodGet, "/v1/atlas/changes", false, access.Admin, (*api).getChanges},
	{http.MethodGet, "/v1/atlas/coverage", false, access.Admin, (*api).getCoverage},
	{http.MethodGet, "/v1/atlas/accuracy", false, access.Admin, (*api).getAccuracy},
	{http.MethodPost, "/v1/atlas/accuracy", false, access.Admin, (*api).measureAccuracy},
	{http.MethodPost, "/v1/atlas/describe", false, access.Admin, (*api).describeFile},
	{http.MethodGet, "/v1/atlas/samples", false, access.Server, (*api).getSamples},
	{http.MethodGet, "/v1/atlas/export", false, access.Admin, (*api).exportEdition},
	{http.MethodPost, "/v1/atlas/publish", false, access.Admin, (*api).publishEdition},
	{http.MethodPost, "/v1/visits/reenrich", false, access.Admin, (*api).reenrichVisits},
	{http.MethodGet, "/v1/corrections", false, access.Admin, (*api).listCorrections},
	{http.MethodPost, "/v1/corrections", false, access.Admin, (*api).addCorrection},
	{http.MethodDelete, "/v1/corrections/:id", false, access.Admin, (*api).dropCorrection},
	{http.MethodPost, "/v1/corrections/check", false, access.Admin, (*api).checkGeofeed},
	{http.MethodGet, "/v1/keys", false, access.Admin, (*api).listKeys},
	{http.MethodPost, "/v1/keys", false, access.Admin, (*api).createKey},
	{http.MethodPatch, "/v1/keys/:id", false, access.Admin, (*api).renameKey},
	{http.MethodDelete, "/v1/keys/:id", false, access.Admin, (*api).revokeKey},
	{http.MethodGet, "/v1/keys/:id/made", false, access.Admin, (*api).getMade},
	{http.MethodGet, "/v1/sessions", false, access.Admin, (*api).listSessions},
	{http.MethodPost, "/v1/sessions", false, access.Nobody, (*api).signIn},
	{http.MethodDelete, "/v1/sessions/:id", false, access.Admin, (*api).endSession},
	{http.MethodGet, "/v1/audit-log", false, access.Admin, (*api).listAuditLog},
	{http.MethodGet, "/livez", true, access.Nobody, (*api).getLiveness},
	{http.MethodHead, "/livez", true, access.Nobody, (*api).getLiveness},
	{http.MethodGet, "/readyz", true, access.Nobody, (*api).getReadiness},
	{http.MethodHead, "/readyz", true, access.Nobody, (*api).getReadiness},
	{http.MethodGet, "/openapi.json", false, access.Nobody, (*api).getOpenAPI},
}

// long are the paths of work that goes on for as long as it takes, until it is done or
// whoever asked hangs up. All of them want a key.
var long = map[string]bool{
	"/v1/visits/export": true, importPath: true, "/v1/visits/erase": true, "/v1/visits/verify": true, "/v1/visits/stream": true,
	"/v1/atlas/activate": true, "/v1/atlas/back": true, "/v1/atlas/changes": true, "/v1/atlas/coverage": true, "/v1/atlas/accuracy": true,
	"/v1/atlas/export": true, "/v1/atlas/publish": true, "/v1/visits/reenrich": true, "/v1/addresses": true, "/v1/reports/:by": true,
	"/v1/reports/timeline": true, "/v1/reports/hours": true, "/v1/reports/visitors": true, "/v1/reports/grid": true, "/v1/reports/distances": true,
}

// New makes the handler of one listener.
func New(listener Listener, opt Options) *gin.Engine {
	a := &api{Options: opt, listener: listener, sites: map[string]*Site{}, hosts: map[string]bool{}, computed: &computed{of: map[string]computedValue{}}}
	for i := range a.Sites {
		a.sites[a.Sites[i].Host] = &a.Sites[i]
	}
	for _, h := range opt.Hosts[listener] {
		a.hosts[strings.ToLower(h)] = true
	}
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.HandleMethodNotAllowed = true
	engine.RedirectTrailingSlash = false
	engine.UseRawPath, engine.UnescapePathValues = true, true
	engine.ContextWithFallback = true
	engine.Use(a.observe, a.recover, a.harden, a.checkHost, a.checkText, a.preflight, a.limitBody)
	for _, r := range routes {
		if r.public || listener == AdminListener {
			engine.Handle(r.method, r.path, a.admit(r.scope), func(c *gin.Context) {
				if long[r.path] {
					out := http.NewResponseController(c.Writer)
					_ = out.SetReadDeadline(time.Time{}) // which ends requests that run, too
					_ = out.SetWriteDeadline(time.Time{})
				}
				r.handle(a, c)
			})
		}
	}
	engine.NoMethod(func(c *gin.Context) {
		a.fail(c, problem{
			Type: "/problems/method-not-allowed", Title: "Method not allowed", Status: http.StatusMethodNotAllowed,
			Detail: fmt.Sprintf("%.20s does not fit this path.", c.Request.Method), Hint: "The Allow header names the methods that do.",
		})
	})
	engine.NoRoute(func(c *gin.Context) {
		if listener == AdminListener && (c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead) && !isAPI(c.Request.URL.Path) {
			opt.Console.ServeHTTP(c.Writer, c.Request)
			return
		}
		a.fail(c, problem{
			Type: "/problems/no-such-endpoint", Title: "No such endpoint on this listener", Status: http.StatusNotFound,
			Detail: "No operation has this path on this listener.", Hint: "The admin listener serves the whole contract; /openapi.json there lists it.",
		})
	})
	return engine
}

// isHealth says whether a path is a load balancer's, which may ask under any host.
func isHealth(path string) bool { return path == "/livez" || path == "/readyz" }

func isAPI(path string) bool { return len(path) >= 4 && path[:4] == "/v1/" }

// Keys of what a request carries along.
const (
	requestKey = "request_id"
	callerKey  = "caller"
)

func requestID(c *gin.Context) string { return c.GetString(requestKey) }

// observe names the request and logs it. The path and the query are not
// logged, since addresses stand in them; the route is.
func (a *api) observe(c *gin.Context) {
	start, id := time.Now(), rand.Text()[:13]
	c.Set(requestKey, id)
	c.Header("X-Request-Id", id)
	c.Next()
	took := time.Since(start)
	a.Metrics.request(a.listener, c, took)
	level := slog.LevelDebug
	if c.Writer.Status() >= http.StatusInternalServerError {
		level = slog.LevelWarn
	}
	a.Log.Log(c, level, "request", "request_id", id, "method", c.Request.Method, "route", c.FullPath(),
		"status", c.Writer.Status(), "bytes", c.Writer.Size(), "took", took)
}

// recover turns a panic into a problem document, but for one that is to break the
// connection.
func (a *api) recover(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler { // an answer that must not look whole
				panic(r)
			}
			a.Log.Error("panic", "request_id", requestID(c), "route", c.FullPath(), "panic", r, "stack", string(debug.Stack()))
			a.fail(c, fmt.Errorf("panic: %v", r))
		}
	}()
	c.Next()
}

// importPath takes files of any size, bit by bit.
const importPath = "/v1/visits/import"

func (a *api) limitBody(c *gin.Context) {
	if c.FullPath() != importPath {
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, a.MaxBody[a.listener])
	}
	c.Request.Body = body{c.Request.Body}
	c.Next()
}

// checkText refuses addresses that are no text: the database takes neither NUL nor what is
// not UTF-8, and no name of anything has them.
func (a *api) checkText(c *gin.Context) {
	u := c.Request.URL
	query := u.RawQuery
	if strings.IndexByte(query, '%') >= 0 {
		if plain, err := url.QueryUnescape(query); err == nil {
			query = plain
		}
	}
	if !isText(u.Path) || !isText(query) {
		a.fail(c, badRequest("invalid-url", "Invalid URL", "A part of it is not UTF-8, or holds a NUL.", "Write it as UTF-8, percent-encoded."))
		return
	}
	c.Next()
}

func isText(s string) bool { return utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 }

// errBody marks an error of reading a request's body, which is the client's or its
// connection's, and not ours.
var errBody = errors.New("the body could not be read")

type body struct{ io.ReadCloser }

func (b body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF { // which readers compare, as io.Reader asks
		err = fmt.Errorf("%w: %w", errBody, err)
	}
	return n, err
}

// peer is the other end of the connection, from the connection itself: no
// header has a say in it.
func peer(r *http.Request) netip.Addr { return caller.PeerOf(r.RemoteAddr) }

// private marks an answer about the calling visitor.
func private(c *gin.Context) {
	c.Header("Cache-Control", "private, no-store")
	c.Writer.Header().Add("Vary", "Accept-Language, Cookie, X-Forwarded-For")
}
