package httpapi

import (
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/keys"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/access"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/request"
)

func (h *handlers) listKeys(c *gin.Context) {
	list, err := h.Access.Keys.List(c)
	h.replyJSON(c, http.StatusOK, api.KeyList{Keys: append([]access.Key{}, list...)}, err)
}

func (h *handlers) createKey(c *gin.Context) {
	var body keys.NewKey
	err := request.JSON(c, &body, false)
	if err == nil {
		err = h.checkKey(&body)
	}
	var created api.Created
	if err == nil {
		created.Key, created.Secret, err = h.Access.Keys.Create(c, access.Key{Name: body.Name, Scope: body.Scope, Sites: body.Sites, Origins: body.Origins, Maker: callerOf(c).Maker()})
	}
	h.replyJSON(c, http.StatusCreated, created, err)
}

// checkKey checks a key to make, which names sites that are configured.
func (h *handlers) checkKey(k *keys.NewKey) error {
	for _, host := range k.Sites {
		if h.Public.Sites.Of(host) == nil {
			return invalid.Field("sites", fmt.Sprintf("%.64q is not a configured site", host), h.Public.Sites.Hint())
		}
	}
	return access.CheckKey(k)
}

func (h *handlers) renameKey(c *gin.Context) {
	var body api.Rename
	id, err := request.ID(c)
	if err == nil {
		err = request.JSON(c, &body, false)
	}
	if err == nil {
		err = access.CheckName(body.Name)
	}
	if err == nil {
		err = h.Access.Keys.Rename(c, id, body.Name, callerOf(c).Actor())
	}
	h.done(c, err)
}

// revokeKey ends a key, and says what was made with it and is still in force.
func (h *handlers) revokeKey(c *gin.Context) {
	id, err := request.ID(c)
	withMade := false
	switch text := c.Query("made"); text {
	case "", "keep":
	case "revoke":
		withMade = true
	default:
		err = invalid.Field("made", fmt.Sprintf("%.20q is neither keep nor revoke", text), "Give revoke to revoke the keys that were made with it too.")
	}
	var answer api.Revoked
	if err == nil {
		answer.Revoked, err = h.Access.Keys.Revoke(c, id, withMade, callerOf(c).Actor())
	}
	h.Access.Sessions.Forget()
	if err == nil {
		answer.Made, err = h.Access.Keys.MadeWith(c, id)
	}
	answer.Made = made(answer.Made)
	h.replyJSON(c, http.StatusOK, answer, err)
}

// getMade lists what was made with a key, for who thinks of revoking it.
func (h *handlers) getMade(c *gin.Context) {
	id, err := request.ID(c)
	var m access.Made
	if err == nil {
		m, err = h.Access.Keys.MadeWith(c, id)
	}
	h.replyJSON(c, http.StatusOK, made(m), err)
}

// made has lists where there is nothing.
func made(m access.Made) access.Made {
	return access.Made{Keys: append([]access.Key{}, m.Keys...), Sessions: append([]access.Session{}, m.Sessions...)}
}

func (h *handlers) signIn(c *gin.Context) {
	if c.GetHeader("Origin") != "" && !h.sameOrigin(c) {
		h.fail(c, problem.CrossSite())
		return
	}
	var body api.SignIn
	if err := request.JSON(c, &body, false); err != nil {
		h.fail(c, err)
		return
	}
	session, secret, err := h.openSession(c, body.Key, body.Link)
	if err != nil {
		// Only those who fail are held up: whoever has a key gets in while strangers guess.
		if problem.From(err).Status < http.StatusInternalServerError {
			if !h.within(c, "all sign-ins", h.Access.Limits.AllTries, "") || !h.within(c, "sign-in", h.Access.Limits.SignIns, h.from(c)) {
				return
			}
			if trouble := h.Access.Sessions.Failed(c, h.fromWords(c), err); trouble != nil {
				h.Service.Log.Warn("a failed sign-in was not recorded", "error", trouble)
			}
		}
		h.fail(c, err)
		return
	}
	h.setCookie(c, secret, access.SessionAbsolute)
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusCreated, session)
}

func (h *handlers) openSession(c *gin.Context, key, link *string) (access.Session, string, error) {
	agent := plain.Clean(c.GetHeader("User-Agent"), 200)
	switch {
	case (key == nil) == (link == nil):
		return access.Session{}, "", invalid.Field("key, link", "give one of them", "Sign in with an admin key, or with a one-time link.")
	case link != nil:
		return h.Access.Sessions.OpenWithLink(c, *link, agent)
	}
	known, err := h.ring().Check(strings.TrimSpace(*key))
	if err != nil {
		return access.Session{}, "", access.ErrBadKey
	}
	if !known.Scope.Includes(access.Admin) {
		return access.Session{}, "", &access.ScopeError{Has: known.Scope, Wants: access.Admin}
	}
	return h.Access.Sessions.Open(c, known, agent)
}

// fromWords names where a request came from in the audit log, truncated.
func (h *handlers) fromWords(c *gin.Context) string {
	visitor, _ := h.Public.Proxies.Finder.Address(peer(c.Request), c.Request.Header)
	if !visitor.IsValid() {
		return "unknown"
	}
	return "somebody in " + addr.TruncatePrefix(netip.PrefixFrom(visitor, visitor.BitLen())).String()
}

func (h *handlers) listSessions(c *gin.Context) {
	list, err := h.Access.Sessions.List(c)
	answer := api.SessionList{Sessions: append([]access.Session{}, list...)}
	if own := callerOf(c).Session; own != nil {
		answer.Current = &own.ID
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}

func (h *handlers) endSession(c *gin.Context) {
	who := callerOf(c)
	var id uuid.UUID
	var err error
	if c.Param("id") == "current" {
		if who.Session == nil {
			h.fail(c, access.ErrNoSuch)
			return
		}
		id = who.Session.ID
		h.setCookie(c, "", -time.Second)
	} else if id, err = request.ID(c); err != nil {
		h.fail(c, err)
		return
	}
	h.done(c, h.Access.Sessions.End(c, id, who.Actor()))
}

func (h *handlers) listAuditLog(c *gin.Context) {
	limit, before, err := request.Page(c)
	answer := api.AuditLog{Events: []access.Event{}}
	if err == nil {
		answer.Events, err = h.Access.Audit.Events(c, before, limit+1)
		answer.Events, answer.Next = request.Cut(answer.Events, limit, func(e access.Event) uuid.UUID { return e.ID })
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}
