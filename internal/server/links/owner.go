package links

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/link"
	"eastporch/internal/server/sites"
)

// codesTried is how often a code is made up before somebody is told.
const codesTried = 10

// Create makes a link of a site; code is the owner's own word, "" for one that is made up.
func (l *Links) Create(ctx context.Context, site *sites.Site, code string, said link.Said, by string) (link.Link, error) {
	said, err := l.checked(site).Check(said, nil, l.Now())
	if err != nil {
		return link.Link{}, err
	}
	made := link.Link{Site: site.Host, Said: said, MadeBy: by, MadeAt: l.Now().UTC().Truncate(time.Millisecond)}
	if code != "" {
		if made.Code, err = link.CheckCode(code); err == nil {
			err = l.Rows.Add(ctx, made)
		}
	} else {
		err = link.ErrTaken
		for n := 0; n < codesTried && errors.Is(err, link.ErrTaken); n++ {
			made.Code = link.NewCode()
			err = l.Rows.Add(ctx, made)
		}
	}
	if err != nil {
		return link.Link{}, err
	}
	return l.afterwards(ctx, made.Code)
}

// changeable is what a merge patch is applied to.
type changeable struct {
	link.Said
	Disabled bool `json:"disabled"`
}

// Change applies a merge patch (RFC 7396) to a link of one of the sites that may is true of.
func (l *Links) Change(ctx context.Context, code string, patch []byte, may func(site string) error) (link.Link, error) {
	for tries := 0; ; tries++ {
		k, err := l.Rows.Get(ctx, link.Fold(code))
		if err == nil {
			err = may(k.Site)
		}
		if err != nil {
			return link.Link{}, err
		}
		site := l.sites.Load().Of(k.Site)
		if site == nil {
			return link.Link{}, invalid.Field("site", fmt.Sprintf("%.64q, which the link is of, is no longer configured", k.Site), l.sites.Load().Hint())
		}
		now, before := l.Now().UTC().Truncate(time.Millisecond), k.Until
		after, err := merged(changeable{k.Said, k.Off != nil}, patch)
		if err != nil {
			return link.Link{}, err
		}
		if k.Said, err = l.checked(site).Check(after.Said, before, now); err != nil {
			return link.Link{}, err
		}
		switch {
		case !after.Disabled:
			k.Off = nil
		case k.Off == nil:
			k.Off = &now
		}
		k.ChangedAt = now
		if err := l.Rows.Change(ctx, k); err == nil {
			return l.afterwards(ctx, k.Code)
		} else if !errors.Is(err, link.ErrNoLink) || tries == codesTried { // somebody else was faster
			return link.Link{}, err
		}
	}
}

// merged applies a merge patch.
func merged(to changeable, patch []byte) (changeable, error) {
	var changes map[string]json.RawMessage
	if err := json.Unmarshal(patch, &changes); err != nil {
		return to, invalid.Field("body", "it is not one JSON object", "Send the fields that change.")
	}
	text, err := json.Marshal(to)
	if err != nil {
		return to, err
	}
	all := map[string]json.RawMessage{}
	if err := json.Unmarshal(text, &all); err != nil {
		return to, err
	}
	for name, value := range changes {
		if _, known := all[name]; !known {
			return to, invalid.Field(name, "links have no such field, or it cannot be changed", "Change name, note, destination, routes, status, hand_on, until, limit or disabled.")
		}
		if all[name] = value; string(value) == "null" {
			delete(all, name)
		}
	}
	if text, err = json.Marshal(all); err != nil {
		return to, err
	}
	out := changeable{}
	from := json.NewDecoder(bytes.NewReader(text))
	from.DisallowUnknownFields()
	if err := from.Decode(&out); err != nil {
		var wrong *json.UnmarshalTypeError
		if errors.As(err, &wrong) {
			return to, invalid.Field(wrong.Field, fmt.Sprintf("it is a JSON %s", wrong.Value), "The contract at /openapi.json says what stands here.")
		}
		return to, invalid.Field("body", err.Error(), "The contract at /openapi.json says what stands here.")
	}
	return out, nil
}

// afterwards follows a link as it was just stored, and gives it.
func (l *Links) afterwards(ctx context.Context, code string) (link.Link, error) {
	if err := l.Read(ctx); err != nil {
		return link.Link{}, err
	}
	return l.Get(ctx, code)
}

// Get gives a link; [link.ErrNoLink] where there is none.
func (l *Links) Get(ctx context.Context, code string) (link.Link, error) {
	k, err := l.Rows.Get(ctx, link.Fold(code))
	if err != nil {
		return link.Link{}, err
	}
	return l.shown(k), nil
}

// shown gives a link as owners see it.
func (l *Links) shown(k link.Kept) link.Link {
	out := k.Link
	if site := l.sites.Load().Of(k.Site); site != nil {
		out.URL = site.Origin + link.Path(k.Code)
	}
	if value, ok := l.by.Load(k.Code); ok {
		e := value.(*Entry)
		out.Used, out.ClicksNotRecorded = max(out.Used, e.used.Load()), max(out.ClicksNotRecorded, e.lost.Load())
	}
	out.State, out.Since = out.Said.Stand(k.Off, l.Now(), out.Used)
	return out
}

// checked is what destinations of a site's links are checked against.
func (l *Links) checked(site *sites.Site) link.Site {
	out := link.Site{Host: site.Host, Hosts: site.LinkHosts, Variants: site.Local.Variants().Values()}
	for _, other := range l.sites.Load().All() {
		out.Served = append(out.Served, other.Host)
	}
	return out
}

// daysListed is how many days of clicks stand in a list, today among them; askedListed how many codes that
// no link has.
const (
	daysListed  = 7
	askedListed = 20
)

// A Question is which links are listed.
type Question struct {
	Site, Search, State, Cursor string
	Limit                       int
}

// List lists links of a site.
func (l *Links) List(ctx context.Context, q Question) (link.Page, error) {
	page, now := link.Page{Links: []link.Row{}}, l.Now().UTC()
	asks := link.Question{Site: q.Site, Search: q.Search, Active: q.State == "active", Ended: q.State == "ended", Limit: q.Limit + 1}
	if q.Cursor != "" {
		text, err := base64.RawURLEncoding.DecodeString(q.Cursor)
		if err == nil {
			asks.Offset, err = strconv.Atoi(string(text))
		}
		if err != nil || asks.Offset < 0 || asks.Offset > 1<<31 {
			return page, invalid.Field("cursor", "it is not one of a page before", "Give what next said, or leave it out.")
		}
	}
	today := now.Truncate(24 * time.Hour)
	for n := range daysListed {
		asks.Days = append(asks.Days, today.AddDate(0, 0, n+1-daysListed))
	}
	list, err := l.Rows.List(ctx, asks, now)
	if err != nil {
		return page, err
	}
	if len(list) > q.Limit {
		list = list[:q.Limit]
		next := base64.RawURLEncoding.EncodeToString(strconv.AppendInt(nil, int64(asks.Offset+q.Limit), 10))
		page.Next = &next
	}
	for _, one := range list {
		row := link.Row{Link: l.shown(one.Kept), Days: one.Days, Last: one.Last}
		for _, n := range one.Days {
			row.Clicks += n
		}
		if one.Last != nil {
			row.Last.Name = placeName(one.Last.Place)
		}
		page.Links = append(page.Links, row)
	}
	if page.All, page.Active, err = l.Rows.Totals(ctx, q.Site, now); err != nil {
		return page, err
	}
	page.Asked, page.AskedOthers, err = l.Rows.Asked(ctx, q.Site, asks.Days[0], askedListed)
	return page, err
}
