package client

import (
	"context"
	"net/http"
	"net/url"

	"github.com/google/uuid"

	"eastporch/internal/core/notice"
)

// Notices lists the notices and channels of a site.
func (c *Client) Notices(ctx context.Context, site string) (list notice.List, err error) {
	err = c.call(ctx, http.MethodGet, ofSite("/v1/notices", site), nil, &list)
	return list, err
}

// Notice gives a notice of a site.
func (c *Client) Notice(ctx context.Context, site, name string) (s notice.State, err error) {
	err = c.call(ctx, http.MethodGet, ofSite("/v1/notices/"+url.PathEscape(name), site), nil, &s)
	return s, err
}

// SaveNotice saves a notice of a site.
func (c *Client) SaveNotice(ctx context.Context, site, name string, save notice.Save) (s notice.State, err error) {
	err = c.call(ctx, http.MethodPut, ofSite("/v1/notices/"+url.PathEscape(name), site), save, &s)
	return s, err
}

// DropNotice drops a notice of a site.
func (c *Client) DropNotice(ctx context.Context, site, name string) error {
	return c.call(ctx, http.MethodDelete, ofSite("/v1/notices/"+url.PathEscape(name), site), nil, nil)
}

// PreviewNotice shows what a notice would say.
func (c *Client) PreviewNotice(ctx context.Context, site string, of notice.PreviewOf) (p notice.Preview, err error) {
	err = c.call(ctx, http.MethodPost, ofSite("/v1/notices/preview", site), of, &p)
	return p, err
}

// TestNotice sends a test.
func (c *Client) TestNotice(ctx context.Context, site string, t notice.Test) (m notice.Message, err error) {
	err = c.call(ctx, http.MethodPost, ofSite("/v1/notices/test", site), t, &m)
	return m, err
}

// AskNotice has what is known of an address sent.
func (c *Client) AskNotice(ctx context.Context, site, name string, q notice.Ask) (a notice.Asked, err error) {
	err = c.call(ctx, http.MethodPost, ofSite("/v1/notices/"+url.PathEscape(name)+"/ask", site), q, &a)
	return a, err
}

// SaveChannel saves a channel of a site.
func (c *Client) SaveChannel(ctx context.Context, site, name string, save notice.ChannelSave) (s notice.ChannelState, err error) {
	err = c.call(ctx, http.MethodPut, ofSite("/v1/channels/"+url.PathEscape(name), site), save, &s)
	return s, err
}

// DropChannel drops a channel of a site.
func (c *Client) DropChannel(ctx context.Context, site, name string) error {
	return c.call(ctx, http.MethodDelete, ofSite("/v1/channels/"+url.PathEscape(name), site), nil, nil)
}

// Messages lists what notices sent; name picks one, before an older page.
func (c *Client) Messages(ctx context.Context, site, name string, before *uuid.UUID) (list notice.MessageList, err error) {
	q := url.Values{"site": {site}}
	if name != "" {
		q.Set("notice", name)
	}
	if before != nil {
		q.Set("before", before.String())
	}
	err = c.call(ctx, http.MethodGet, "/v1/messages?"+q.Encode(), nil, &list)
	return list, err
}

// Message gives a message, what it says and every attempt.
func (c *Client) Message(ctx context.Context, site, id string) (m notice.MessageWhole, err error) {
	err = c.call(ctx, http.MethodGet, ofSite("/v1/messages/"+url.PathEscape(id), site), nil, &m)
	return m, err
}

// DropMessage drops a message that waits.
func (c *Client) DropMessage(ctx context.Context, site, id string) error {
	return c.call(ctx, http.MethodDelete, ofSite("/v1/messages/"+url.PathEscape(id), site), nil, nil)
}

// ResendMessage sends a message again.
func (c *Client) ResendMessage(ctx context.Context, site, id string) (m notice.Message, err error) {
	err = c.call(ctx, http.MethodPost, ofSite("/v1/messages/"+url.PathEscape(id)+"/resend", site), nil, &m)
	return m, err
}
