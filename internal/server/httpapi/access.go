package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/access"
)

// auditLog is what the handlers write and read of the log.
type auditLog interface {
	AddEvent(ctx context.Context, e access.Event) error
	Events(ctx context.Context, before uuid.UUID, limit int) ([]access.Event, error)
}

func (a *api) listKeys(c *gin.Context) {
	keys, err := a.Keys.List(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"keys": append([]access.Key{}, keys...)})
}

func (a *api) createKey(c *gin.Context) {
	var body struct {
		Name    string       `json:"name"`
		Scope   access.Scope `json:"scope"`
		Sites   []string     `json:"sites"`
		Origins []string     `json:"origins"`
	}
	err := readJSON(c, &body, false)
	if err == nil {
		err = a.checkKey(body.Name, body.Scope, body.Sites, body.Origins)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	key, secret, err := a.Keys.Create(c, access.Key{Name: body.Name, Scope: body.Scope, Sites: body.Sites, Origins: body.Origins, Maker: callerOf(c).maker()})
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusCreated, gin.H{"key": key, "secret": secret})
}

func (a *api) checkKey(name string, scope access.Scope, sites, origins []string) error {
	if err := checkName(name); err != nil {
		return err
	}
	if !scope.Valid() {
		return invalidField("scope", fmt.Sprintf("%.20q is not a scope", string(scope)), "Give page, server or admin.")
	}
	if len(sites) > access.MaxList || len(origins) > access.MaxList {
		return invalidField("sites, origins", fmt.Sprintf("more than %d are given", access.MaxList), "Make several keys.")
	}
	for _, s := range sites {
		if _, ok := a.sites[s]; !ok {
			return invalidField("sites", fmt.Sprintf("%.64q is not a configured site", s), "Configured are "+a.siteList()+".")
		}
	}
	for _, o := range origins {
		if err := access.CheckOrigin(o); err != nil {
			return invalidField("origins", err.Error(), "Give the origins of the pages that use the key.")
		}
	}
	if scope == access.Page && (len(sites) == 0 || len(origins) == 0) {
		return invalidField("sites, origins", "a page key stands in the page's source, so it is bound to both", "Give at least one site and one origin.")
	}
	if scope != access.Page && len(origins) > 0 {
		return invalidField("origins", "only page keys are for browsers", "Leave the origins out.")
	}
	return nil
}

func checkName(name string) error {
	if strings.TrimSpace(name) == "" {
		return invalidField("name", "it is empty", "Say what the key is for.")
	}
	if err := plain.Check(name, access.MaxName); err != nil {
		return invalidField("name", err.Error(), "Give a short name.")
	}
	return nil
}

func (a *api) renameKey(c *gin.Context) {
	var body struct {
		Name string `json:"name"`
	}
	id, err := idOf(c)
	if err == nil {
		err = readJSON(c, &body, false)
	}
	if err == nil {
		err = checkName(body.Name)
	}
	if err == nil {
		err = a.Keys.Rename(c, id, body.Name, callerOf(c).actor())
	}
	a.done(c, err)
}

// revokeKey ends a key, and says what was made with it and is still in force.
func (a *api) revokeKey(c *gin.Context) {
	id, err := idOf(c)
	withMade := false
	switch text := c.Query("made"); text {
	case "", "keep":
	case "revoke":
		withMade = true
	default:
		err = invalidField("made", fmt.Sprintf("%.20q is neither keep nor revoke", text), "Give revoke to revoke the keys that were made with it too.")
	}
	var ended []uuid.UUID
	if err == nil {
		ended, err = a.Keys.Revoke(c, id, withMade, callerOf(c).actor())
	}
	a.Sessions.Forget()
	if err != nil {
		a.fail(c, err)
		return
	}
	left, err := a.Keys.MadeWith(c, id)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"revoked": ended, "made": made(left)})
}

// getMade lists what was made with a key, for who thinks of revoking it.
func (a *api) getMade(c *gin.Context) {
	id, err := idOf(c)
	var m access.Made
	if err == nil {
		m, err = a.Keys.MadeWith(c, id)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, made(m))
}

// made has lists where there is nothing.
func made(m access.Made) access.Made {
	return access.Made{Keys: append([]access.Key{}, m.Keys...), Sessions: append([]access.Session{}, m.Sessions...)}
}

func (a *api) done(c *gin.Context, err error) {
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func idOf(c *gin.Context) (uuid.UUID, error) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		return id, invalidField("id", "this is not a UUID", "Give the id from the list.")
	}
	return id, nil
}

// cookieName has the prefix that binds a cookie to this very host, where TLS allows that,
// and what tells installations apart: cookies know no ports.
func (a *api) cookieName() string {
	name := "porch_session_" + a.Installation.String()[:8]
	if a.Secure {
		return "__Host-" + name
	}
	return name
}

