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

	"eastporch/internal/core/document"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/link"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/sites"
)

// codesTried is how often a code is made up before somebody is told.
const codesTried = 10

func key(site, code string) document.Key {
	return document.Key{Site: site, Kind: document.Link, Name: code}
}

// Kind is how links are kept.
func (l *Links) Kind() documents.Kind {
	return documents.Kind{Word: "links", None: link.ErrNoLink, Restore: l.restore}
}

// none is the revision of what there is not yet.
var none = new(int64)

// Create makes a link of a site; code is the owner's own word, "" for one that is made up.
func (l *Links) Create(ctx context.Context, site *sites.Site, code string, said link.Said, by string) (link.Link, error) {
	said, err := l.checked(site).Check(said, nil, l.Now())
	if err != nil {
		return link.Link{}, err
	}
	save := func(code string) error {
		_, err := l.Documents.Save(ctx, key(site.Host, code), Written{Said: said}, documents.Saving{On: none, By: by})
		if errors.Is(err, document.ErrTaken) {
			err = link.ErrTaken
		}
		return err
	}
	if code != "" {
		if code, err = link.CheckCode(code); err == nil {
			err = save(code)
		}
	} else {
		err = link.ErrTaken
		for n := 0; n < codesTried && errors.Is(err, link.ErrTaken); n++ {
			code = link.NewCode()
			err = save(code)
		}
	}
	if err != nil {
		return link.Link{}, err
	}
	return l.Get(ctx, code)
}

// changeable is what a merge patch is applied to.
type changeable struct {
	link.Said
	Disabled bool `json:"disabled"`
}

// Change applies a merge patch (RFC 7396) to a link of one of the sites that may is true of. by is who changes it.
func (l *Links) Change(ctx context.Context, code string, patch []byte, may func(site string) error, by string) (link.Link, error) {
	for tries := 0; ; tries++ {
		e := l.Running().Find(code)
		if e == nil {
			return link.Link{}, link.ErrNoLink
		}
		if err := may(e.Site); err != nil {
			return link.Link{}, err
		}
		site, err := l.configured(e.Site)
		if err != nil {
			return link.Link{}, err
		}
		before, err := document.Read[Written](e.of)
		if err != nil {
			return link.Link{}, err
		}
		now := l.Now().UTC().Truncate(time.Millisecond)
		after, err := merged(changeable{before.Said, before.Disabled != nil}, patch)
		if err != nil {
			return link.Link{}, err
		}
		said := Written{Disabled: before.Disabled}
		if said.Said, err = l.checked(site).Check(after.Said, before.Until, now); err != nil {
			return link.Link{}, err
		}
		switch {
		case !after.Disabled:
			said.Disabled = nil
		case said.Disabled == nil:
			said.Disabled = &now
		}
		_, err = l.Documents.Save(ctx, e.of.Key, said, documents.Saving{On: &e.of.Revision, By: by})
		switch {
		case err == nil:
			return l.Get(ctx, e.Code)
		case !errors.Is(err, document.ErrChanged) || tries == codesTried:
			return link.Link{}, err
		}
		if err := l.Documents.Read(ctx); err != nil { // somebody else was faster
			return link.Link{}, err
		}
	}
}

// configured gives the site of a link, which the configuration may have no more.
func (l *Links) configured(host string) (*sites.Site, error) {
	known := l.Running().sites
	if site := known.Of(host); site != nil {
		return site, nil
	}
	return nil, invalid.Field("site", fmt.Sprintf("%.64q, which the link is of, is no longer configured", host), known.Hint())
}

// restore saves what a link was.
func (l *Links) restore(ctx context.Context, key document.Key, body json.RawMessage, by string) error {
	said := Written{}
	if err := json.Unmarshal(body, &said); err != nil {
		return err
	}
	site, err := l.configured(key.Site)
	if err != nil {
		return err
	}
	if said.Said, err = l.checked(site).Check(said.Said, said.Until, l.Now()); err == nil {
		_, err = l.Documents.Save(ctx, key, said, documents.Saving{By: by})
	}
	return err
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

// Get gives a link; [link.ErrNoLink] where there is none.
func (l *Links) Get(ctx context.Context, code string) (link.Link, error) {
	e := l.Running().Find(code)
	if e == nil {
		return link.Link{}, link.ErrNoLink
	}
	n, err := l.Rows.Counted(ctx, e.Code)
	if err != nil {
		return link.Link{}, err
	}
	out := e.Link
	out.Used, out.ClicksNotRecorded = n.Used, n.NotRecorded
	return l.shown(out, e.Off), nil
}

// shown gives a link as owners see it.
func (l *Links) shown(out link.Link, off *time.Time) link.Link {
	if site := l.Running().sites.Of(out.Site); site != nil {
		out.URL = site.Origin + link.Path(out.Code)
	}
	if value, ok := l.tallies.Load(out.Code); ok {
		of := value.(*tally)
		out.Used, out.ClicksNotRecorded = max(out.Used, of.used.Load()), max(out.ClicksNotRecorded, of.lost.Load())
	}
	out.State, out.Since = out.Said.Stand(off, l.Now(), out.Used)
	return out
}

// checked is what destinations of a site's links are checked against.
func (l *Links) checked(site *sites.Site) link.Site {
	out := link.Site{Host: site.Host, Hosts: site.LinkHosts, Variants: site.Local.Variants.Values()}
	for _, other := range l.Running().sites.All() {
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
		row := link.Row{Link: l.shown(one.Link, one.Off), Days: one.Days, Last: one.Last}
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
