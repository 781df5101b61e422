// Package atlasapi has the operations that say how well visits are known, and which geofeeds are
// gathered.
package atlasapi

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"eastporch/internal/server/atlases"
	"eastporch/internal/server/request"
)

// An API answers.
type API struct {
	Atlases *atlases.Atlases
	JSON    func(c *gin.Context, status int, answer any, err error)
}

// Visits says how well an edition knows the addresses of visits.
func (a *API) Visits(c *gin.Context) {
	answer, err := a.Atlases.Visits(c, c.Query("edition"))
	a.JSON(c, http.StatusOK, answer, err)
}

// Feeds lists the geofeeds that are gathered.
func (a *API) Feeds(c *gin.Context) {
	limit, err := request.Int(c, "limit", 100, 1, 1000)
	q := atlases.FeedQuestion{State: c.Query("state"), Address: c.Query("address"), After: c.Query("cursor"), Limit: limit}
	if err != nil {
		a.JSON(c, http.StatusOK, nil, err)
		return
	}
	answer, err := a.Atlases.GatheredFeeds(q)
	a.JSON(c, http.StatusOK, answer, err)
}
