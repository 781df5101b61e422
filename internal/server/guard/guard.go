// Package guard is what stands before every handler of a listener: a request is named and logged, a panic
// becomes a problem, every answer is hardened, the host and the text of the address are checked, preflights
// are answered, and bodies are bounded.
package guard

import (
	"crypto/rand"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"runtime/debug"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"eastporch/internal/server/metrics"
	"eastporch/internal/server/problem"
)

// A Guard stands before one listener. All of it is required but Secure and Unbounded.
type Guard struct {
	Listener Listener
	Hosts    map[string]bool // in small letters
	Public   bool            // pages of other origins may reach it
	Secure   bool            // it speaks TLS
	MaxBody  int64           // bytes
	// Unbounded is the path whose bodies are read bit by bit.
	Unbounded string
	Checks
}

// Checks are what a guard asks and tells.
type Checks struct {
	Fail    func(*gin.Context, error)
	Metrics *metrics.Metrics
	Log     *slog.Logger
}

// A Listener is the name of one.
type Listener string

// Handlers are those of the guard, in their order.
func (h *Guard) Handlers() []gin.HandlerFunc {
	return []gin.HandlerFunc{h.observe, h.recover, h.harden, h.checkHost, h.checkText, h.preflight, h.limitBody}
}

// requestKey is where a request carries its id.
const requestKey = "request_id"

// RequestID is the id of a request, which its answer has too.
func RequestID(c *gin.Context) string { return c.GetString(requestKey) }

// observe names the request and logs it. The path and the query are not
// logged, since addresses stand in them; the route is.
func (h *Guard) observe(c *gin.Context) {
	start, id := time.Now(), rand.Text()[:13]
	c.Set(requestKey, id)
	c.Header("X-Request-Id", id)
	c.Next()
	took := time.Since(start)
	h.Metrics.Request(string(h.Listener), c.Request.Method, c.FullPath(), c.Writer.Status(), took)
	level := slog.LevelDebug
	if c.Writer.Status() >= http.StatusInternalServerError {
		level = slog.LevelWarn
	}
	if !h.Log.Enabled(c, level) {
		return
	}
	h.Log.Log(c, level, "request", "request_id", id, "method", c.Request.Method, "route", c.FullPath(),
		"status", c.Writer.Status(), "bytes", c.Writer.Size(), "took", took)
}

// recover turns a panic into a problem document, but for one that is to break the
// connection.
func (h *Guard) recover(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler { // an answer that must not look whole
				panic(r)
			}
			h.Log.Error("panic", "request_id", RequestID(c), "route", c.FullPath(), "panic", r, "stack", string(debug.Stack()))
			h.Fail(c, fmt.Errorf("panic: %v", r))
		}
	}()
	c.Next()
}

// always are the fields that every answer has.
var always = [...]struct {
	name   string
	values []string
}{
	{"X-Content-Type-Options", []string{"nosniff"}},
	{"Referrer-Policy", []string{"same-origin"}},
	{"X-Frame-Options", []string{"DENY"}},
	{"Cross-Origin-Opener-Policy", []string{"same-origin"}},
	{"Content-Security-Policy", []string{"default-src 'none'; frame-ancestors 'none'"}},
}

// harden sets the headers that every answer has.
func (h *Guard) harden(c *gin.Context) {
	out := c.Writer.Header()
	for i := range always {
		out[always[i].name] = always[i].values // which nobody appends to
	}
	if !h.Public {
		out.Set("Cross-Origin-Resource-Policy", "same-origin")
	}
	if !h.Public && h.Secure {
		out.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.Next()
}

// isHealth says whether a path is a load balancer's, which may ask under any host.
func isHealth(path string) bool { return path == "/livez" || path == "/readyz" }

// checkHost refuses requests for other hosts: a page whose name was made to
// point here must not reach us.
func (h *Guard) checkHost(c *gin.Context) {
	host := strings.ToLower(c.Request.Host)
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.TrimSuffix(strings.Trim(host, "[]"), ".")
	if !h.Hosts[host] && !isHealth(c.FullPath()) {
		h.Fail(c, problem.Of(http.StatusMisdirectedRequest, "wrong-host", "Unknown host", "The Host header names a host that this listener does not answer to.",
			fmt.Sprintf("Name it under %s.hosts in the configuration if it is yours.", h.Listener)))
		return
	}
	c.Next()
}

// checkText refuses addresses that are no text: the database takes neither NUL nor what is
// not UTF-8, and no name of anything has them.
func (h *Guard) checkText(c *gin.Context) {
	u := c.Request.URL
	query := u.RawQuery
	if strings.IndexByte(query, '%') >= 0 {
		if plain, err := url.QueryUnescape(query); err == nil {
			query = plain
		}
	}
	if !isText(u.Path) || !isText(query) {
		h.Fail(c, problem.BadRequest("invalid-url", "Invalid URL", "A part of it is not UTF-8, or holds a NUL.", "Write it as UTF-8, percent-encoded."))
		return
	}
	c.Next()
}

func isText(s string) bool { return utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 }

// preflight answers a browser that asks whether a page may use a key here. It does not show the key yet: the request
// itself is refused where its key does not allow the origin, with a reason that the page can read.
func (h *Guard) preflight(c *gin.Context) {
	if c.Request.Method != http.MethodOptions || c.GetHeader("Access-Control-Request-Method") == "" {
		c.Next()
		return
	}
	origin := c.GetHeader("Origin")
	if !h.Public || origin == "" {
		h.Fail(c, problem.WrongOrigin())
		return
	}
	AllowOrigin(c, origin)
	c.Header("Access-Control-Allow-Methods", "GET, POST")
	c.Header("Access-Control-Allow-Headers", "Authorization, Content-Type, Prefer")
	c.Header("Access-Control-Max-Age", "600")
	c.AbortWithStatus(http.StatusNoContent)
}

// AllowOrigin lets pages of an origin read an answer (CORS).
func AllowOrigin(c *gin.Context, origin string) {
	c.Header("Access-Control-Allow-Origin", origin)
	c.Header("Access-Control-Expose-Headers", "RateLimit, RateLimit-Policy, Retry-After, X-Request-Id")
	c.Header("Cross-Origin-Resource-Policy", "cross-origin")
	c.Writer.Header().Add("Vary", "Origin")
}

func (h *Guard) limitBody(c *gin.Context) {
	if c.FullPath() != h.Unbounded {
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, h.MaxBody)
	}
	c.Request.Body = body{c.Request.Body}
	c.Next()
}

// body marks errors of reading a request's body.
type body struct{ io.ReadCloser }

func (b body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF { // which readers compare, as io.Reader asks
		err = fmt.Errorf("%w: %w", problem.ErrBody, err)
	}
	return n, err
}
