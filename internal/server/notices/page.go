package notices

import (
	"bytes"
	"crypto/rand"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"net/http"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/notice"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Parse(pageText))

// view is what the page of a link in a mail shows.
type view struct{ Nonce, Site, Title, Text, Button string }

// ShowMailPage asks whoever opened a link in a mail what the link is for. It does nothing by itself: programs that
// look at mails open links too.
func (a *API) ShowMailPage(c *gin.Context) {
	link, err := a.Notices.Open(c, c.Query("token"))
	if err != nil {
		a.wrongLink(c, err)
		return
	}
	v := view{Site: link.Site.Name, Title: "Is this mail address yours?", Text: "Confirm it, and the answer that was asked for goes there.", Button: "Yes, send it"}
	if link.Stop {
		v = view{Site: link.Site.Name, Title: "No more mails?", Text: "Nothing that somebody asks for here goes to this mail address any more.", Button: "Stop the mails"}
	}
	a.show(c, http.StatusOK, v)
}

// AnswerMailPage does what a link in a mail is for.
func (a *API) AnswerMailPage(c *gin.Context) {
	link, err := a.Notices.Open(c, c.Query("token"))
	if err == nil {
		err = a.Notices.Follow(c, link)
	}
	if err != nil && !errors.Is(err, notice.ErrNone) {
		a.wrongLink(c, err)
		return
	}
	v := view{Site: link.Site.Name, Title: "The answer is on its way.", Text: "It comes to the mail address that you confirmed. You can close this page."}
	if err != nil {
		v = view{Site: link.Site.Name, Title: "Your mail address is confirmed.", Text: "No answer comes: it was switched off since you asked."}
	}
	if link.Stop {
		v = view{Site: link.Site.Name, Title: "No more mails.", Text: "Nothing goes to this mail address any more. You can close this page."}
	}
	a.show(c, http.StatusOK, v)
}

func (a *API) wrongLink(c *gin.Context, err error) {
	if !errors.Is(err, notice.ErrLink) {
		a.show(c, http.StatusServiceUnavailable, view{Title: "Not now.", Text: "Something does not answer. Open the link again in a few minutes."})
		return
	}
	a.show(c, http.StatusNotFound, view{Title: "This link is not good any more.", Text: "It was used before, is older than a day, or was not copied whole. Ask again where you asked."})
}

func (a *API) show(c *gin.Context, status int, v view) {
	v.Nonce = rand.Text()
	var b bytes.Buffer
	if err := pageTemplate.Execute(&b, v); err != nil {
		a.JSON(c, 0, nil, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Header("Referrer-Policy", "no-referrer")
	c.Header("X-Robots-Tag", "noindex")
	c.Header("Content-Security-Policy", fmt.Sprintf("default-src 'none'; style-src 'nonce-%s'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'", v.Nonce))
	c.Data(status, "text/html; charset=utf-8", b.Bytes())
}
