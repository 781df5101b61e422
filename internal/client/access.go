package client

import (
	"context"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strconv"

	"eastporch/api"
	"eastporch/internal/core/keys"
)

// Keys lists all keys, the newest first.
func (c *Client) Keys(ctx context.Context) ([]keys.Key, error) {
	var answer api.KeyList
	err := c.call(ctx, http.MethodGet, "/v1/keys", nil, &answer)
	return answer.Keys, err
}

// CreateKey makes a key.
func (c *Client) CreateKey(ctx context.Context, k keys.NewKey) (api.Created, error) {
	var created api.Created
	err := c.call(ctx, http.MethodPost, "/v1/keys", k, &created)
	return created, err
}

// RenameKey gives a key another name.
func (c *Client) RenameKey(ctx context.Context, id, name string) error {
	return c.call(ctx, http.MethodPatch, "/v1/keys/"+url.PathEscape(id), map[string]string{"name": name}, nil)
}

// RevokeKey ends a key for good with its sessions, and withMade the keys that were made
// with it.
func (c *Client) RevokeKey(ctx context.Context, id string, withMade bool) (r api.Revoked, err error) {
	path := "/v1/keys/" + url.PathEscape(id)
	if withMade {
		path += "?made=revoke"
	}
	err = c.call(ctx, http.MethodDelete, path, nil, &r)
	return r, err
}

// Events reads the newest lines of the audit log.
func (c *Client) Events(ctx context.Context, limit int) ([]keys.Event, error) {
	var answer api.AuditLog
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
	created, err := c.CreateKey(ctx, keys.NewKey{Name: name, Scope: "admin"})
	if err != nil {
		return "", err
	}
	return created.Secret, c.call(ctx, http.MethodDelete, "/v1/sessions/current", nil, nil)
}
