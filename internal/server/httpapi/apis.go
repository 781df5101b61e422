package httpapi

import (
	"github.com/gin-gonic/gin"

	"eastporch/internal/server/companions"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/links"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/operation"
)

// apis are the operations of kinds that have packages of their own.
type apis struct {
	tools      operation.Tools
	gates      gates.API
	links      links.API
	companions companions.API
	notices    notices.API
	variants   localize.API
}

func (h *handlers) makeAPIs() {
	t := operation.Tools{
		Sites: h.Public.Sites, Site: h.oneSite, OwnSite: h.ownSite, Who: callerOf, From: h.from, Trail: h.trail, JSON: h.replyJSON, Note: h.note, MayAsk: h.mayAsk, Settle: h.Visits.Settle, Now: h.Service.Now,
	}
	h.apis = apis{
		tools: t,
		gates: gates.API{Services: h.Content.Gates, Tools: t},
		links: links.API{Links: h.Content.Links, Tools: t, Following: links.Following{
			Visits: h.Visits.Service, Cards: h.Public.Cards, Gates: h.Content.Gates.Counter,
		}},
		companions: companions.API{Tools: t, Companions: h.Content.Companions, Cards: h.Public.Cards},
		notices:    notices.API{Tools: t, Notices: h.Content.Notices},
		variants:   localize.API{Tools: t, Variants: h.Content.Variants, VisitorURL: h.Content.VisitorURL},
	}
}

// The operations of a kind as handlers.

func ofGates(do func(*gates.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(&h.apis.gates, c) }
}

func ofLinks(do func(*links.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(&h.apis.links, c) }
}

func ofCompanions(do func(*companions.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(&h.apis.companions, c) }
}

func ofNotices(do func(*notices.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(&h.apis.notices, c) }
}

func ofVariants(do func(*localize.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(&h.apis.variants, c) }
}

// named is a kind whose documents have names.
type named func(*apis) operation.Named

func companionDocuments(a *apis) operation.Named { return a.companions.Documents() }
func noticeDocuments(a *apis) operation.Named    { return a.notices.Documents() }
func channelDocuments(a *apis) operation.Named   { return a.notices.Channels() }

// do makes a handler of an operation that all such kinds have.
func (of named) do(do func(operation.Named, *operation.Tools, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(of(&h.apis), &h.apis.tools, c) }
}
