package httpapi

import (
	"github.com/gin-gonic/gin"

	"eastporch/internal/server/linkapi"
)

// ofLinks is a route about links.
func ofLinks(do func(*linkapi.API, *gin.Context)) func(*handlers, *gin.Context) {
	return func(h *handlers, c *gin.Context) { do(h.links, c) }
}

func (h *handlers) ofLinks() *linkapi.API {
	return &linkapi.API{
		Links:     h.Content.Links,
		Tools:     linkapi.Tools{Site: h.oneSite, Who: callerOf, JSON: h.replyJSON, Note: h.note, Settle: h.Visits.Settle, Now: h.Service.Now},
		Following: linkapi.Following{Visits: h.Visits.Service, Sites: h.Public.Sites, Cards: h.Public.Cards, Finder: h.Public.Proxies.Finder, Gates: h.Content.Gates.Counter},
	}
}
