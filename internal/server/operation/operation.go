// Package operation is what operations of the HTTP API that are about one site have in common: each reads a request, asks
// a service and answers. Begin with [Tools] and [Of].
package operation

import (
	"context"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/caller"
	"eastporch/internal/server/access"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// Tools are what every operation has.
type Tools struct {
	Sites   *sites.Sites
	Site    func(*gin.Context) (*sites.Site, error) // that a request is about
	OwnSite func(*gin.Context) (*sites.Site, error) // and that its key is for
	Who     func(*gin.Context) access.Identity
	From    func(*gin.Context) string // the visitor, as limits tell them apart
	JSON    func(c *gin.Context, status int, value any, err error)
	Note    func(c *gin.Context, what, detail string) // in the audit log
	Trail   func(*gin.Context) *caller.Trail          // how whoever sends the request was found
	MayAsk  func(*gin.Context) bool                   // within the visitor's limit; else the answer is written
	Settle  func(context.Context)                     // waits for visits that were accepted
	Now     func() time.Time
}

// Of answers with what something of a site gives.
func Of[Answer any](t *Tools, c *gin.Context, do func(*sites.Site) (Answer, error)) {
	site, err := t.Site(c)
	var answer Answer
	if err == nil {
		answer, err = do(site)
	}
	t.JSON(c, http.StatusOK, answer, err)
}

// With is [Of] for something that is done with the body of a request; status is that of the answer.
func With[Body, Answer any](t *Tools, c *gin.Context, status int, do func(*sites.Site, Body) (Answer, error)) {
	site, err := t.Site(c)
	var body Body
	var answer Answer
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	if err == nil {
		answer, err = do(site, body)
	}
	t.JSON(c, status, answer, err)
}

// Do does something of a site that there is nothing to say about, and notes it unless what is "".
func (t *Tools) Do(c *gin.Context, what, detail string, do func(*sites.Site) error) {
	site, err := t.Site(c)
	if err == nil {
		err = do(site)
	}
	if err == nil && what != "" {
		t.Note(c, what, site.Host+" "+detail)
	}
	t.Done(c, err)
}

// Done answers that something was done, or with the problem of an error.
func (t *Tools) Done(c *gin.Context, err error) {
	if err != nil {
		t.JSON(c, 0, nil, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// PickSite gives the site that a body names: the only one where it names none.
func (t *Tools) PickSite(host string) (*sites.Site, error) {
	if all := t.Sites.All(); host == "" && len(all) == 1 {
		return all[0], nil
	}
	return t.Sites.Find(host)
}

// MayUse refuses a key that is not for a site.
func (t *Tools) MayUse(c *gin.Context, site string) error {
	if key := t.Who(c).Key; key != nil && !key.MayUse(site) {
		return &access.SiteError{Site: site}
	}
	return nil
}

// Documents are the operations that all kinds of documents with names have; the path's name says which. What a kind has
// not is nil.
type Documents[List, State, Body any] struct {
	Word  string // for the audit log, such as companion
	List  func(ctx context.Context, site *sites.Site) (List, error)
	State func(ctx context.Context, site *sites.Site, name string) (State, error)
	Save  func(ctx context.Context, site *sites.Site, name string, body Body, by string) (State, error)
	Drop  func(ctx context.Context, site *sites.Site, name, by string) error
}

// Named are [Documents] of any kind.
type Named interface {
	Listed(t *Tools, c *gin.Context)
	Given(t *Tools, c *gin.Context)
	Saved(t *Tools, c *gin.Context)
	Dropped(t *Tools, c *gin.Context)
}

// Listed lists those of a site.
func (d Documents[List, State, Body]) Listed(t *Tools, c *gin.Context) {
	Of(t, c, func(site *sites.Site) (List, error) { return d.List(c, site) })
}

// Given gives one.
func (d Documents[List, State, Body]) Given(t *Tools, c *gin.Context) {
	Of(t, c, func(site *sites.Site) (State, error) { return d.State(c, site, c.Param("name")) })
}

// Saved saves one.
func (d Documents[List, State, Body]) Saved(t *Tools, c *gin.Context) {
	With(t, c, http.StatusOK, func(site *sites.Site, body Body) (State, error) {
		s, err := d.Save(c, site, c.Param("name"), body, t.Who(c).Actor())
		if err == nil {
			t.Note(c, d.Word+" saved", site.Host+" "+c.Param("name"))
		}
		return s, err
	})
}

// Dropped drops one.
func (d Documents[List, State, Body]) Dropped(t *Tools, c *gin.Context) {
	t.Do(c, d.Word+" dropped", c.Param("name"), func(site *sites.Site) error { return d.Drop(c, site, c.Param("name"), t.Who(c).Actor()) })
}
