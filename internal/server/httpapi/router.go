// Package httpapi serves the HTTP contract of api/openapi.yaml with Gin: a handler reads a
// request, asks one service and writes the answer. The rules of the job are in the core and in
// the services.
//
// What all handlers use stands in router, auth, params, respond and problem; then there is
// a file for each tag of the contract.
package httpapi

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/server/access"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/guard"
	"eastporch/internal/server/links"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/operation"
	"eastporch/internal/server/problem"
)

// A Listener is one of the two: the public one serves what pages and proxies need, the
// admin one everything.
type Listener string

// The listeners.
const (
	PublicListener Listener = "public"
	AdminListener  Listener = "admin"
)

// handlers are those of one listener.
type handlers struct {
	Options
	asked    atomic.Uint64 // how often the gates were asked about a request
	listener Listener
	door     Door
	apis     apis
}

// route is one line of the contract.
type route struct {
	method, path string
	public       bool // served on the public listener too
	scope        access.Scope
	handle       func(*handlers, *gin.Context)
}

var routes = []route{
	{http.MethodGet, "/v1/visitor", true, access.Page, (*handlers).getVisitor},
	{http.MethodGet, "/v1/visitor/address", true, access.Page, (*handlers).getVisitorAddress},
	{http.MethodGet, "/v1/handover", true, access.Server, (*handlers).getHandover},
	{http.MethodGet, "/v1/convert", true, access.Page, (*handlers).convert},
	{http.MethodGet, "/v1/countries", true, access.Nobody, (*handlers).listCountries},
	{http.MethodGet, "/v1/countries/:code", true, access.Nobody, (*handlers).getCountry},
	{http.MethodGet, "/v1/countries/:code/flag.svg", true, access.Nobody, (*handlers).getFlag},
	{http.MethodGet, "/v1/locale", false, access.Server, (*handlers).getLocale},
	{http.MethodGet, "/v1/rates", false, access.Server, (*handlers).getRates},
	{http.MethodGet, "/v1/variants", false, access.Admin, ofVariants((*localize.API).ListVariants)},
	{http.MethodPut, "/v1/variants/:name", false, access.Admin, ofVariants((*localize.API).SaveVariants)},
	{http.MethodDelete, "/v1/variants/:name", false, access.Admin, ofVariants((*localize.API).DropVariants)},
	{http.MethodGet, "/v1/snippets", false, access.Admin, ofVariants((*localize.API).Snippets)},
	{http.MethodGet, "/porch.js", true, access.Nobody, (*handlers).getScript},
	{http.MethodGet, "/porch.d.ts", true, access.Nobody, (*handlers).getScriptTypes},
	{http.MethodGet, "/v1/addresses/:address", false, access.Server, (*handlers).getAddress},
	{http.MethodPost, "/v1/trails", false, access.Server, (*handlers).explainTrail},
	{http.MethodPost, "/v1/visits", true, access.Page, (*handlers).addVisit},
	{http.MethodGet, "/v1/visits", false, access.Admin, (*handlers).listVisits},
	{http.MethodGet, "/v1/visits/:id", false, access.Admin, (*handlers).getVisit},
	{http.MethodGet, "/v1/visits/state", false, access.Admin, (*handlers).getState},
	{http.MethodGet, "/v1/visits/stream", false, access.Admin, (*handlers).streamVisits},
	{http.MethodGet, "/v1/visits/export", false, access.Admin, (*handlers).exportVisits},
	{http.MethodPost, importPath, false, access.Admin, (*handlers).importVisits},
	{http.MethodPost, "/v1/visits/erase", false, access.Admin, (*handlers).eraseVisits},
	{http.MethodPost, "/v1/visits/verify", false, access.Admin, (*handlers).verifyVisits},
	{http.MethodGet, "/v1/visits/quarantine", false, access.Admin, (*handlers).listQuarantine},
	{http.MethodPost, "/v1/visits/quarantine/:id", false, access.Admin, (*handlers).replayVisit},
	{http.MethodDelete, "/v1/visits/quarantine/:id", false, access.Admin, (*handlers).dropVisit},
	{http.MethodGet, "/v1/reports/timeline", false, access.Admin, (*handlers).getTimeline},
	{http.MethodGet, "/v1/reports/hours", false, access.Admin, (*handlers).getHours},
	{http.MethodGet, "/v1/reports/visitors", false, access.Admin, (*handlers).getVisitors},
	{http.MethodGet, "/v1/reports/grid", false, access.Admin, (*handlers).getGrid},
	{http.MethodGet, "/v1/reports/distances", false, access.Admin, (*handlers).getDistances},
	{http.MethodGet, "/v1/reports/:by", false, access.Admin, (*handlers).reportBy},
	{http.MethodGet, "/v1/refused-requests", false, access.Admin, (*handlers).getRefused},
	{http.MethodGet, "/v1/gate", false, access.Admin, ofGates((*gates.API).State)},
	{http.MethodPut, "/v1/gate", false, access.Admin, ofGates((*gates.API).Save)},
	{http.MethodPut, "/v1/gate/draft", false, access.Admin, ofGates((*gates.API).SaveDraft)},
	{http.MethodDelete, "/v1/gate/draft", false, access.Admin, ofGates((*gates.API).DropDraft)},
	{http.MethodPost, "/v1/gate/check", false, access.Admin, ofGates((*gates.API).Check)},
	{http.MethodPost, "/v1/gate/simulate", false, access.Admin, ofGates((*gates.API).Simulate)},
	{http.MethodGet, "/v1/gate/history", false, access.Admin, ofGates((*gates.API).History)},
	{http.MethodPost, "/v1/gate/history/:revision/return", false, access.Admin, ofGates((*gates.API).Return)},
	{http.MethodGet, "/v1/gate/refusals", false, access.Admin, ofGates((*gates.API).Refusals)},
	{http.MethodPost, "/v1/gate/passes", false, access.Admin, ofGates((*gates.API).MakePass)},
	{http.MethodGet, "/v1/gate/pass", true, access.Nobody, ofGates((*gates.API).UsePass)},
	{http.MethodGet, "/v1/gate/decide", true, access.Server, (*handlers).decideGate},
	{http.MethodGet, "/v1/gate/refusal", true, access.Nobody, ofGates((*gates.API).Refusal)},
	{http.MethodGet, "/to/:code", true, access.Nobody, ofLinks((*links.API).Follow)},
	{http.MethodHead, "/to/:code", true, access.Nobody, ofLinks((*links.API).Follow)},
	{http.MethodGet, "/v1/links", false, access.Admin, ofLinks((*links.API).List)},
	{http.MethodPost, "/v1/links", false, access.Admin, ofLinks((*links.API).Create)},
	{http.MethodGet, "/v1/links/:code", false, access.Admin, ofLinks((*links.API).Get)},
	{http.MethodPatch, "/v1/links/:code", false, access.Admin, ofLinks((*links.API).Change)},
	{http.MethodGet, "/v1/links/:code/clicks", false, access.Admin, ofLinks((*links.API).Clicks)},
	{http.MethodGet, "/v1/links/:code/qr.svg", false, access.Admin, ofLinks((*links.API).SVG)},
	{http.MethodGet, "/v1/links/:code/qr.png", false, access.Admin, ofLinks((*links.API).PNG)},
	{http.MethodGet, "/v1/companions", false, access.Admin, named(companionDocuments).do(operation.Named.Listed)},
	{http.MethodPost, "/v1/companions/try", false, access.Admin, ofCompanions((*companions.API).Try)},
	{http.MethodGet, "/v1/companions/:name", false, access.Admin, named(companionDocuments).do(operation.Named.Given)},
	{http.MethodPut, "/v1/companions/:name", false, access.Admin, named(companionDocuments).do(operation.Named.Saved)},
	{http.MethodDelete, "/v1/companions/:name", false, access.Admin, named(companionDocuments).do(operation.Named.Dropped)},
	{http.MethodPost, "/v1/companions/:name/ask", false, access.Admin, ofCompanions((*companions.API).Ask)},
	{http.MethodPost, "/v1/rehearsals", false, access.Server, ofGates((*gates.API).Rehearse)},
	{http.MethodPost, "/v1/reload", false, access.Admin, (*handlers).reload},
	{http.MethodGet, "/v1/checkup", false, access.Admin, (*handlers).getCheckup},
	{http.MethodGet, "/metrics", false, access.Server, (*handlers).getMetrics},
	{http.MethodGet, "/v1/sites", false, access.Admin, (*handlers).listSites},
	{http.MethodPost, "/v1/addresses", false, access.Server, (*handlers).getAddresses},
	{http.MethodGet, "/v1/ranges", false, access.Server, (*handlers).getRange},
	{http.MethodGet, "/v1/towns/near", false, access.Server, (*handlers).getTownsNear},
	{http.MethodGet, "/v1/areas", false, access.Server, (*handlers).getAreas},
	{http.MethodGet, "/v1/atlas", false, access.Admin, (*handlers).getAtlas},
	{http.MethodGet, "/v1/atlas/editions", false, access.Admin, (*handlers).listEditions},
	{http.MethodPost, "/v1/atlas/editions", false, access.Admin, (*handlers).buildEdition},
	{http.MethodPost, "/v1/atlas/activate", false, access.Admin, (*handlers).activateEdition},
	{http.MethodPost, "/v1/atlas/back", false, access.Admin, (*handlers).backEdition},
	{http.MethodGet, "/v1/atlas/changes", false, access.Admin, (*handlers).getChanges},
	{http.MethodGet, "/v1/atlas/coverage", false, access.Admin, (*handlers).getCoverage},
	{http.MethodGet, "/v1/atlas/visits", false, access.Admin, (*handlers).getVisitCoverage},
	{http.MethodGet, "/v1/atlas/feeds", false, access.Admin, (*handlers).listFeeds},
	{http.MethodGet, "/v1/atlas/accuracy", false, access.Admin, (*handlers).getAccuracy},
	{http.MethodPost, "/v1/atlas/accuracy", false, access.Admin, (*handlers).measureAccuracy},
	{http.MethodPost, "/v1/atlas/describe", false, access.Admin, (*handlers).describeFile},
	{http.MethodGet, "/v1/atlas/samples", false, access.Server, (*handlers).getSamples},
	{http.MethodGet, "/v1/atlas/export", false, access.Admin, (*handlers).exportEdition},
	{http.MethodPost, "/v1/atlas/publish", false, access.Admin, (*handlers).publishEdition},
	{http.MethodPost, "/v1/visits/reenrich", false, access.Admin, (*handlers).reenrichVisits},
	{http.MethodGet, "/v1/corrections", false, access.Admin, (*handlers).listCorrections},
	{http.MethodPost, "/v1/corrections", false, access.Admin, (*handlers).addCorrection},
	{http.MethodDelete, "/v1/corrections/:id", false, access.Admin, (*handlers).dropCorrection},
	{http.MethodPost, "/v1/corrections/check", false, access.Admin, (*handlers).checkGeofeed},
	{http.MethodGet, "/v1/notices", false, access.Admin, named(noticeDocuments).do(operation.Named.Listed)},
	{http.MethodPost, "/v1/notices/preview", false, access.Admin, ofNotices((*notices.API).Preview)},
	{http.MethodPost, "/v1/notices/test", false, access.Admin, ofNotices((*notices.API).Test)},
	{http.MethodGet, "/v1/notices/:name", false, access.Admin, named(noticeDocuments).do(operation.Named.Given)},
	{http.MethodPut, "/v1/notices/:name", false, access.Admin, named(noticeDocuments).do(operation.Named.Saved)},
	{http.MethodDelete, "/v1/notices/:name", false, access.Admin, named(noticeDocuments).do(operation.Named.Dropped)},
	{http.MethodPost, "/v1/notices/:name/ask", true, access.Page, ofNotices((*notices.API).Ask)},
	{http.MethodGet, "/mail", true, access.Nobody, ofNotices((*notices.API).ShowMailPage)},
	{http.MethodPost, "/mail", true, access.Nobody, ofNotices((*notices.API).AnswerMailPage)},
	{http.MethodPut, "/v1/channels/:name", false, access.Admin, named(channelDocuments).do(operation.Named.Saved)},
	{http.MethodDelete, "/v1/channels/:name", false, access.Admin, named(channelDocuments).do(operation.Named.Dropped)},
	{http.MethodGet, "/v1/messages", false, access.Admin, ofNotices((*notices.API).Messages)},
	{http.MethodGet, "/v1/messages/:id", false, access.Admin, ofNotices((*notices.API).Message)},
	{http.MethodDelete, "/v1/messages/:id", false, access.Admin, ofNotices((*notices.API).DropMessage)},
	{http.MethodPost, "/v1/messages/:id/resend", false, access.Admin, ofNotices((*notices.API).Resend)},
	{http.MethodGet, "/v1/history/:kind", false, access.Admin, (*handlers).listHistory},
	{http.MethodPost, "/v1/history/:kind/:revision/return", false, access.Admin, (*handlers).returnDocument},
	{http.MethodGet, "/v1/keys", false, access.Admin, (*handlers).listKeys},
	{http.MethodPost, "/v1/keys", false, access.Admin, (*handlers).createKey},
	{http.MethodPatch, "/v1/keys/:id", false, access.Admin, (*handlers).renameKey},
	{http.MethodDelete, "/v1/keys/:id", false, access.Admin, (*handlers).revokeKey},
	{http.MethodGet, "/v1/keys/:id/made", false, access.Admin, (*handlers).getMade},
	{http.MethodGet, "/v1/sessions", false, access.Admin, (*handlers).listSessions},
	{http.MethodPost, "/v1/sessions", false, access.Nobody, (*handlers).signIn},
	{http.MethodDelete, "/v1/sessions/:id", false, access.Admin, (*handlers).endSession},
	{http.MethodGet, "/v1/audit-log", false, access.Admin, (*handlers).listAuditLog},
	{http.MethodGet, "/livez", true, access.Nobody, (*handlers).getLiveness},
	{http.MethodHead, "/livez", true, access.Nobody, (*handlers).getLiveness},
	{http.MethodGet, "/readyz", true, access.Nobody, (*handlers).getReadiness},
	{http.MethodHead, "/readyz", true, access.Nobody, (*handlers).getReadiness},
	{http.MethodGet, "/openapi.json", false, access.Nobody, (*handlers).getOpenAPI},
}

