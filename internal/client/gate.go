package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"eastporch/api"
	"eastporch/internal/core/gate"
)

func ofSite(path, site string) string { return path + "?site=" + url.QueryEscape(site) }

// Gate gives the gates of a site.
func (c *Client) Gate(ctx context.Context, site string) (state api.GateState, err error) {
	err = c.call(ctx, http.MethodGet, ofSite("/v1/gate", site), nil, &state)
	return state, err
}

// CheckGate says what is wrong with rules.
func (c *Client) CheckGate(ctx context.Context, site string, req api.GateCheckRequest) (found api.GateChecked, err error) {
	err = c.call(ctx, http.MethodPost, ofSite("/v1/gate/check", site), req, &found)
	return found, err
}

// SaveGate puts rules in force.
func (c *Client) SaveGate(ctx context.Context, site string, req api.GateSave) (rev gate.Revision, err error) {
	err = c.call(ctx, http.MethodPut, ofSite("/v1/gate", site), req, &rev)
	return rev, err
}

// SaveGateDraft keeps rules as a draft.
func (c *Client) SaveGateDraft(ctx context.Context, site string, rules gate.Rules) error {
	return c.call(ctx, http.MethodPut, ofSite("/v1/gate/draft", site), rules, nil)
}

// SimulateGate tries rules on stored visits.
func (c *Client) SimulateGate(ctx context.Context, site string, req api.GateSimulationRequest) (s api.GateSimulation, err error) {
	err = c.long().call(ctx, http.MethodPost, ofSite("/v1/gate/simulate", site), req, &s)
	return s, err
}

// GateHistory lists the newest revisions of rules.
func (c *Client) GateHistory(ctx context.Context, site string, limit int) ([]gate.Revision, error) {
	var h api.GateHistory
	err := c.call(ctx, http.MethodGet, ofSite("/v1/gate/history", site)+fmt.Sprintf("&limit=%d", limit), nil, &h)
	return h.Revisions, err
}

// ReturnGate puts an older revision in force again.
func (c *Client) ReturnGate(ctx context.Context, site string, revision int64) (rev gate.Revision, err error) {
	err = c.call(ctx, http.MethodPost, ofSite(fmt.Sprintf("/v1/gate/history/%d/return", revision), site), nil, &rev)
	return rev, err
}

// GateRefusals counts what was refused; the query may have from, to and reference.
func (c *Client) GateRefusals(ctx context.Context, query url.Values) (r api.GateRefusals, err error) {
	err = c.call(ctx, http.MethodGet, "/v1/gate/refusals?"+query.Encode(), nil, &r)
	return r, err
}

// Rehearse tries visits from anywhere.
func (c *Client) Rehearse(ctx context.Context, req api.RehearsalRequest) (r api.Rehearsal, err error) {
	err = c.long().call(ctx, http.MethodPost, "/v1/rehearsals", req, &r)
	return r, err
}
