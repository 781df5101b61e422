package notices

import (
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/notice"
	"eastporch/internal/server/access"
	"eastporch/internal/server/operation"
	"eastporch/internal/server/request"
	"eastporch/internal/server/sites"
)

// An API has the operations about notices: what their owner does with them, and what askers and the links in mails do.
type API struct {
	operation.Tools
	Notices *Notices
}

// Documents are the operations about notices as documents.
func (a *API) Documents() operation.Documents[notice.List, notice.State, notice.Save] {
	return operation.Documents[notice.List, notice.State, notice.Save]{Word: "notice", List: a.Notices.List, State: a.Notices.Get, Save: a.Notices.Save, Drop: a.Notices.Drop}
}

// Channels are the operations about channels as documents; they are listed with the notices.
func (a *API) Channels() operation.Documents[notice.List, notice.ChannelState, notice.ChannelSave] {
	return operation.Documents[notice.List, notice.ChannelState, notice.ChannelSave]{Word: "channel", Save: a.Notices.SaveChannel, Drop: a.Notices.DropChannel}
}

// Preview shows what a notice would say.
func (a *API) Preview(c *gin.Context) {
	operation.With(&a.Tools, c, http.StatusOK, func(site *sites.Site, body notice.PreviewOf) (notice.Preview, error) {
		return a.Notices.Preview(c, site, body)
	})
}

// Test sends a test.
func (a *API) Test(c *gin.Context) {
	operation.With(&a.Tools, c, http.StatusAccepted, func(site *sites.Site, body notice.Test) (notice.Message, error) {
		m, err := a.Notices.Test(c, site, body)
		if err == nil {
			a.Note(c, "notice tested", site.Host+" "+m.Notice)
		}
		return m, err
	})
}

const (
	messagesUsual = 50
	messagesMost  = 200
)

// Messages lists what was sent.
func (a *API) Messages(c *gin.Context) {
	operation.Of(&a.Tools, c, func(site *sites.Site) (notice.MessageList, error) {
		limit, err := request.Int(c, "limit", messagesUsual, 1, messagesMost)
		before := uuid.Nil
		if text := c.Query("before"); err == nil && text != "" {
			if before, err = uuid.Parse(text); err != nil {
				err = invalid.Field("before", "it is not the id of a message", "Give next of the answer before.")
			}
		}
		if err != nil {
			return notice.MessageList{}, err
		}
		return a.Notices.Messages(c, site, c.Query("notice"), before, limit)
	})
}

// Message gives a message.
func (a *API) Message(c *gin.Context) {
	operation.Of(&a.Tools, c, func(site *sites.Site) (notice.MessageWhole, error) {
		id, err := request.ID(c)
		if err != nil {
			return notice.MessageWhole{}, notice.ErrNoMessage
		}
		return a.Notices.Message(c, site, id)
	})
}

// DropMessage drops a message that waits.
func (a *API) DropMessage(c *gin.Context) {
	a.Do(c, "message dropped", c.Param("id"), func(site *sites.Site) error {
		id, err := request.ID(c)
		if err != nil {
			return notice.ErrNoMessage
		}
		return a.Notices.DropMessage(c, site, id)
	})
}

// Resend sends a message again.
func (a *API) Resend(c *gin.Context) {
	site, err := a.Site(c)
	id, wrong := request.ID(c)
	if err == nil && wrong != nil {
		err = notice.ErrNoMessage
	}
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
		asker := Asker{Sender: "visitor " + a.From(c)}
		if who.Scope.Includes(access.Server) {
			asker = Asker{Sender: who.Actor(), Vouched: true}
		}
		out, err = a.Notices.Ask(c, site, c.Param("name"), body, asker)
	}
	a.JSON(c, http.StatusAccepted, out, err)
}
