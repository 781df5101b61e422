package httpapi

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

	"eastporch/internal/server/problem"
)

// What stands before every handler, in this order: a request is named and logged, a panic
// becomes a problem, every answer is hardened, the host and the text of the address are checked,
// preflights are answered, and bodies are bounded.

// requestKey is where a request carries its id.
const requestKey = "request_id"

func requestID(c *gin.Context) string { return c.GetString(requestKey) }

// observe names the request and logs it. The path and the query are not
// logged, since addresses stand in them; the route is.
func (h *handlers) observe(c *gin.Context) {
	start, id := time.Now(), rand.Text()[:13]
	c.Set(requestKey, id)
	c.Header("X-Request-Id", id)
	c.Next()
	took := time.Since(start)
	h.Service.Metrics.Request(string(h.listener), c.Request.Method, c.FullPath(), c.Writer.Status(), took)
	level := slog.LevelDebug
	if c.Writer.Status() >= http.StatusInternalServerError {
		level = slog.LevelWarn
	}
	h.Service.Log.Log(c, level, "request", "request_id", id, "method", c.Request.Method, "route", c.FullPath(),
		"status", c.Writer.Status(), "bytes", c.Writer.Size(), "took", took)
}

// recover turns a panic into a problem document, but for one that is to break the
// connection.
func (h *handlers) recover(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler { // an answer that must not look whole
				panic(r)
			}
			h.Service.Log.Error("panic", "request_id", requestID(c), "route", c.FullPath(), "panic", r, "stack", string(debug.Stack()))
			h.fail(c, fmt.Errorf("panic: %v", r))
		}
	}()
	c.Next()
}

// harden sets the headers that every answer has.
func (h *handlers) harden(c *gin.Context) {
	out := c.Writer.Header()
	out.Set("X-Content-Type-Options", "nosniff")
	out.Set("Referrer-Policy", "same-origin")
	out.Set("X-Frame-Options", "DENY")
	out.Set("Cross-Origin-Opener-Policy", "same-origin")
	out.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	if h.listener == AdminListener {
		out.Set("Cross-Origin-Resource-Policy", "same-origin")
	}
	if h.listener == AdminListener && h.door.Secure {
		out.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.Next()
}

// isHealth says whether a path is a load balancer's, which may ask under any host.
func isHealth(path string) bool { return path == "/livez" || path == "/readyz" }

// checkHost refuses requests for other hosts: a page whose name was made to
// point here must not reach us.
func (h *handlers) checkHost(c *gin.Context) {
	host := strings.ToLower(c.Request.Host)
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.TrimSuffix(strings.Trim(host, "[]"), ".")
	if !h.hosts[host] && !isHealth(c.FullPath()) {
		h.fail(c, problem.Of(http.StatusMisdirectedRequest, "wrong-host", "Unknown host", "The Host header names a host that this listener does not answer to.",
			fmt.Sprintf("Name it under %s.hosts in the configuration if it is yours.", h.listener)))
		return
	}
	c.Next()
}

// checkText refuses addresses that are no text: the database takes neither NUL nor what is
// not UTF-8, and no name of anything has them.
func (h *handlers) checkText(c *gin.Context) {
	u := c.Request.URL
	query := u.RawQuery
	if strings.IndexByte(query, '%') >= 0 {
		if plain, err := url.QueryUnescape(query); err == nil {
			query = plain
		}
	}
	if !isText(u.Path) || !isText(query) {
		h.fail(c, problem.BadRequest("invalid-url", "Invalid URL", "A part of it is not UTF-8, or holds a NUL.", "Write it as UTF-8, percent-encoded."))
		return
	}
	c.Next()
}

func isText(s string) bool { return utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 }

// preflight answers a browser that asks whether a page may use a key here. It
// does not show the key yet, so any key that allows the origin will do.
func (h *handlers) preflight(c *gin.Context) {
	if c.Request.Method != http.MethodOptions || c.GetHeader("Access-Control-Request-Method") == "" {
		c.Next()
		return
	}
	origin := c.GetHeader("Origin")
	if h.listener != PublicListener || !h.Access.Keys.Allowed(origin) {
		h.fail(c, problem.WrongOrigin())
		return
	}
	h.allowOrigin(c, origin)
	c.Header("Access-Control-Allow-Methods", "GET, POST")
	c.Header("Access-Control-Allow-Headers", "Authorization, Content-Type, Prefer")
	c.Header("Access-Control-Max-Age", "600")
	c.AbortWithStatus(http.StatusNoContent)
}

func (h *handlers) allowOrigin(c *gin.Context, origin string) {
	c.Header("Access-Control-Allow-Origin", origin)
	c.Header("Access-Control-Expose-Headers", "RateLimit, RateLimit-Policy, Retry-After, X-Request-Id")
	c.Header("Cross-Origin-Resource-Policy", "cross-origin")
	c.Writer.Header().Add("Vary", "Origin")
}

func (h *handlers) limitBody(c *gin.Context) {
	if c.FullPath() != importPath {
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, h.door.MaxBody)
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