// importPath takes files of any size, bit by bit.
const importPath = "/v1/visits/import"

// long are the paths of work that goes on for as long as it takes, until it is done or
// whoever asked hangs up. All of them want a key.
var long = map[string]bool{
	"/v1/visits/export": true, importPath: true, "/v1/visits/erase": true, "/v1/visits/verify": true, "/v1/visits/stream": true,
	"/v1/atlas/activate": true, "/v1/atlas/back": true, "/v1/atlas/changes": true, "/v1/atlas/coverage": true, "/v1/atlas/accuracy": true,
	"/v1/gate/simulate": true, "/v1/rehearsals": true, "/v1/atlas/export": true, "/v1/atlas/publish": true, "/v1/visits/reenrich": true, "/v1/addresses": true, "/v1/reports/:by": true,
	"/v1/reports/timeline": true, "/v1/reports/hours": true, "/v1/reports/visitors": true, "/v1/reports/grid": true, "/v1/reports/distances": true,
}

// check says which option is missing.
func (o *Options) check() error {
	for name, missing := range map[string]bool{
		"cards": o.Public.Cards == nil, "sites": o.Public.Sites == nil, "watch": o.Public.Watch == nil, "localize": o.Public.Localize == nil,
		"visits": o.Visits.Service == nil || o.Visits.Reports == nil || o.Visits.Stored == nil, "atlas": o.Atlas.Service == nil || o.Atlas.Lookup == nil,
		"gates": o.Content.Gates == gates.Services{}, "documents": o.Content.Documents == nil, "links": o.Content.Links == nil, "companions": o.Content.Companions == nil, "notices": o.Content.Notices == nil, "keys": o.Access.Keys == nil, "sessions": o.Access.Sessions == nil, "audit": o.Access.Audit == nil, "limits": o.Access.Limits == nil, "refused": o.Access.Refused == nil,
		"log": o.Service.Log == nil, "now": o.Service.Now == nil, "metrics": o.Service.Metrics == nil, "queue": o.Service.Queue == nil,
	} {
		if missing {
			return errors.New("the HTTP API lacks " + name)
		}
	}
	return nil
}

