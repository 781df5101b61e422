package client

import (
	"context"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strconv"
	"time"
)

// A Key is one that the owner made.
type Key struct {
	ID       string     `json:"id"`
	Name     string     `json:"name"`
	Scope    string     `json:"scope"`
	Start    string     `json:"start"`
	Sites    []string   `json:"sites"`
	Origins  []string   `json:"origins"`
	Created  time.Time  `json:"created"`
	LastUsed *time.Time `json:"last_used"`
	Uses     int64      `json:"uses"`
	Revoked  *time.Time `json:"revoked"`
	MadeBy   struct {
		Name string `json:"name"`
	} `json:"made_by"`
}

// Revoked says what revoking a key ended, and what was made with it and is still in force.
type Revoked struct {
	Revoked []string `json:"revoked"`
	Made    struct {
		Keys []Key `json:"keys"`
	} `json:"made"`
}

// NewKey is a key to make.
type NewKey struct {
	Name    string   `json:"name"`
	Scope   string   `json:"scope"`
	Sites   []string `json:"sites,omitempty"`
	Origins []string `json:"origins,omitempty"`
}

// An Event is a line of the audit log.
type Event struct {
	ID     string    `json:"id"`
	Time   time.Time `json:"time"`
	What   string    `json:"what"`
	Actor  string    `json:"actor"`
	Detail string    `json:"detail"`
}

// Created is a key and its secret, which is shown this once.
type Created struct {
	Key    Key    `json:"key"`
	Secret string `json:"secret"`
}

// Keys lists all keys, the newest first.
func (c *Client) Keys(ctx context.Context) ([]Key, error) {
	var answer struct {
		Keys []Key `json:"keys"`
	}
	err := c.call(ctx, http.MethodGet, "/v1/keys", nil, &answer)
	return answer.Keys, err
}

// CreateKey makes a key.
func (c *Client) CreateKey(ctx context.Context, k NewKey) (Created, error) {
	var created Created
	err := c.call(ctx, http.MethodPost, "/v1/keys", k, &created)
	return created, err
}

// RenameKey gives a key another name.
func (c *Client) RenameKey(ctx context.Context, id, name string) error {
	return c.call(ctx, http.MethodPatch, "/v1/keys/"+url.PathEscape(id), map[string]string{"name": name}, nil)
}

// RevokeKey ends a key for good with its sessions, and withMade the keys that were made
// with it.
func (c *Client) RevokeKey(ctx context.Context, id string, withMade bool) (r Revoked, err error) {
	path := "/v1/keys/" + url.PathEscape(id)
	if withMade {
		path += "?made=revoke"
	}
	err = c.call(ctx, http.MethodDelete, path, nil, &r)
	return r, err
}

// Events reads the newest lines of the audit log.
func (c *Client) Events(ctx context.Context, limit int) ([]Event, error) {
	var answer struct {
		Events []Event `json:"events"`
	}
	err := c.call(ctx, http.MethodGet, "/v1/audit-log?limit="+strconv.Itoa(limit), nil, &answer)
	return answer.Events, err
}

// Exchange spends a one-time link of the service at base for an admin key with
// a name, by way of a session that it ends again.
func Exchange(ctx context.Context, base, link, name string, transport http.RoundTripper) (secret string, err error) {
	c, err := New(base, "", transport)
	if err != nil {
		return "", err
	}
	if c.http.Jar, err = cookiejar.New(nil); err != nil {
		return "", err
	}
	c.origin = c.base // the session's changes must come from its own origin
	if err := c.call(ctx, http.MethodPost, "/v1/sessions", map[string]string{"link": link}, nil); err != nil {
		return "", err
	}
	created, err := c.CreateKey(ctx, NewKey{Name: name, Scope: "admin"})
	if err != nil {
		return "", err
	}
	return created.Secret, c.call(ctx, http.MethodDelete, "/v1/sessions/current", nil, nil)
}
