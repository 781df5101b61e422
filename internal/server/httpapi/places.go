package httpapi

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/geo"
	"eastporch/internal/server/lookup"
	"eastporch/internal/server/request"
)

func (h *handlers) getTownsNear(c *gin.Context) {
	p, err := request.RequiredPoint(c)
	count, people := 0, 0
	if err == nil {
		count, err = request.Int(c, "count", 5, 1, 100)
	}
	if err == nil {
		people, err = request.Int(c, "people", 0, 0, 1e9)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	h.replyList(c, "towns", lookup.TownsNear(p, count, people), nil)
}

// getAreas lists the owner's areas, and says which of them hold a point.
func (h *handlers) getAreas(c *gin.Context) {
	p, given, err := request.Point(c)
	if err != nil {
		h.fail(c, err)
		return
	}
	var at *geo.Point
	if given {
		at = &p
	}
	c.JSON(http.StatusOK, h.Atlas.Lookup.Held(at))
}
