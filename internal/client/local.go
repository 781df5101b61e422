package client

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"eastporch/internal/core/locale"
	"eastporch/internal/core/variant"
)

// Localized is what suits somebody who is described.
type Localized struct {
	Locale   locale.Locale   `json:"locale"`
	Clock    locale.Clock    `json:"clock"`
	Money    locale.Money    `json:"money"`
	Variants variant.Choices `json:"variants"`
	At       *locale.Instant `json:"at"`
}

// Locale asks what suits somebody; the query's keys are those of GET /v1/locale.
func (c *Client) Locale(ctx context.Context, query url.Values) (Localized, error) {
	var answer Localized
	err := c.call(ctx, http.MethodGet, "/v1/locale?"+query.Encode(), nil, &answer)
	return answer, err
}

// Conversions are amounts in another currency.
type Conversions struct {
	Stale       bool                `json:"stale"`
	Conversions []locale.Conversion `json:"conversions"`
}

// Convert asks for amounts in another currency; the query's keys are those of GET
// /v1/convert.
func (c *Client) Convert(ctx context.Context, query url.Values) (Conversions, error) {
	var answer Conversions
	err := c.call(ctx, http.MethodGet, "/v1/convert?"+query.Encode(), nil, &answer)
	return answer, err
}

// Rates are exchange rates and how they stand. Base is nil where there are none.
type Rates struct {
	Base    *string           `json:"base"`
	Dated   *string           `json:"dated"`
	AgeDays *int              `json:"age_days"`
	Stale   bool              `json:"stale"`
	Source  *string           `json:"source"`
	ReadAt  *time.Time        `json:"read_at"`
	Problem *string           `json:"problem"`
	Rejects []string          `json:"rejects"`
	Rates   map[string]string `json:"rates"`
}

// Rates asks for the exchange rates.
func (c *Client) Rates(ctx context.Context) (Rates, error) {
	var answer Rates
	err := c.call(ctx, http.MethodGet, "/v1/rates", nil, &answer)
	return answer, err
}
