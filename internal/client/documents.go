package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"eastporch/api"
	"eastporch/internal/core/document"
)

func historyOf(kind document.Kind, more, site, name string, query url.Values) string {
	query.Set("site", site)
	if name != "" {
		query.Set("name", name)
	}
	return "/v1/history/" + url.PathEscape(string(kind)) + more + "?" + query.Encode()
}

// History lists the newest revisions of a document, also of one that was dropped; name is "" for rules of gates.
func (c *Client) History(ctx context.Context, kind document.Kind, site, name string, limit int) ([]api.DocumentRevision, error) {
	var h api.DocumentHistory
	err := c.call(ctx, http.MethodGet, historyOf(kind, "", site, name, url.Values{"limit": {strconv.Itoa(limit)}}), nil, &h)
	return h.Revisions, err
}

// ReturnDocument puts an earlier revision of a document in force again, and gives the new one.
func (c *Client) ReturnDocument(ctx context.Context, kind document.Kind, site, name string, revision int64) (r api.DocumentRevision, err error) {
	err = c.call(ctx, http.MethodPost, historyOf(kind, fmt.Sprintf("/%d/return", revision), site, name, url.Values{}), nil, &r)
	return r, err
}

// Variants lists the content variants of a site.
func (c *Client) Variants(ctx context.Context, site string) (list api.Variants, err error) {
	err = c.call(ctx, http.MethodGet, ofSite("/v1/variants", site), nil, &list)
	return list, err
}

// SaveVariants saves a set of content variants; its name is that of what is said.
func (c *Client) SaveVariants(ctx context.Context, site, name string, said any) error {
	return c.call(ctx, http.MethodPut, ofSite("/v1/variants/"+url.PathEscape(name), site), said, nil)
}

// DropVariants drops a set of content variants.
func (c *Client) DropVariants(ctx context.Context, site, name string) error {
	return c.call(ctx, http.MethodDelete, ofSite("/v1/variants/"+url.PathEscape(name), site), nil, nil)
}
