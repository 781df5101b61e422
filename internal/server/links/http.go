package links

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/link"
	"eastporch/internal/server/gates"
	"eastporch/internal/server/operation"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/visits"
)

// Following is what links are followed with.
type Following struct {
	Visits *visits.Visits
	Cards  cards
	Gates  *gates.Counter
}

// An API has the operations about links: following them, and what their owner does with them.
type API struct {
	Links *Links
	operation.Tools
	Following
}

// mayUse refuses a key that is not for a site.
func (a *API) mayUse(c *gin.Context) func(string) error {
	return func(site string) error { return a.MayUse(c, site) }
}

// List lists links.
func (a *API) List(c *gin.Context) {
	site, err := a.Site(c)
	if err == nil {
		err = a.mayUse(c)(site.Host)
	}
	q := Question{Search: c.Query("search"), State: c.Query("state"), Cursor: c.Query("cursor")}
	if err == nil && q.State != "" && q.State != "active" && q.State != "ended" {
		err = invalid.Word("state", q.State, []string{"active", "ended"})
	}
	if err == nil && len(q.Search) > 400 {
		err = invalid.Field("search", "it is too long", "Give a part of the code, name, note or destination.")
	}
	if err == nil && strings.ContainsRune(q.Search, 0) {
		err = invalid.Field("search", "it has a control character in it", "Give a part of the code, name, note or destination.")
	}
	if err == nil {
		q.Limit, err = request.Int(c, "limit", 50, 1, 500)
	}
	var page link.Page
	if err == nil {
		a.Settle(c)
		q.Site = site.Host
		page, err = a.Links.List(c, q)
	}
	a.own(c, http.StatusOK, page, err)
}

func (a *API) own(c *gin.Context, status int, value any, err error) {
	c.Header("Cache-Control", "private, no-store")
	a.JSON(c, status, value, err)
}

// fresh is what a new link is made of.
type fresh struct {
	link.Said
	Code string `json:"code"`
	Site string `json:"site"`
}

// Create makes a link.
func (a *API) Create(c *gin.Context) {
	var body fresh
	err := request.JSON(c, &body, false)
	var site *sites.Site
	if err == nil {
		site, err = a.PickSite(body.Site)
	}
	if err == nil {
		err = a.mayUse(c)(site.Host)
	}
	var made link.Link
	if err == nil {
		made, err = a.Links.Create(c, site, body.Code, body.Said, a.Who(c).Actor())
	}
	if err == nil {
		a.Note(c, "link made", fmt.Sprintf("%s of %s", made.Code, made.Site))
	}
	a.own(c, http.StatusCreated, made, err)
}

// Get gives a link.
func (a *API) Get(c *gin.Context) {
	of, err := a.of(c)
	a.own(c, http.StatusOK, of, err)
}

// of is the link that a request is about.
func (a *API) of(c *gin.Context) (link.Link, error) {
	of, err := a.Links.Get(c, c.Param("code"))
	if err == nil {
		err = a.mayUse(c)(of.Site)
	}
	return of, err
}

// Change changes a link.
func (a *API) Change(c *gin.Context) {
	text, err := io.ReadAll(c.Request.Body)
	if err == nil {
		err = request.Decode(text, new(json.RawMessage))
	}
	var after link.Link
	if err == nil {
		after, err = a.Links.Change(c, c.Param("code"), text, a.mayUse(c), a.Who(c).Actor())
	}
	if err == nil {
		a.Note(c, "link changed", fmt.Sprintf("%s of %s, %s", after.Code, after.Site, after.State))
	}
	a.own(c, http.StatusOK, after, err)
}

// Clicks says who followed a link.
func (a *API) Clicks(c *gin.Context) {
	q := ReportQuestion{Code: c.Param("code"), Compare: c.Query("compare")}
	days, err := request.Int(c, "days", 7, 1, 400)
	q.Days = days
	for name, at := range map[string]*time.Time{"from": &q.From, "to": &q.To} {
		if err == nil {
			*at, err = request.Time(c, name, time.Time{})
		}
	}
	if name := c.Query("zone"); err == nil && name != "" {
		if q.Zone, err = time.LoadLocation(name); err != nil || name == "Local" {
			err = invalid.Field("zone", fmt.Sprintf("%.40q is not a time zone", name), "Give an IANA name such as Europe/Zurich.")
		}
	}
	var report link.Report
	if err == nil {
		a.Settle(c)
		report, err = a.Links.Report(c, q, a.mayUse(c))
	}
	a.own(c, http.StatusOK, report, err)
}
