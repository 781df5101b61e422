// Package atlasapi has the operations that say how well visits are known, and which geofeeds are
// gathered.
package atlasapi

import (
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/invalid"
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

// states are those that a feed may have.
var states = []string{"used", "failing", "lapsed", "refused", "waiting"}

// Feeds lists the geofeeds that are gathered.
func (a *API) Feeds(c *gin.Context) {
	limit, err := request.Int(c, "limit", 100, 1, 1000)
	q := atlases.FeedQuestion{State: c.Query("state"), Address: c.Query("address"), After: c.Query("cursor"), Limit: limit}
	if err == nil && q.State != "" && !slices.Contains(states, q.State) {
		err = invalid.Field("state", fmt.Sprintf("%.20q is no state of a feed", q.State), fmt.Sprintf("Give one of %v.", states))
	}
	if err != nil {
		a.JSON(c, http.StatusOK, nil, err)
		return
	}
	answer, err := a.Atlases.GatheredFeeds(q)
	a.JSON(c, http.StatusOK, answer, err)
}
