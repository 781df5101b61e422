package httpapi

import (
	"context"
	"fmt"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/geo"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
)

// asked answers with a report of the visits that a request picks; err is what else may be wrong
// with the request.
func asked[T any](h *handlers, c *gin.Context, err error, make func(context.Context, visit.Filter) (T, error)) {
	var f visit.Filter
	if err == nil {
		f, err = request.Filter(c, h.Public.Sites)
	}
	var answer T
	if err == nil {
		h.Visits.Settle(c)
		answer, err = make(c, f)
	}
	if err == nil {
		respond.Own(c)
	}
	h.replyList(c, "rows", answer, err)
}

// reportBy counts visits by one thing.
func (h *handlers) reportBy(c *gin.Context) {
	rows, err := request.Int(c, "limit", report.RowsUsual, 1, report.RowsMost)
	compare, fresh := c.Query("compare"), c.Query("new")
	if err == nil && compare != "" && compare != "before" {
		err = invalid.Field("compare", fmt.Sprintf("%.20q is nothing to compare with", compare), "Give before, or leave it out.")
	}
	if err == nil && fresh != "" && fresh != "true" {
		err = invalid.Field("new", "it picks new countries", "Give true, with the report of countries.")
	}
	asked(h, c, err, func(ctx context.Context, f visit.Filter) (report.Report, error) {
		return h.Visits.Reports.By(ctx, c.Param("by"), report.Question{Filter: f, Rows: rows, Compare: compare != "", OnlyNew: fresh != ""})
	})
}

// getTimeline counts visits over time.
func (h *handlers) getTimeline(c *gin.Context) {
	unit, name := c.DefaultQuery("unit", "day"), c.Query("zone")
	if site := h.Public.Sites.Of(c.Query("site")); site != nil && name == "" {
		name = site.TimeZone
	}
	zone, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		err = invalid.Field("zone", fmt.Sprintf("%.40q is not a time zone", name), "Give a name of the IANA database, such as Europe/Lisbon.")
	}
	asked(h, c, err, func(ctx context.Context, f visit.Filter) (report.Timeline, error) {
		return h.Visits.Reports.Timeline(ctx, f, unit, zone)
	})
}

// getHours counts visits by the hour of the week.
func (h *handlers) getHours(c *gin.Context) { asked(h, c, nil, h.Visits.Reports.Hours) }

// getVisitors counts distinct visitors.
func (h *handlers) getVisitors(c *gin.Context) { asked(h, c, nil, h.Visits.Reports.Visitors) }

// getGrid counts visits by cells of a map.
func (h *handlers) getGrid(c *gin.Context) {
	zoom, err := request.Int(c, "zoom", 2, 0, 12)
	box := geo.World
	if text := c.Query("bbox"); err == nil && text != "" {
		if box, err = geo.ParseBox(text); err != nil {
			err = invalid.Field("bbox", fmt.Sprintf("%.60q is not a box", text), "Give west,south,east,north in degrees, such as -10,35,5,45.")
		}
	}
	asked(h, c, err, func(ctx context.Context, f visit.Filter) (report.Grid, error) {
		return h.Visits.Reports.Grid(ctx, f, zoom, box)
	})
}

// getDistances says how far visits are from a point.
func (h *handlers) getDistances(c *gin.Context) {
	from, err := request.RequiredPoint(c)
	asked(h, c, err, func(ctx context.Context, f visit.Filter) (report.Distances, error) {
		return h.Visits.Reports.Distances(ctx, f, from)
	})
}