// setCookie sets the session's cookie, for TLS alone where the browser speaks it to us or
// to the proxy before us.
func (a *api) setCookie(c *gin.Context, value string, maxAge time.Duration) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: a.cookieName(), Value: value, Path: "/", MaxAge: int(maxAge.Seconds()),
		HttpOnly: true, Secure: a.Secure || strings.HasPrefix(c.GetHeader("Origin"), "https://"), SameSite: http.SameSiteStrictMode,
	})
}

func (a *api) signIn(c *gin.Context) {
	if c.GetHeader("Origin") != "" && !a.sameOrigin(c) {
		a.fail(c, crossSite())
		return
	}
	var body struct {
		Key  *string `json:"key"`
		Link *string `json:"link"`
	}
	if err := readJSON(c, &body, false); err != nil {
		a.fail(c, err)
		return
	}
	session, secret, err := a.openSession(c, body.Key, body.Link)
	if err != nil {
		// Only those who fail are held up: whoever has a key gets in while strangers guess.
		if toProblem(err).Status < http.StatusInternalServerError {
			if !a.within(c, "all sign-ins", a.Limits.AllTries, "") || !a.within(c, "sign-in", a.Limits.SignIns, a.from(c)) {
				return
			}
			if trouble := a.Sessions.Failed(c, a.fromWords(c), err); trouble != nil {
				a.Log.Warn("a failed sign-in was not recorded", "error", trouble)
			}
		}
		a.fail(c, err)
		return
	}
	a.setCookie(c, secret, access.SessionAbsolute)
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusCreated, session)
}

func (a *api) openSession(c *gin.Context, key, link *string) (access.Session, string, error) {
	agent := plain.Clean(c.GetHeader("User-Agent"), 200)
	switch {
	case (key == nil) == (link == nil):
		return access.Session{}, "", invalidField("key, link", "give one of them", "Sign in with an admin key, or with a one-time link.")
	case link != nil:
		return a.Sessions.OpenWithLink(c, *link, agent)
	}
	known, err := a.Keys.Check(strings.TrimSpace(*key))
	if err != nil {
		return access.Session{}, "", access.ErrBadKey
	}
	if !known.Scope.Includes(access.Admin) {
		return access.Session{}, "", lacks(known.Scope, access.Admin)
	}
	return a.Sessions.Open(c, known, agent)
}

// fromWords names where a request came from in the audit log, truncated.
func (a *api) fromWords(c *gin.Context) string {
	trail := a.Finder.Find(peer(c.Request), c.Request.Header)
	if !trail.Visitor.IsValid() {
		return "unknown"
	}
	visitor := trail.Visitor.Addr
	return "somebody in " + addr.TruncatePrefix(netip.PrefixFrom(visitor, visitor.BitLen())).String()
}

func (a *api) listSessions(c *gin.Context) {
	sessions, err := a.Sessions.List(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	var current *uuid.UUID
	if own := callerOf(c).session; own != nil {
		current = &own.ID
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"sessions": append([]access.Session{}, sessions...), "current": current})
}

func (a *api) endSession(c *gin.Context) {
	who := callerOf(c)
	var id uuid.UUID
	var err error
	if c.Param("id") == "current" {
		if who.session == nil {
			a.fail(c, access.ErrNoSuch)
			return
		}
		id = who.session.ID
		a.setCookie(c, "", -time.Second)
	} else if id, err = idOf(c); err != nil {
		a.fail(c, err)
		return
	}
	a.done(c, a.Sessions.End(c, id, who.actor()))
}

func (a *api) listAuditLog(c *gin.Context) {
	limit, before, err := pageOf(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	events, err := a.Audit.Events(c, before, limit+1)
	if err != nil {
		a.fail(c, err)
		return
	}
	var next *string
	if len(events) > limit {
		events = events[:limit]
		id := events[limit-1].ID.String()
		next = &id
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"events": append([]access.Event{}, events...), "next": next})
}

// pageOf reads the limit and the cursor of a list.
func pageOf(c *gin.Context) (limit int, before uuid.UUID, err error) {
	limit = 50
	if text := c.Query("limit"); text != "" {
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > 500 {
			return 0, before, invalidField("limit", fmt.Sprintf("%.20q is not a number from 1 to 500", text), "Leave it out for 50.")
		}
	}
	if text := c.Query("cursor"); text != "" {
		if before, err = uuid.Parse(text); err != nil {
			return 0, before, invalidField("cursor", "it is not one of ours", "Give the next of the page before, unchanged.")
		}
	}
	return limit, before, nil
}
