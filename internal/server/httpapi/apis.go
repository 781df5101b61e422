package httpapi

import (
	"github.com/gin-gonic/gin"

	"eastporch/internal/server/atlasapi"
	"eastporch/internal/server/contentapi"
	"eastporch/internal/server/linkapi"
	"eastporch/internal/server/noticeapi"
	"eastporch/internal/server/reportapi"
)

// ofLinks is a route about links.
func ofLinks(do func(*linkapi.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(h.links, c) }
}

func (h *handlers) ofLinks() *linkapi.API {
	return &linkapi.API{
		Links:     h.Content.Links,
		Tools:     linkapi.Tools{Site: h.oneSite, Who: callerOf, JSON: h.replyJSON, Note: h.note, Settle: h.Visits.Settle, MayAsk: h.mayAsk, Now: h.Service.Now},
		Following: linkapi.Following{Visits: h.Visits.Service, Sites: h.Public.Sites, Cards: h.Public.Cards, Finder: h.Public.Proxies.Finder, Gates: h.Content.Gates.Counter},
	}
}

// ofContent is a route about what owners put on their pages.
func ofContent(do func(*contentapi.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(h.content, c) }
}

func (h *handlers) ofContent() *contentapi.API {
	return &contentapi.API{
		Services: contentapi.Services{Variants: h.Content.Variants, Companions: h.Content.Companions, Cards: h.Public.Cards},
		Tools:    contentapi.Tools{Site: h.oneSite, Who: callerOf, JSON: h.replyJSON, Done: h.done, Note: h.note},
		Sites:    h.Public.Sites, VisitorURL: h.Content.VisitorURL,
	}
}

// ofNotices is a route about notices.
func ofNotices(do func(*noticeapi.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) {
		do(&noticeapi.API{Notices: h.Content.Notices, Tools: noticeapi.Tools{Site: h.oneSite, OwnSite: h.ownSite, Who: callerOf, From: h.from, JSON: h.replyJSON, Note: h.note}}, c)
	}
}

// ofAtlas is a route about visits and geofeeds.
func ofAtlas(do func(*atlasapi.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(&atlasapi.API{Atlases: h.Atlas.Service, JSON: h.replyJSON}, c) }
}

// ofReports is a route that answers with a report.
func ofReports(do func(*reportapi.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) {
		do(&reportapi.API{Reports: h.Visits.Reports, Sites: h.Public.Sites, Settle: h.Visits.Settle, List: h.replyList}, c)
	}
}
