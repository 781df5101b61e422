package httpapi

import (
	"fmt"
	"math"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"eastporch/internal/core/addr"
	"eastporch/internal/server/access"
)

// Limits are what everybody may ask how often; both listeners share them.
type Limits struct {
	Keys     *access.Limiter // a key
	Visitors *access.Limiter // a visitor's address, on the public listener
	SignIns  *access.Limiter // an address that tries to sign in
	AllTries *access.Limiter // all who try to sign in together
}

// identity is who asks.
type identity struct {
	scope   access.Scope
	key     *access.Key     // nil for a session and for nobody
	session *access.Session // nil for a key and for nobody
}

// maker is the caller as who makes a key.
func (w identity) maker() access.Maker {
	m := access.Maker{Name: w.actor()}
	switch {
	case w.key != nil:
		m.Key = &w.key.ID
	case w.session != nil:
		m.Key, m.Session = w.session.Key, &w.session.ID
	}
	return m
}

// actor names the caller in the audit log.
func (w identity) actor() string {
	switch {
	case w.key != nil:
		return "key " + w.key.Name
	case w.session != nil:
		return "session by " + w.session.How
	}
	return "nobody"
}

func callerOf(c *gin.Context) identity {
	who, _ := c.Get(callerKey)
	w, _ := who.(identity)
	return w
}

// harden sets the headers that every answer has.
func (a *api) harden(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	if a.listener == AdminListener {
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
	}
	if a.listener == AdminListener && a.Secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.Next()
}

// checkHost refuses requests for other hosts: a page whose name was made to
// point here must not reach us.
func (a *api) checkHost(c *gin.Context) {
	host := strings.ToLower(c.Request.Host)
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.TrimSuffix(strings.Trim(host, "[]"), ".")
	if !a.hosts[host] && !isHealth(c.FullPath()) {
		a.fail(c, problem{
			Type: "/problems/wrong-host", Title: "Unknown host", Status: http.StatusMisdirectedRequest,
			Detail: "The Host header names a host that this listener does not answer to.",
			Hint:   fmt.Sprintf("Name it under %s.hosts in the configuration if it is yours.", a.listener),
		})
		return
	}
	c.Next()
}

// preflight answers a browser that asks whether a page may use a key here. It
// does not show the key yet, so any key that allows the origin will do.
func (a *api) preflight(c *gin.Context) {
	if c.Request.Method != http.MethodOptions || c.GetHeader("Access-Control-Request-Method") == "" {
		c.Next()
		return
	}
	origin := c.GetHeader("Origin")
	if a.listener != PublicListener || !a.Keys.Allowed(origin) {
		a.fail(c, wrongOrigin())
		return
	}
	a.allowOrigin(c, origin)
	c.Header("Access-Control-Allow-Methods", "GET, POST")
	c.Header("Access-Control-Allow-Headers", "Authorization, Content-Type, Prefer")
	c.Header("Access-Control-Max-Age", "600")
	c.AbortWithStatus(http.StatusNoContent)
}

func (a *api) allowOrigin(c *gin.Context, origin string) {
	c.Header("Access-Control-Allow-Origin", origin)
	c.Header("Access-Control-Expose-Headers", "RateLimit, RateLimit-Policy, Retry-After, X-Request-Id")
	c.Header("Cross-Origin-Resource-Policy", "cross-origin")
	c.Writer.Header().Add("Vary", "Origin")
}

func wrongOrigin() problem {
	return forbidden("origin", "Origin not allowed", "No key allows the origin of the page.", "Add the origin to a key of scope page: eastporch keys create --origin.")
}

// admit lets those pass whose key or session has a scope, within their limits.
func (a *api) admit(wants access.Scope) gin.HandlerFunc {
	return func(c *gin.Context) {
		if wants == access.Nobody {
			return
		}
		who, err := a.authenticate(c)
		// A proxy or an application of the owner's asks for many visitors, and about every
		// request of theirs: its key has a limit of its own.
		own := err == nil && who.scope.Includes(access.Server)
		if a.listener == PublicListener && !own && !a.within(c, "visitor", a.Limits.Visitors, a.from(c)) {
			return
		}
		if err != nil {
			a.fail(c, err)
			return
		}
		if origin := c.GetHeader("Origin"); who.key != nil && origin != "" && !a.isOwn(c, origin) {
			if !who.key.Allows(origin) {
				a.fail(c, wrongOrigin())
				return
			}
			a.allowOrigin(c, origin)
		}
		if !who.scope.Includes(wants) {
			a.fail(c, lacks(who.scope, wants))
			return
		}
		if who.session != nil && !safe(c.Request.Method) && !a.sameOrigin(c) {
			a.fail(c, crossSite())
			return
		}
		if who.key != nil && !a.within(c, "key", a.Limits.Keys, who.key.ID.String()) {
			return
		}
		c.Set(callerKey, who)
	}
}

