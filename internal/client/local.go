package client

import (
	"context"
	"net/http"
	"net/url"

	"eastporch/api"
)

// Locale asks what suits somebody; the query's keys are those of GET /v1/locale.
func (c *Client) Locale(ctx context.Context, query url.Values) (api.LocaleAnswer, error) {
	var answer api.LocaleAnswer
	err := c.call(ctx, http.MethodGet, "/v1/locale?"+query.Encode(), nil, &answer)
	return answer, err
}

// Convert asks for amounts in another currency; the query's keys are those of GET
// /v1/convert.
func (c *Client) Convert(ctx context.Context, query url.Values) (api.Conversions, error) {
	var answer api.Conversions
	err := c.call(ctx, http.MethodGet, "/v1/convert?"+query.Encode(), nil, &answer)
	return answer, err
}

// Rates asks for the exchange rates.
func (c *Client) Rates(ctx context.Context) (api.Rates, error) {
	var answer api.Rates
	err := c.call(ctx, http.MethodGet, "/v1/rates", nil, &answer)
	return answer, err
}
