package httpapi

import (
	"fmt"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/server/access"
	"eastporch/internal/server/guard"
	"eastporch/internal/server/problem"
)

// Limits are what everybody may ask how often; both listeners share them.
type Limits struct {
	Keys     *access.Limiter // a key
	Visitors *access.Limiter // a visitor's address, on the public listener
	SignIns  *access.Limiter // an address that tries to sign in
	AllTries *access.Limiter // all who try to sign in together
}

// callerKey is where a request carries who asks.
const callerKey = "caller"

func callerOf(c *gin.Context) access.Identity {
	who, _ := c.Get(callerKey)
	w, _ := who.(access.Identity)
	return w
}

// admit lets those pass whose key or session has a scope, within their limits.
func (h *handlers) admit(wants access.Scope) gin.HandlerFunc {
	return func(c *gin.Context) {
		if wants == access.Nobody {
			return
		}
		who, err := h.authenticate(c)
		// An application of the owner's asks for many visitors: its key has a limit of its own.
		own := err == nil && who.Scope.Includes(access.Server)
		origin := c.GetHeader("Origin")
		if h.listener == PublicListener && wants == access.Page && origin != "" { // whose page may read why it is refused
			guard.AllowOrigin(c, origin)
		}
		if h.listener == PublicListener && !own && !h.within(c, "visitor", h.Access.Limits.Visitors, h.visitorOf(c, wants)) {
			return
		}
		if err != nil {
			h.fail(c, err)
			return
		}
		if !asksForAnother(c.FullPath()) && who.Key != nil && origin != "" && !h.isOwn(c, origin) {
			if !who.Key.Allows(origin) {
				h.fail(c, problem.WrongOrigin())
				return
			}
			guard.AllowOrigin(c, origin)
		}
		if !who.Scope.Includes(wants) {
			h.fail(c, &access.ScopeError{Has: who.Scope, Wants: wants})
			return
		}
		if who.Session != nil && !safe(c.Request.Method) && !h.sameOrigin(c) {
			h.fail(c, problem.CrossSite())
			return
		}
		// What is asked about each request of a site has no limit: one visitor would use it up for all.
		if who.Key != nil && !asksForAnother(c.FullPath()) && !h.within(c, "key", h.Access.Limits.Keys, who.Key.ID.String()) {
			return
		}
		c.Set(callerKey, who)
	}
}

// ring are the keys that run with everything else that a request meets.
func (h *handlers) ring() *access.Ring {
	if h.Access.Ring != nil {
		return h.Access.Ring
	}
	return h.Access.Keys.Ring()
}

// authenticate finds the key or session of a request.
func (h *handlers) authenticate(c *gin.Context) (access.Identity, error) {
	if header := c.GetHeader("Authorization"); header != "" {
		scheme, secret, _ := strings.Cut(header, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return access.Identity{}, access.ErrBadKey
		}
		key, err := h.ring().Check(strings.TrimSpace(secret))
		if err != nil {
			return access.Identity{}, access.ErrBadKey
		}
		return access.Identity{Scope: key.Scope, Key: key}, nil
	}
	if secret := c.Query("key"); secret != "" {
		key, err := h.ring().Check(secret)
		if err == nil && key.Scope != access.Page {
			return access.Identity{}, problem.Forbidden("key-in-url", "Key not allowed in a URL", "Addresses are logged and shared; only keys of scope page may stand there.", "Send it as Authorization: Bearer KEY.")
		}
		if err != nil {
			return access.Identity{}, err
		}
		return access.Identity{Scope: access.Page, Key: key}, nil
	}
	if h.listener == AdminListener {
		if cookie, err := c.Request.Cookie(h.cookieName()); err == nil {
			session, err := h.Access.Sessions.Check(c, cookie.Value)
			if err != nil {
				return access.Identity{}, err
			}
			return access.Identity{Scope: access.Admin, Session: &session}, nil
		}
	}
	return access.Identity{}, access.ErrNoKey
}