// New makes the handler of one listener. The error says which option is missing.
func New(listener Listener, opt Options) (*gin.Engine, error) {
	if err := opt.check(); err != nil {
		return nil, err
	}
	h := &handlers{Options: opt, listener: listener, door: opt.Access.Listeners[listener]}
	h.makeAPIs()
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.HandleMethodNotAllowed = true
	engine.RedirectTrailingSlash = false
	engine.UseRawPath, engine.UnescapePathValues = true, true
	engine.ContextWithFallback = true
	before := guard.Guard{
		Listener: guard.Listener(listener), Hosts: map[string]bool{}, Public: listener == PublicListener, Secure: h.door.Secure, MaxBody: h.door.MaxBody, Unbounded: importPath,
		Checks: guard.Checks{Fail: h.fail, Metrics: opt.Service.Metrics, Log: opt.Service.Log},
	}
	for _, host := range h.door.Hosts {
		before.Hosts[strings.ToLower(host)] = true
	}
	engine.Use(before.Handlers()...)
	for _, r := range routes {
		if r.public || listener == AdminListener {
			engine.Handle(r.method, r.path, h.admit(r.scope), func(c *gin.Context) {
				if long[r.path] {
					out := http.NewResponseController(c.Writer)
					_ = out.SetReadDeadline(time.Time{}) // which ends requests that run, too
					_ = out.SetWriteDeadline(time.Time{})
				}
				r.handle(h, c)
			})
		}
	}
	engine.NoMethod(func(c *gin.Context) {
		h.fail(c, problem.Of(http.StatusMethodNotAllowed, "method-not-allowed", "Method not allowed",
			fmt.Sprintf("%.20s does not fit this path.", c.Request.Method), "The Allow header names the methods that do."))
	})
	engine.NoRoute(func(c *gin.Context) {
		if links.IsLink(c.Request) {
			h.apis.links.Unknown(c, "")
			return
		}
		if listener == AdminListener && (c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead) && !strings.HasPrefix(c.Request.URL.Path, "/v1/") {
			opt.Content.Console.ServeHTTP(c.Writer, c.Request)
			return
		}
		h.fail(c, problem.Of(http.StatusNotFound, "no-such-endpoint", "No such endpoint on this listener",
			"No operation has this path on this listener.", "The admin listener serves the whole contract; /openapi.json there lists it."))
	})
	return engine, nil
}
