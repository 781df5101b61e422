// Package reportapi has the operations that answer with reports of visits.
package reportapi

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
	"eastporch/internal/server/sites"
)

// An API answers.
type API struct {
	Reports *report.Reports
	Sites   *sites.Sites
	Settle  func(ctx context.Context) // waits for visits that were accepted before
	List    func(c *gin.Context, key string, value any, err error)
}

// asked answers with a report of the visits that a request picks; err is what else may be wrong
// with the request.
func asked[T any](a *API, c *gin.Context, err error, make func(context.Context, visit.Filter) (T, error)) {
	var f visit.Filter
	if err == nil {
		f, err = request.Filter(c, a.Sites)
	}
	var answer T
	if err == nil {
		a.Settle(c)
		answer, err = make(c, f)
	}
	if err == nil {
		respond.Own(c)
	}
	a.List(c, "rows", answer, err)
}

// By counts visits by one thing.
func (a *API) By(c *gin.Context) {
	rows, err := request.Int(c, "limit", report.RowsUsual, 1, report.RowsMost)
	compare, fresh := c.Query("compare"), c.Query("new")
	if err == nil && compare != "" && compare != "before" {
		err = invalid.Field("compare", fmt.Sprintf("%.20q is nothing to compare with", compare), "Give before, or leave it out.")
	}
	if err == nil && fresh != "" && fresh != "true" {
		err = invalid.Field("new", "it picks new countries", "Give true, with the report of countries.")
	}
	asked(a, c, err, func(ctx context.Context, f visit.Filter) (report.Report, error) {
		return a.Reports.By(ctx, c.Param("by"), report.Question{Filter: f, Rows: rows, Compare: compare != "", OnlyNew: fresh != ""})
	})
}

// Timeline counts visits over time.
func (a *API) Timeline(c *gin.Context) {
	unit, name := c.DefaultQuery("unit", "day"), c.Query("zone")
	if site := a.Sites.Of(c.Query("site")); site != nil && name == "" {
		name = site.TimeZone
	}
	zone, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		err = invalid.Field("zone", fmt.Sprintf("%.40q is not a time zone", name), "Give a name of the IANA database, such as Europe/Lisbon.")
	}
	asked(a, c, err, func(ctx context.Context, f visit.Filter) (report.Timeline, error) {
		return a.Reports.Timeline(ctx, f, unit, zone)
	})
}

// Hours counts visits by the hour of the week.
func (a *API) Hours(c *gin.Context) { asked(a, c, nil, a.Reports.Hours) }

// Visitors counts distinct visitors.
func (a *API) Visitors(c *gin.Context) { asked(a, c, nil, a.Reports.Visitors) }

// Grid counts visits by cells of a map.
func (a *API) Grid(c *gin.Context) {
	zoom, err := request.Int(c, "zoom", 2, 0, 12)
	box := geo.World
	if text := c.Query("bbox"); err == nil && text != "" {
		if box, err = geo.ParseBox(text); err != nil {
			err = invalid.Field("bbox", fmt.Sprintf("%.60q is not a box", text), "Give west,south,east,north in degrees, such as -10,35,5,45.")
		}
	}
	asked(a, c, err, func(ctx context.Context, f visit.Filter) (report.Grid, error) {
		return a.Reports.Grid(ctx, f, zoom, box)
	})
}

// Distances says how far visits are from a point.
func (a *API) Distances(c *gin.Context) {
	from, err := request.RequiredPoint(c)
	asked(a, c, err, func(ctx context.Context, f visit.Filter) (report.Distances, error) {
		return a.Reports.Distances(ctx, f, from)
	})
}
