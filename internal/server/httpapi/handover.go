package httpapi

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/handover"
	"eastporch/internal/core/snippet"
	"eastporch/internal/formats"
	"eastporch/internal/server/page"
)

// getHandover answers a reverse proxy that asks about the visitor of another request.
func (a *api) getHandover(c *gin.Context) {
	card, err := a.visitorCard(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	facts := handover.Of(&card)
	for i, value := range facts.Values() {
		if value != "" {
			c.Header(handover.Fields[i], value)
		}
	}
	if c.Query("cookie") == "1" {
		expires := a.Now().Add(a.Handover.Lasts)
		http.SetCookie(c.Writer, &http.Cookie{
			Name: handover.CookieName, Value: handover.Sign(facts, a.Handover.Key, expires), Path: "/", MaxAge: int(a.Handover.Lasts.Seconds()),
			HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: c.GetHeader("X-Forwarded-Proto") == "https",
		})
	}
	private(c)
	c.Status(http.StatusNoContent)
}

// getSnippets writes code to paste for a choice of fields.
func (a *api) getSnippets(c *gin.Context) {
	want := snippet.Want{Base: c.Query("base"), Key: c.DefaultQuery("key", "KEY"), Site: c.Query("site"), Fields: formats.Paths(c.Query("fields"))}
	if want.Base == "" {
		want.Base = a.VisitorURL()
	}
	if want.Site == "" && len(a.Sites) > 0 {
		want.Site = a.Sites[0].Host
	}
	list, err := snippet.All(want)
	if err != nil {
		a.fail(c, invalidField("base, key, site, fields", err.Error(), "What is given stands in code as it is."))
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"base": want.Base, "snippets": list})
}

// scriptLasts is how long browsers may keep the script for pages before they ask whether
// it has changed.
const scriptLasts = "public, max-age=3600"

func (a *api) getScript(c *gin.Context) { a.static(c, "text/javascript; charset=utf-8", script) }

func (a *api) getScriptTypes(c *gin.Context) { a.static(c, "text/plain; charset=utf-8", scriptTypes) }

// file is something that is served as it stands.
type file struct{ plain, zipped []byte }

var (
	script      = file{page.Script, page.Zipped(page.Script)}
	scriptTypes = file{page.Types, page.Zipped(page.Types)}
)

func (a *api) static(c *gin.Context, kind string, f file) {
	tag := page.Tag(f.plain)
	a.forAll(c, scriptLasts)
	c.Header("ETag", tag)
	c.Header("Vary", "Accept-Encoding")
	if c.GetHeader("If-None-Match") == tag {
		c.Status(http.StatusNotModified)
		return
	}
	if strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") {
		c.Header("Content-Encoding", "gzip")
		c.Data(http.StatusOK, kind, f.zipped)
		return
	}
	c.Data(http.StatusOK, kind, f.plain)
}
