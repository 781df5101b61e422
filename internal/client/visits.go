package client

import (
	"bufio"
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
	"eastporch/internal/core/plain"
	"eastporch/internal/core/report"
	"eastporch/internal/core/visit"
)

// Report asks for a report, such as countries; the query's keys are those of GET
// /v1/reports/{by}.
func (c *Client) Report(ctx context.Context, by string, query url.Values) (report.Report, error) {
	var r report.Report
	err := c.long().call(ctx, http.MethodGet, "/v1/reports/"+url.PathEscape(by)+"?"+query.Encode(), nil, &r)
	return r, err
}

// Timeline asks for visits by units of time.
func (c *Client) Timeline(ctx context.Context, query url.Values) (report.Timeline, error) {
	var t report.Timeline
	err := c.long().call(ctx, http.MethodGet, "/v1/reports/timeline?"+query.Encode(), nil, &t)
	return t, err
}

// Visitors asks for the distinct visitors of days.
func (c *Client) Visitors(ctx context.Context, query url.Values) (report.Visitors, error) {
	var v report.Visitors
	err := c.long().call(ctx, http.MethodGet, "/v1/reports/visitors?"+query.Encode(), nil, &v)
	return v, err
}

// Hours asks for visits by the hour of the week.
func (c *Client) Hours(ctx context.Context, query url.Values) (report.Hours, error) {
	var h report.Hours
	err := c.long().call(ctx, http.MethodGet, "/v1/reports/hours?"+query.Encode(), nil, &h)
	return h, err
}

// Distances asks how far from a point visits come.
func (c *Client) Distances(ctx context.Context, query url.Values) (report.Distances, error) {
	var d report.Distances
	err := c.long().call(ctx, http.MethodGet, "/v1/reports/distances?"+query.Encode(), nil, &d)
	return d, err
}

// VisitsState asks what waits and what is kept.
func (c *Client) VisitsState(ctx context.Context) (api.VisitsState, error) {
	var s api.VisitsState
	err := c.call(ctx, http.MethodGet, "/v1/visits/state", nil, &s)
	return s, err
}

// Erase erases a visit, or all of an address or prefix; by is id, address or
// prefix.
func (c *Client) Erase(ctx context.Context, by, what string) (api.Receipt, error) {
	var r api.Receipt
	err := c.long().call(ctx, http.MethodPost, "/v1/visits/erase", map[string]string{by: what}, &r)
	return r, err
}

// Verify recounts a day of a site; with "" it lists the days.
func (c *Client) Verify(ctx context.Context, site, day string, mend bool) (api.Verified, error) {
	body := api.Verify{Site: site, Day: plain.Optional(day), Mend: mend}
	var v api.Verified
	err := c.long().call(ctx, http.MethodPost, "/v1/visits/verify", body, &v)
	return v, err
}

// Quarantine lists the visits that could not be stored.
func (c *Client) Quarantine(ctx context.Context, limit int) (list []api.Apart, all int, err error) {
	var answer api.Quarantine
	err = c.call(ctx, http.MethodGet, "/v1/visits/quarantine?limit="+strconv.Itoa(limit), nil, &answer)
	return answer.Visits, answer.All, err
}

// Replay stores a visit from quarantine, with what is mended of it.
func (c *Client) Replay(ctx context.Context, id string, mend map[string]string) (stored bool, err error) {
	var answer api.Replayed
	err = c.call(ctx, http.MethodPost, "/v1/visits/quarantine/"+url.PathEscape(id), mend, &answer)
	return answer.Stored, err
}

// DropApart drops a visit from quarantine.
func (c *Client) DropApart(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/v1/visits/quarantine/"+url.PathEscape(id), nil, nil)
}

// Publish makes the edition in use answer in SQL.
func (c *Client) Publish(ctx context.Context) (edition string, ranges int64, err error) {
	var answer api.Published
	err = c.long().call(ctx, http.MethodPost, "/v1/atlas/publish", struct{}{}, &answer)
	return answer.Edition, answer.Ranges, err
}

// long gives the same client without a limit of time.
func (c *Client) long() *Client {
	other, without := *c, *c.http
	without.Timeout = 0
	other.http = &without
	return &other
}

// Import sends a file of visits.
func (c *Client) Import(ctx context.Context, format string, file io.Reader) (api.Imported, error) {
	var answer api.Imported
	err := c.long().call(ctx, http.MethodPost, "/v1/visits/import?format="+url.QueryEscape(format), stream{"application/octet-stream", file}, &answer)
	return answer, err
}

// stream is a body that is sent as it comes.
type stream struct {
	kind string
	io.Reader
}

// ExportVisits writes visits as a file.
func (c *Client) ExportVisits(ctx context.Context, query url.Values, w io.Writer) error {
	return c.long().export(ctx, "/v1/visits/export?"+query.Encode(), w)
}

// Follow calls do for every visit as it is stored, until ctx ends or do gives an
// error. Where the connection breaks it goes on from where it was, after a while.
func (c *Client) Follow(ctx context.Context, query url.Values, do func(visit.Visit) error) error {
	after, tried := "", 0
	for {
		err := c.follow(ctx, query, &after, func(v visit.Visit) error {
			tried = 0
			return do(v)
		})
		var problem *Problem
		if ctx.Err() != nil || errors.As(err, &problem) || errors.Is(err, errStopFollowing) || tried >= followTries {
			return err
		}
		tried++
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(followAgain):
		}
	}
}

const (
	followAgain = time.Second
	followTries = 10
	maxEvent    = 1 << 20
)

// errStopFollowing marks errors of whoever follows.
var errStopFollowing = errors.New("following ended")

func (c *Client) follow(ctx context.Context, query url.Values, after *string, do func(visit.Visit) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/v1/visits/stream?"+query.Encode(), nil)
	if err != nil {
		return err
	}
	if c.key != "" {
		req.Header.Set("Authorization", "Bearer "+c.key)
	}
	if *after != "" {
		req.Header.Set("Last-Event-ID", *after)
	}
	res, err := c.long().http.Do(req)
	if err != nil {
		return fmt.Errorf("%w at %s: %w", ErrUnreachable, c.base, err)
	}
	defer res.Body.Close()
	if res.StatusCode >= http.StatusBadRequest {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		return problemOf(res, text)
	}
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(make([]byte, 64<<10), maxEvent)
	id, data := "", []byte(nil)
	for lines.Scan() {
		line := lines.Text()
		switch {
		case strings.HasPrefix(line, "id: "):
			id = line[len("id: "):]
		case strings.HasPrefix(line, "data: "):
			data = bytes.Clone(lines.Bytes()[len("data: "):])
		case line == "":
			if len(data) > 0 {
				var v visit.Visit
				if err := json.Unmarshal(data, &v); err != nil {
					return fmt.Errorf("%s sent something that is not a visit: %w", c.base, err)
				}
				if err := do(v); err != nil {
					return errors.Join(errStopFollowing, err)
				}
			}
			if id != "" {
				*after = id
			}
			data = nil
		}
	}
	return lines.Err()
}