// authenticate finds the key or session of a request.
func (a *api) authenticate(c *gin.Context) (identity, error) {
	if header := c.GetHeader("Authorization"); header != "" {
		scheme, secret, _ := strings.Cut(header, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return identity{}, access.ErrBadKey
		}
		key, err := a.Keys.Check(strings.TrimSpace(secret))
		if err != nil {
			return identity{}, access.ErrBadKey
		}
		return identity{scope: key.Scope, key: key}, nil
	}
	if secret := c.Query("key"); secret != "" {
		key, err := a.Keys.Check(secret)
		if err == nil && key.Scope != access.Page {
			return identity{}, forbidden("key-in-url", "Key not allowed in a URL", "Addresses are logged and shared; only keys of scope page may stand there.", "Send it as Authorization: Bearer KEY.")
		}
		if err != nil {
			return identity{}, err
		}
		return identity{scope: access.Page, key: key}, nil
	}
	if a.listener == AdminListener {
		if cookie, err := c.Request.Cookie(a.cookieName()); err == nil {
			session, err := a.Sessions.Check(c, cookie.Value)
			if err != nil {
				return identity{}, err
			}
			return identity{scope: access.Admin, session: &session}, nil
		}
	}
	return identity{}, access.ErrNoKey
}

// stillAdmitted says whether whoever was admitted still would be: work that goes on asks
// again, so that a key that was revoked ends it.
func (a *api) stillAdmitted(c *gin.Context) error {
	switch who := callerOf(c); {
	case who.key != nil && !a.Keys.InForce(who.key.ID):
		return access.ErrBadKey
	case who.session != nil:
		cookie, err := c.Request.Cookie(a.cookieName())
		if err != nil {
			return access.ErrBadSession
		}
		_, err = a.Sessions.Check(c, cookie.Value)
		return err
	}
	return nil
}

// from is the caller's address for limits, found as every visitor is. A
// truncated one is enough, and stands for a household of IPv6.
func (a *api) from(c *gin.Context) string {
	trail := a.Finder.Find(peer(c.Request), c.Request.Header)
	if !trail.Visitor.IsValid() {
		return "nobody"
	}
	if trail.Visitor.Is6() {
		return addr.Truncate(trail.Visitor.Addr).String()
	}
	return trail.Visitor.String()
}

// within takes one from a quota, says what is left in the answer's header
// (RateLimit fields for HTTP), and ends the request where none is.
func (a *api) within(c *gin.Context, name string, l *access.Limiter, who string) bool {
	q, ok := l.Take(who, time.Now())
	c.Header("RateLimit-Policy", fmt.Sprintf("%q;q=%d", name, q.Limit))
	c.Header("RateLimit", fmt.Sprintf("%q;r=%d;t=%d", name, q.Remaining, seconds(q.Reset)))
	if ok {
		return true
	}
	c.Header("Retry-After", fmt.Sprint(max(1, seconds(q.Wait))))
	a.fail(c, problem{
		Type: "/problems/too-many-requests", Title: "Too many requests", Status: http.StatusTooManyRequests,
		Detail: fmt.Sprintf("The limit of this %s is used up.", name), Hint: "Wait for as long as Retry-After says.",
	})
	return false
}

func seconds(d time.Duration) int { return int(math.Ceil(d.Seconds())) }

func safe(method string) bool {
	return method == http.MethodGet || method == http.MethodHead || method == http.MethodOptions
}

// sameOrigin says whether a request comes from a page of ours: the browser names our
// origin, or names none and says so itself.
func (a *api) sameOrigin(c *gin.Context) bool {
	site := c.GetHeader("Sec-Fetch-Site")
	if origin := c.GetHeader("Origin"); origin != "" {
		return a.isOwn(c, origin) && (site == "" || site == "same-origin")
	}
	return site == "same-origin"
}

// isOwn says whether a page of an origin is of this listener. On the admin listener it must be one
// that the configuration names, or what a browser shows that reached the listener itself,
// also through a forwarded port; the host was checked before. At the public listener the
// page's host decides, since proxies that speak TLS stand before it.
func (a *api) isOwn(c *gin.Context, origin string) bool {
	if a.listener == AdminListener {
		scheme := "http://"
		if a.Secure {
			scheme = "https://"
		}
		return strings.EqualFold(origin, scheme+c.Request.Host) || slices.ContainsFunc(a.Origins, func(o string) bool { return strings.EqualFold(o, origin) })
	}
	u, err := url.Parse(origin)
	return err == nil && u.Host != "" && strings.EqualFold(u.Host, c.Request.Host)
}

func crossSite() problem {
	return forbidden("cross-site", "Cross-site request refused", "The request changes something, and came from another origin than the console's.", "Do it in the console, or with a key. Behind a proxy that speaks TLS, name the console's origin under admin.origins.")
}
