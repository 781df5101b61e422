// Package client calls the HTTP API of a running service.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"eastporch/api"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/plain"
)

// ErrUnreachable is wrapped by errors that mean that no service answered.
var ErrUnreachable = errors.New("the service does not answer")

// maxAnswer bounds how much of an answer is read, in bytes.
const maxAnswer = 64 << 20

// A Problem is a problem document (RFC 9457) that the service answered with.
type Problem api.Problem

func (p *Problem) Error() string { return fmt.Sprintf("%s: %s %s", p.Title, p.Detail, p.Hint) }

// A Client calls one service. It is safe for concurrent use.
type Client struct {
	base string
	key  string // "" for none
	// origin is sent along with a session's cookie; "" sends none.
	origin string
	http   *http.Client
}

// New makes a client of the service at base, such as http://127.0.0.1:8081,
// with a key, which may be "" where none is wanted; transport may be nil.
func New(base, key string, transport http.RoundTripper) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a service: write it like http://127.0.0.1:8081", base)
	}
	return &Client{base: strings.TrimSuffix(base, "/"), key: key, http: &http.Client{Transport: transport, Timeout: 30 * time.Second}}, nil
}

// Address asks for the card of an address.
func (c *Client) Address(ctx context.Context, address string) (card.Card, error) {
	var card card.Card
	err := c.call(ctx, http.MethodGet, "/v1/addresses/"+url.PathEscape(address), nil, &card)
	return card, err
}

// Addresses asks for the cards of up to 10,000 addresses; each has its own answer, in their order.
func (c *Client) Addresses(ctx context.Context, list []string) ([]api.Asked, error) {
	var answer api.AskedList
	err := c.call(ctx, http.MethodPost, "/v1/addresses", api.AddressList{Addresses: list}, &answer)
	return answer.Addresses, err
}

// Trail asks how the visitor of a request is found.
func (c *Client) Trail(ctx context.Context, seen api.TrailRequest) (caller.Trail, error) {
	var trail caller.Trail
	err := c.call(ctx, http.MethodPost, "/v1/trails", seen, &trail)
	return trail, err
}

// Checkup asks what is wrong with the set-up.
func (c *Client) Checkup(ctx context.Context) (checkup.Result, error) {
	var report checkup.Result
	err := c.call(ctx, http.MethodGet, "/v1/checkup", nil, &report)
	return report, err
}

// AddVisit sends a visit; it is on the service's disk when nil is returned.
func (c *Client) AddVisit(ctx context.Context, v api.NewVisit) (api.Taken, error) {
	var taken api.Taken
	err := c.call(ctx, http.MethodPost, "/v1/visits", v, &taken)
	return taken, err
}

// AddVisits sends up to 1,000 visits; each has its own answer, with a problem
// where it was not taken.
func (c *Client) AddVisits(ctx context.Context, list []api.NewVisit) ([]api.TakenOne, error) {
	var answer api.Many
	err := c.call(ctx, http.MethodPost, "/v1/visits", list, &answer)
	return answer.Visits, err
}

// Sites lists the sites.
func (c *Client) Sites(ctx context.Context) ([]api.Site, error) {
	var answer api.Sites
	err := c.call(ctx, http.MethodGet, "/v1/sites", nil, &answer)
	return answer.Sites, err
}

// Reload has the service put its configuration into use.
func (c *Client) Reload(ctx context.Context, force bool) (answer api.Reloaded, err error) {
	path := "/v1/reload"
	if force {
		path += "?force=1"
	}
	err = c.call(ctx, http.MethodPost, path, nil, &answer)
	return answer, err
}

// MapLink is the template of a link to a map outside, "" where the configuration has none.
func (c *Client) MapLink(ctx context.Context) (string, error) {
	var answer api.Sites
	err := c.call(ctx, http.MethodGet, "/v1/sites", nil, &answer)
	return plain.Value(answer.MapLink), err
}

// Visits reads a page of visits, the newest first. The filter's keys are those
// of GET /v1/visits.
func (c *Client) Visits(ctx context.Context, filter url.Values, cursor string, limit int) (api.VisitPage, error) {
	query := url.Values{"limit": {strconv.Itoa(limit)}}
	for k, v := range filter {
		query[k] = v
	}
	if cursor != "" {
		query.Set("cursor", cursor)
	}
	var page api.VisitPage
	err := c.call(ctx, http.MethodGet, "/v1/visits?"+query.Encode(), nil, &page)
	return page, err
}

// call sends a request and reads its answer; a problem document becomes a
// *[Problem].
func (c *Client) call(ctx context.Context, method, path string, body, answer any) error {
	var send io.Reader
	kind := "application/json"
	if r, ok := body.(raw); ok {
		send, kind = r.reader(), r.kind
	} else if s, ok := body.(stream); ok {
		send, kind = s.Reader, s.kind
	} else if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		send = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, send)
	if err != nil {
		return err
	}
	if body != nil {
		req.Header.Set("Content-Type", kind)
	}
	if c.key != "" {
		req.Header.Set("Authorization", "Bearer "+c.key)
	}
	if c.origin != "" {
		req.Header.Set("Origin", c.origin)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%w at %s: %w", ErrUnreachable, c.base, err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return fmt.Errorf("answer of %s: %w", c.base, err)
	}
	if res.StatusCode >= http.StatusBadRequest {
		return problemOf(res, text)
	}
	if answer == nil {
		return nil
	}
	if err := json.Unmarshal(text, answer); err != nil {
		return fmt.Errorf("%s answered with something that is not an answer of East Porch: %w", c.base, err)
	}
	return nil
}

func problemOf(res *http.Response, text []byte) *Problem {
	problem := &Problem{Title: "The service refused", Detail: res.Status + ".", Status: res.StatusCode}
	_ = json.Unmarshal(text, problem) // what is not a problem document stays as above
	return problem
}
