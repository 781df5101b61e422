package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"eastporch/internal/core/link"
)

// Links lists links; the query may have site, state, search, cursor and limit.
func (c *Client) Links(ctx context.Context, query url.Values) (page link.Page, err error) {
	err = c.call(ctx, http.MethodGet, "/v1/links?"+query.Encode(), nil, &page)
	return page, err
}

// NewLink is what a link is made of: a code and a site, which may be "", and what is said of it.
type NewLink struct {
	Code string `json:"code,omitempty"`
	Site string `json:"site,omitempty"`
	link.Said
}

// CreateLink makes a link.
func (c *Client) CreateLink(ctx context.Context, l NewLink) (made link.Link, err error) {
	err = c.call(ctx, http.MethodPost, "/v1/links", l, &made)
	return made, err
}

func ofLink(code, more string) string { return "/v1/links/" + url.PathEscape(code) + more }

// Link gives a link.
func (c *Client) Link(ctx context.Context, code string) (l link.Link, err error) {
	err = c.call(ctx, http.MethodGet, ofLink(code, ""), nil, &l)
	return l, err
}

// ChangeLink changes the fields of a link that are given; nil takes an end or a limit away.
func (c *Client) ChangeLink(ctx context.Context, code string, changes map[string]any) (l link.Link, err error) {
	err = c.call(ctx, http.MethodPatch, ofLink(code, ""), changes, &l)
	return l, err
}

// Clicks says who followed a link; the query may have from, to, zone and compare.
func (c *Client) Clicks(ctx context.Context, code string, query url.Values) (r link.Report, err error) {
	err = c.call(ctx, http.MethodGet, ofLink(code, "/clicks?"+query.Encode()), nil, &r)
	return r, err
}

// LinkQR writes the QR code of a link, as svg or as png of at most so many pixels.
func (c *Client) LinkQR(ctx context.Context, code, format string, size int, to io.Writer) error {
	more := "/qr." + format
	if format == "png" {
		more += fmt.Sprintf("?size=%d", size)
	}
	return c.export(ctx, ofLink(code, more), to)
}