// stillAdmitted says whether whoever was admitted still would be: work that goes on asks
// again, so that a key that was revoked ends it.
func (h *handlers) stillAdmitted(c *gin.Context) error {
	switch who := callerOf(c); {
	case who.Key != nil && !h.Access.Keys.Ring().InForce(who.Key.ID):
		return access.ErrBadKey
	case who.Session != nil:
		cookie, err := c.Request.Cookie(h.cookieName())
		if err != nil {
			return access.ErrBadSession
		}
		_, err = h.Access.Sessions.Check(c, cookie.Value)
		return err
	}
	return nil
}

// visitorOf is [handlers.from] before a route that takes a key: those that pages may use explain
// how their visitor was found, which is then asked once.
func (h *handlers) visitorOf(c *gin.Context, wants access.Scope) string {
	if wants == access.Page {
		return access.LimitName(h.trail(c).Visitor.Addr)
	}
	return h.from(c)
}

// from is the caller's address for limits, found as every visitor is.
func (h *handlers) from(c *gin.Context) string {
	if trail := foundBefore(c); trail != nil {
		return access.LimitName(trail.Visitor.Addr)
	}
	visitor, _ := h.Public.Proxies.Finder.Address(peer(c.Request), c.Request.Header)
	return access.LimitName(visitor)
}

// within takes one from a quota, says what is left in the answer's header
// (RateLimit fields for HTTP), and ends the request where none is.
func (h *handlers) within(c *gin.Context, name string, l *access.Limiter, who string) bool {
	q, ok := l.Take(who, time.Now())
	out := c.Writer.Header() // under names that are canonical, which every visitor would have made anew
	out["Ratelimit-Policy"] = []string{`"` + name + `";q=` + strconv.Itoa(q.Limit)}
	out["Ratelimit"] = []string{`"` + name + `";r=` + strconv.Itoa(q.Remaining) + ";t=" + strconv.Itoa(seconds(q.Reset))}
	if ok {
		return true
	}
	c.Set(limitKey, name)
	c.Header("Retry-After", fmt.Sprint(max(1, seconds(q.Wait))))
	h.fail(c, problem.Of(http.StatusTooManyRequests, "too-many-requests", "Too many requests",
		fmt.Sprintf("The limit of this %s is used up.", name), "Wait for as long as Retry-After says."))
	return false
}

func seconds(d time.Duration) int { return int(math.Ceil(d.Seconds())) }

func safe(method string) bool {
	return method == http.MethodGet || method == http.MethodHead || method == http.MethodOptions
}

// sameOrigin says whether a request comes from a page of ours: the browser names our
// origin, or names none and says so itself.
func (h *handlers) sameOrigin(c *gin.Context) bool {
	site := c.GetHeader("Sec-Fetch-Site")
	if origin := c.GetHeader("Origin"); origin != "" {
		return h.isOwn(c, origin) && (site == "" || site == "same-origin")
	}
	return site == "same-origin"
}

// isOwn says whether a page of an origin is of this listener. On the admin listener it must be one
// that the configuration names, or what a browser shows that reached the listener itself,
// also through a forwarded port; the host was checked before. At the public listener the
// page's host decides, since proxies that speak TLS stand before it.
func (h *handlers) isOwn(c *gin.Context, origin string) bool {
	if h.listener == AdminListener {
		scheme := "http://"
		if h.door.Secure {
			scheme = "https://"
		}
		return strings.EqualFold(origin, scheme+c.Request.Host) || slices.ContainsFunc(h.door.Origins, func(o string) bool { return strings.EqualFold(o, origin) })
	}
	u, err := url.Parse(origin)
	return err == nil && u.Host != "" && strings.EqualFold(u.Host, c.Request.Host)
}

// cookieName has the prefix that binds a cookie to this very host, where TLS allows that,
// and what tells installations apart: cookies know no ports.
func (h *handlers) cookieName() string {
	name := "porch_session_" + h.Access.Installation.String()[:8]
	if h.door.Secure {
		return "__Host-" + name
	}
	return name
}

// setCookie sets the session's cookie, for TLS alone where the browser speaks it to us or
// to the proxy before us.
func (h *handlers) setCookie(c *gin.Context, value string, maxAge time.Duration) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: h.cookieName(), Value: value, Path: "/", MaxAge: int(maxAge.Seconds()),
		HttpOnly: true, Secure: h.door.Secure || strings.HasPrefix(c.GetHeader("Origin"), "https://"), SameSite: http.SameSiteStrictMode,
	})
}
