// Package noticeapi has the operations about notices: what their owner does with them, and what askers and the links
// in mails do.
package noticeapi

import (
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/notice"
	"eastporch/internal/server/access"
	"eastporch/internal/server/notices"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// Tools are what every operation has.
type Tools struct {
	Site    func(*gin.Context) (*sites.Site, error) // that a request is about
	OwnSite func(*gin.Context) (*sites.Site, error) // and that its key is for
	Who     func(*gin.Context) access.Identity
	From    func(*gin.Context) string // the visitor, as limits tell them apart
	JSON    func(c *gin.Context, status int, value any, err error)
	Note    func(c *gin.Context, what, detail string) // in the audit log
}

// API answers.
type API struct {
	Tools
	Notices *notices.Notices
}

// of reads a body and gives the site that a request is about.
func (a *API) of(c *gin.Context, body any) (*sites.Site, error) {
	site, err := a.Site(c)
	if err == nil && body != nil {
		err = request.JSON(c, body, false)
	}
	return site, err
}

// done answers that something was done, and notes it.
func (a *API) done(c *gin.Context, err error, what, detail string) {
	if err != nil {
		a.JSON(c, 0, nil, err)
		return
	}
	a.Note(c, what, detail)
	c.Status(http.StatusNoContent)
}

// List lists the notices of a site.
func (a *API) List(c *gin.Context) {
	site, err := a.Site(c)
	var list notice.List
	if err == nil {
		list, err = a.Notices.List(c, site)
	}
	a.JSON(c, http.StatusOK, list, err)
}

// Get gives a notice.
func (a *API) Get(c *gin.Context) {
	site, err := a.Site(c)
	var s notice.State
	if err == nil {
		s, err = a.Notices.Get(c, site, c.Param("name"))
	}
	a.JSON(c, http.StatusOK, s, err)
}

// Save saves a notice.
func (a *API) Save(c *gin.Context) {
	var body notice.Save
	site, err := a.of(c, &body)
	var s notice.State
	if err == nil {
		s, err = a.Notices.Save(c, site, c.Param("name"), body, a.Who(c).Actor())
	}
	if err == nil {
		a.Note(c, "notice saved", site.Host+" "+s.Name)
	}
	a.JSON(c, http.StatusOK, s, err)
}

// Drop drops a notice.
func (a *API) Drop(c *gin.Context) {
	site, err := a.Site(c)
	detail := ""
	if err == nil {
		detail, err = site.Host+" "+c.Param("name"), a.Notices.Drop(c, site, c.Param("name"))
	}
	a.done(c, err, "notice dropped", detail)
}

// Preview shows what a notice would say.
func (a *API) Preview(c *gin.Context) {
	var body notice.PreviewOf
	site, err := a.of(c, &body)
	var p notice.Preview
	if err == nil {
		p, err = a.Notices.Preview(c, site, body)
	}
	a.JSON(c, http.StatusOK, p, err)
}

// Test sends a test.
func (a *API) Test(c *gin.Context) {
	var body notice.Test
	site, err := a.of(c, &body)
	var m notice.Message
	if err == nil {
		m, err = a.Notices.Test(c, site, body)
	}
	if err == nil {
		a.Note(c, "notice tested", site.Host+" "+m.Notice)
	}
	a.JSON(c, http.StatusAccepted, m, err)
}

// SaveChannel saves a channel.
func (a *API) SaveChannel(c *gin.Context) {
	var body notice.ChannelSave
	site, err := a.of(c, &body)
	var s notice.ChannelState
	if err == nil {
		s, err = a.Notices.SaveChannel(c, site, c.Param("name"), body, a.Who(c).Actor())
	}
	if err == nil {
		a.Note(c, "channel saved", site.Host+" "+s.Name)
	}
	a.JSON(c, http.StatusOK, s, err)
}

// DropChannel drops a channel.
func (a *API) DropChannel(c *gin.Context) {
	site, err := a.Site(c)
	detail := ""
	if err == nil {
		detail, err = site.Host+" "+c.Param("name"), a.Notices.DropChannel(c, site, c.Param("name"))
	}
	a.done(c, err, "channel dropped", detail)
}

const (
	messagesUsual = 50
	messagesMost  = 200
)

// Messages lists what was sent.
func (a *API) Messages(c *gin.Context) {
	site, err := a.Site(c)
	limit, before := 0, uuid.Nil
	if err == nil {
		limit, err = request.Int(c, "limit", messagesUsual, 1, messagesMost)
	}
	if text := c.Query("before"); err == nil && text != "" {
		if before, err = uuid.Parse(text); err != nil {
			err = invalid.Field("before", "it is not the id of a message", "Give next of the answer before.")
		}
	}
	var list notice.MessageList
	if err == nil {
		list, err = a.Notices.Messages(c, site, c.Query("notice"), before, limit)
	}
	a.JSON(c, http.StatusOK, list, err)
}

// message gives the site and message that a request is about.
func (a *API) message(c *gin.Context) (site *sites.Site, id uuid.UUID, err error) {
	if site, err = a.Site(c); err == nil {
		if id, err = request.ID(c); err != nil {
			err = notice.ErrNoMessage
		}
	}
	return site, id, err
}

// Message gives a message.
func (a *API) Message(c *gin.Context) {
	site, id, err := a.message(c)
	var m notice.MessageWhole
	if err == nil {
		m, err = a.Notices.Message(c, site, id)
	}
	a.JSON(c, http.StatusOK, m, err)
}

// DropMessage drops a message that waits.
func (a *API) DropMessage(c *gin.Context) {
	site, id, err := a.message(c)
	if err == nil {
		err = a.Notices.DropMessage(c, site, id)
	}
	a.done(c, err, "message dropped", id.String())
}

// Resend sends a message again.
func (a *API) Resend(c *gin.Context) {
	site, id, err := a.message(c)
	var m notice.Message
	if err == nil {
		m, err = a.Notices.Resend(c, site, id)
	}
	if err == nil {
		a.Note(c, "message sent again", id.String())
	}
	a.JSON(c, http.StatusAccepted, m, err)
}

// Ask has what is known of an address sent.
func (a *API) Ask(c *gin.Context) {
	site, err := a.OwnSite(c)
	var body notice.Ask
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	var out notice.Asked
	if err == nil {
		who := a.Who(c)
		asker := notices.Asker{Sender: "visitor " + a.From(c)}
		if who.Scope.Includes(access.Server) {
			asker = notices.Asker{Sender: who.Actor(), Vouched: true}
		}
		out, err = a.Notices.Ask(c, site, c.Param("name"), body, asker)
	}
	a.JSON(c, http.StatusAccepted, out, err)
}
