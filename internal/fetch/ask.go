package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// A Question is one GET request with bounds.
type Question struct {
	URL string
	// ETag and Modified are of what is there already: the answer says where it is the same (RFC 9110, section 13).
	ETag, Modified string
	Most           int64         // bytes of the answer
	Within         time.Duration // all of it
	Plain          bool          // http is allowed, too
	Redirects      int           // at most
}

// A Reply is what came.
type Reply struct {
	Same           bool // as it was: there is no body
	Body           []byte
	ETag, Modified string
	Type           string        // the media type that the server gives
	Fresh          time.Duration // how long it may be used without asking again (RFC 9111); below 0 where nothing is said
}

// Keep gives a client that keeps its connections from one question to the next, until done is called.
func (f *Client) Keep() (keeping *Client, done func()) {
	other := *f
	other.kept = f.client()
	return &other, other.kept.CloseIdleConnections
}

// Ask asks once, and keeps nothing. The error says what the server answered where that was neither
// a body nor "not modified", or wraps [ErrTooLarge].
func (f *Client) Ask(ctx context.Context, q Question) (*Reply, error) {
	if err := q.allowed(q.URL); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, q.Within)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, q.URL, nil)
	if err != nil {
		return nil, err
	}
	setIf(request.Header, "If-None-Match", q.ETag)
	setIf(request.Header, "If-Modified-Since", q.Modified)
	client := f.kept
	if client == nil {
		client = f.client()
		defer client.CloseIdleConnections()
	} else {
		other := *client // its connections are shared
		client = &other
	}
	client.CheckRedirect = func(to *http.Request, via []*http.Request) error {
		if len(via) > q.Redirects {
			return fmt.Errorf("more than %d redirects", q.Redirects)
		}
		return q.allowed(to.URL.String())
	}
	answer, err := client.Do(request)
	if err != nil {
		return nil, short(ctx, q, err)
	}
	defer answer.Body.Close()
	r := &Reply{
		ETag: answer.Header.Get("ETag"), Modified: answer.Header.Get("Last-Modified"),
		Type: answer.Header.Get("Content-Type"), Fresh: freshFor(answer.Header, time.Now()),
	}
	switch {
	case answer.StatusCode == http.StatusNotModified && (q.ETag != "" || q.Modified != ""):
		r.Same = true
		return r, nil
	case answer.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("it answers %s", answer.Status)
	case answer.ContentLength > q.Most:
		return nil, fmt.Errorf("%w: %d MB of at most %d MB", ErrTooLarge, answer.ContentLength>>20, q.Most>>20)
	}
	r.Body, err = io.ReadAll(io.LimitReader(answer.Body, q.Most+1))
	switch {
	case err != nil:
		return nil, short(ctx, q, err)
	case int64(len(r.Body)) > q.Most:
		return nil, fmt.Errorf("%w: more than %d MB", ErrTooLarge, q.Most>>20)
	case answer.ContentLength >= 0 && int64(len(r.Body)) != answer.ContentLength:
		return nil, fmt.Errorf("%d bytes came of %d", len(r.Body), answer.ContentLength)
	}
	return r, nil
}

func (q Question) allowed(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.User != nil:
		return fmt.Errorf("%.100q is no address of HTTPS", address)
	case u.Scheme == "http" && !q.Plain:
		return errors.New("it is an address of http: only https is fetched")
	case u.Scheme != "http" && u.Scheme != "https":
		return fmt.Errorf("%.100q is no address of HTTPS", address)
	}
	return nil
}

// short says why a request failed, without repeating its address.
func short(ctx context.Context, q Question, err error) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("it took longer than %s", q.Within)
	}
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		return wrapped.Err
	}
	return err
}

// freshFor is how long an answer may be used without asking again (RFC 9111, section 4.2), below
// 0 where nothing is said.
func freshFor(h http.Header, now time.Time) time.Duration {
	age := time.Duration(0)
	if n, err := strconv.Atoi(h.Get("Age")); err == nil && n > 0 {
		age = time.Duration(n) * time.Second
	}
	for part := range strings.SplitSeq(h.Get("Cache-Control"), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch strings.ToLower(name) {
		case "no-store", "no-cache":
			return 0
		case "max-age":
			n, err := strconv.ParseInt(strings.Trim(value, `"`), 10, 32)
			if err != nil || n < 0 {
				return 0
			}
			return max(0, time.Duration(n)*time.Second-age)
		}
	}
	if h.Get("Expires") != "" {
		until, err := http.ParseTime(h.Get("Expires"))
		if err != nil { // such as 0: it has expired
			return 0
		}
		if sent, err := http.ParseTime(h.Get("Date")); err == nil {
			now = sent
		}
		return max(0, until.Sub(now)-age)
	}
	return -1
}
