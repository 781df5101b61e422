package client

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"eastporch/api"
	"eastporch/internal/core/atlas/compare"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/card"
)

// Why asks for the card of an address with every range that holds it.
func (c *Client) Why(ctx context.Context, address string) (card.Card, error) {
	var card card.Card
	err := c.call(ctx, http.MethodGet, "/v1/addresses/"+url.PathEscape(address)+"?why=all", nil, &card)
	return card, err
}

// Editions lists the editions of the service, and the build that runs.
func (c *Client) Editions(ctx context.Context) (editions []api.Edition, job api.Job, err error) {
	var answer api.Editions
	err = c.call(ctx, http.MethodGet, "/v1/atlas/editions", nil, &answer)
	return answer.Editions, answer.Job, err
}

// BuildEdition begins to build an edition of the configured sources.
func (c *Client) BuildEdition(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/atlas/editions", struct{}{}, nil)
}

// ActivateEdition activates an edition, or with "" goes back to the one before.
func (c *Client) ActivateEdition(ctx context.Context, name string) (used string, err error) {
	var answer api.Used
	if name == "" {
		err = c.long().call(ctx, http.MethodPost, "/v1/atlas/back", struct{}{}, &answer)
	} else {
		err = c.long().call(ctx, http.MethodPost, "/v1/atlas/activate", api.Used{Edition: name}, &answer)
	}
	return answer.Edition, err
}

// Changes asks what an edition would change. now may be "" for the one in use.
func (c *Client) Changes(ctx context.Context, now, then string) (api.Changes, error) {
	var answer api.Changes
	query := url.Values{"then": {then}}
	if now != "" {
		query.Set("now", now)
	}
	err := c.long().call(ctx, http.MethodGet, "/v1/atlas/changes?"+query.Encode(), nil, &answer)
	return answer, err
}

// Accuracy holds an edition, or with "" the one in use, against test points: those
// of r, or with nil those of the service's configuration.
func (c *Client) Accuracy(ctx context.Context, edition string, r io.Reader) (compare.Accuracy, error) {
	var answer compare.Accuracy
	path := "/v1/atlas/accuracy"
	if edition != "" {
		path += "?" + url.Values{"edition": {edition}}.Encode()
	}
	if r == nil {
		err := c.long().call(ctx, http.MethodGet, path, nil, &answer)
		return answer, err
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return answer, err
	}
	err = c.long().call(ctx, http.MethodPost, path, raw{"text/csv", text}, &answer)
	return answer, err
}

// Samples asks for addresses of a country, and a town where city is not "".
func (c *Client) Samples(ctx context.Context, country, city string, count int, seed uint64) ([]string, error) {
	query := url.Values{"country_code": {country}, "count": {strconv.Itoa(count)}, "seed": {strconv.FormatUint(seed, 10)}}
	if city != "" {
		query.Set("city", city)
	}
	var answer api.Samples
	err := c.call(ctx, http.MethodGet, "/v1/atlas/samples?"+query.Encode(), nil, &answer)
	list := []string{}
	for _, s := range answer.Samples {
		list = append(list, s.Address)
	}
	return list, err
}

// Range asks which places a range spans.
func (c *Client) Range(ctx context.Context, text string) (api.RangeAnswer, error) {
	var answer api.RangeAnswer
	err := c.call(ctx, http.MethodGet, "/v1/ranges?"+url.Values{"range": {text}}.Encode(), nil, &answer)
	return answer, err
}

// Areas lists the owner's areas; those that hold a point where at is a geo URI.
func (c *Client) Areas(ctx context.Context, at string) (names []string, err error) {
	var answer api.Areas
	path := "/v1/areas"
	if at != "" {
		path += "?" + url.Values{"at": {at}}.Encode()
	}
	err = c.long().call(ctx, http.MethodGet, path, nil, &answer)
	for _, a := range answer.Areas {
		if a.Holds == nil || *a.Holds {
			names = append(names, a.Name)
		}
	}
	return names, err
}

// Corrections lists the owner's corrections, the newest first.
func (c *Client) Corrections(ctx context.Context) ([]source.Correction, error) {
	var answer api.Corrections
	err := c.call(ctx, http.MethodGet, "/v1/corrections", nil, &answer)
	return answer.Corrections, err
}

// Correct says that a range is elsewhere.
func (c *Client) Correct(ctx context.Context, correction map[string]any) (source.Correction, error) {
	var answer source.Correction
	err := c.call(ctx, http.MethodPost, "/v1/corrections", correction, &answer)
	return answer, err
}

// DropCorrection removes a correction.
func (c *Client) DropCorrection(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/v1/corrections/"+url.PathEscape(id), nil, nil)
}

// Reenrich reads stored visits since a time again from the edition in use; the
// zero time is 30 days ago.
func (c *Client) Reenrich(ctx context.Context, since time.Time) (answer api.ReenrichAnswer, err error) {
	var body api.Reenrich
	if !since.IsZero() {
		body.Since = &since
	}
	err = c.long().call(ctx, http.MethodPost, "/v1/visits/reenrich", body, &answer)
	return answer, err
}

// ExportEdition writes the edition in use as csv or geofeed. After an error what was
// written is not whole.
func (c *Client) ExportEdition(ctx context.Context, format string, raw bool, w io.Writer) error {
	return c.long().export(ctx, "/v1/atlas/export?"+url.Values{"format": {format}, "raw": {strconv.FormatBool(raw)}}.Encode(), w)
}

// ExportCorrections writes the owner's corrections as a geofeed.
func (c *Client) ExportCorrections(ctx context.Context, w io.Writer) error {
	return c.long().export(ctx, "/v1/corrections?format=geofeed", w)
}

// export writes what a path answers with, as it comes.
func (c *Client) export(ctx context.Context, path string, w io.Writer) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+path, nil)
	if err != nil {
		return err
	}
	if c.key != "" {
		req.Header.Set("Authorization", "Bearer "+c.key)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return fmt.Errorf("%w at %s: %w", ErrUnreachable, c.base, err)
	}
	defer res.Body.Close()
	if res.StatusCode >= http.StatusBadRequest {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		return problemOf(res, text)
	}
	_, err = io.Copy(w, res.Body)
	return err
}

// raw is a body that is sent as it is.
type raw struct {
	kind string
	text []byte
}

func (r raw) reader() io.Reader { return bytes.NewReader(r.text) }

// VisitCoverage asks how well an edition, "" for the one in use, knows the addresses of visits.
func (c *Client) VisitCoverage(ctx context.Context, edition string) (api.VisitCoverage, error) {
	var answer api.VisitCoverage
	query := url.Values{}
	if edition != "" {
		query.Set("edition", edition)
	}
	err := c.long().call(ctx, http.MethodGet, "/v1/atlas/visits?"+query.Encode(), nil, &answer)
	return answer, err
}

// Feeds lists all geofeeds that are gathered, of a state or speaking for an address where those are given.
func (c *Client) Feeds(ctx context.Context, state, address string) (list api.FeedList, err error) {
	query := url.Values{"limit": {"1000"}}
	for key, value := range map[string]string{"state": state, "address": address} {
		if value != "" {
			query.Set(key, value)
		}
	}
	for {
		var page api.FeedList
		if err := c.call(ctx, http.MethodGet, "/v1/atlas/feeds?"+query.Encode(), nil, &page); err != nil {
			return list, err
		}
		page.Feeds = append(list.Feeds, page.Feeds...)
		if list = page; page.Next == nil {
			return list, nil
		}
		query.Set("cursor", *page.Next)
	}
}
