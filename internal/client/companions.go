package client

import (
	"context"
	"net/http"
	"net/url"

	"eastporch/internal/core/companion"
)

func ofCompanion(site, name, more string) string {
	return "/v1/companions/" + url.PathEscape(name) + more + "?" + url.Values{"site": {site}}.Encode()
}

// Companions lists the companions of a site.
func (c *Client) Companions(ctx context.Context, site string) (list companion.List, err error) {
	err = c.call(ctx, http.MethodGet, "/v1/companions?"+url.Values{"site": {site}}.Encode(), nil, &list)
	return list, err
}

// Companion gives a companion of a site.
func (c *Client) Companion(ctx context.Context, site, name string) (s companion.State, err error) {
	err = c.call(ctx, http.MethodGet, ofCompanion(site, name, ""), nil, &s)
	return s, err
}

// SaveCompanion saves a companion of a site.
func (c *Client) SaveCompanion(ctx context.Context, site, name string, save companion.Save) (s companion.State, err error) {
	err = c.call(ctx, http.MethodPut, ofCompanion(site, name, ""), save, &s)
	return s, err
}

// DropCompanion drops a companion of a site.
func (c *Client) DropCompanion(ctx context.Context, site, name string) error {
	return c.call(ctx, http.MethodDelete, ofCompanion(site, name, ""), nil, nil)
}

// TryCompanion tries a companion with made-up visitors.
func (c *Client) TryCompanion(ctx context.Context, site string, try companion.Try) (t companion.Tries, err error) {
	err = c.call(ctx, http.MethodPost, "/v1/companions/try?"+url.Values{"site": {site}}.Encode(), try, &t)
	return t, err
}

// AskCompanion asks a companion again what it was asked last.
func (c *Client) AskCompanion(ctx context.Context, site, name string) (s companion.State, err error) {
	err = c.call(ctx, http.MethodPost, ofCompanion(site, name, "/ask"), nil, &s)
	return s, err
}
