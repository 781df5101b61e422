package httpapi

import (
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/invalid"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// peer is the other end of the connection, from the connection itself: no
// header has a say in it.
func peer(r *http.Request) netip.Addr { return caller.PeerOf(r.RemoteAddr) }

// maxPricesIn bounds the currencies that a card may be asked for rates from.
const maxPricesIn = 10

// requestContext is who a request is for, beside the address: of which site, and with which
// language chosen. header is the request's own, or as somebody reports it.
func (h *handlers) requestContext(c *gin.Context, header map[string][]string, site *sites.Site) card.RequestContext {
	g := card.RequestContext{}
	if site != nil {
		g.At, g.Pass = site.Local, h.Content.Gates.Counter.Passes(c, request.Cookie(header, handover.PassCookie), site.Host)
	}
	if g.Choice = c.Query("choice"); g.Choice == "" {
		g.Choice = request.Cookie(header, handover.ChoiceCookie)
	}
	for code := range strings.SplitSeq(c.Query("prices_in"), ",") {
		if code = strings.ToUpper(strings.TrimSpace(code)); len(code) == 3 && len(g.PricesIn) < maxPricesIn && !slices.Contains(g.PricesIn, code) {
			g.PricesIn = append(g.PricesIn, code)
		}
	}
	return g
}

// oneSite is siteOf where there must be one.
func (h *handlers) oneSite(c *gin.Context) (*sites.Site, error) {
	site, err := request.Site(c, h.Public.Sites)
	if err == nil && site == nil {
		err = invalid.Field("site", "it is missing", h.Public.Sites.Hint())
	}
	return site, err
}
