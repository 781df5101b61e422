package visits

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/netip"
	"net/textproto"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"eastporch/api"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/link"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/server/sites"
)

// ahead is how far a visit's time may lie in the future.
const ahead = 5 * time.Minute

// States of a visit that was sent.
const (
	Accepted = "accepted"   // it is on the disk, and will be stored
	Stored   = "stored"     // it stands in the database
	Conflict = "conflict"   // another stands there under its id; it is set apart
	Missing  = "not stored" // nothing does: it was erased, is too old, or is set apart
	DryRun   = "dry run"    // it was read and made, and goes no further
	Refused  = "refused"    // a gate refuses it; it is counted there, and goes no further
)

// A Request is the one that visits are reported with.
type Request struct {
	Peer   netip.Addr
	Header map[string][]string
	Who    access.Identity
	// Own is how whoever sends the request was found.
	Own func() *caller.Trail
	// Context is who the visitor is for a site, by the header that the visit came with.
	Context func(header map[string][]string, site *sites.Site) card.RequestContext
	// Seen is told of every visitor that was found, with the trail where one was looked for.
	Seen func(c *card.Card, from netip.Addr, header map[string][]string, trail *caller.Trail)
	// Decided is told of what the gates said of a visit.
	Decided func(site string, c *card.Card, path string)
	// ShowsCard and ShowsVisit say that the sender wants its card, and the visit as it is stored.
	ShowsCard, ShowsVisit bool
}

// A Taken is a visit on its way, and what its sender hears of it.
type Taken struct {
	api.Taken
	Index  int        // of it in a list, for whoever reads one
	Own    *card.Card // of whoever sent it, as it is before the site's privacy; nil where it is not shown
	queued visit.QueuedVisit
	state  string // what it is already: [DryRun], [Refused] or ""
}

// Read checks a visit, enriches it, and leaves of it what its site keeps.
func (s *Visits) Read(body *api.NewVisit, from *Request) (*Taken, error) {
	site, err := s.siteOf(body.Site, from.Who)
	if err != nil {
		return nil, err
	}
	if who := from.Who; who.Key != nil && !who.Key.MayUse(site.Host) {
		return nil, &access.SiteError{Site: site.Host}
	}
	if (body.ID != nil || body.Time != nil || body.UserAgent != nil || body.Address != nil || body.Peer != nil || body.Headers != nil) && !from.Who.Scope.Includes(access.Server) {
		return nil, &access.ScopeError{Has: from.Who.Scope, Wants: access.Server}
	}
	id, at, err := s.identify(body, from.Who)
	if err != nil {
		return nil, err
	}
	visitor, header, err := whose(body, from)
	if err != nil {
		return nil, err
	}
	v := scratch.Get().(*visit.Visit)
	defer giveBack(v)
	t := &Taken{}
	v.ID, v.Time, v.Site, v.Path, v.Referrer, v.UserAgent, v.Link = id, at, site.Host, body.Path, body.Referrer, body.UserAgent, body.Link
	v.Earlier = []visit.EarlierFacts{}
	if agent := header["User-Agent"]; v.UserAgent == nil && len(agent) > 0 {
		v.UserAgent = &agent[0]
	}
	if err := checkTexts(v); err != nil {
		return nil, err
	}
	if err := checkClick(v, body.Destination, from.Who); err != nil {
		return nil, err
	}
	if v.Attributes, err = visit.CheckAttributes(body.Attributes); err != nil {
		return nil, invalid.Field("attributes", err.Error(), fmt.Sprintf("Give one JSON object of at most %d bytes.", visit.MaxAttributes))
	}
	req, target := from.Context(header, site), gate.ReadPath(v.Path)
	req.Target = &target
	switch {
	case body.Address != nil:
		v.Card, v.Trail = s.Cards.Given(visitor, header, req, at)
		from.Seen(&v.Card, visitor, header, nil)
	case body.Peer != nil:
		v.Card, v.Trail = s.Cards.Visitor(visitor, header, req, at)
		from.Seen(&v.Card, visitor, header, &v.Trail)
	default:
		if v.Trail = *from.Own(); from.Who.Scope == access.Server && v.Trail.Obtained != caller.ObtainedHeader {
			return nil, invalid.Field("address", "it is missing: a key of scope server reports somebody else's visit", "Give address where you know the visitor's, or peer and headers as you saw them. A page reports its own visitor, with a key of scope page.")
		}
		v.Card = s.Cards.Found(&v.Trail, header, req, at)
		from.Seen(&v.Card, visitor, header, &v.Trail)
	}
	if from.ShowsCard {
		own := v.Card
		if !from.Who.Scope.Includes(access.Server) {
			own = own.Public()
		}
		t.Own = &own
	}
	if !body.DryRun {
		from.Decided(site.Host, &v.Card, v.Path)
	}
	if v.Marks = s.Marker.Marks(v.UserAgent, v.Card.Labels); isClick(v) {
		v.Marks = s.Marker.OfClick(false, v.UserAgent, v.Card.Labels)
	}
	if body.Test {
		v.Marks = append(v.Marks, visit.MarkTest)
	}
	gpc := header["Sec-Gpc"]
	if err = s.Privacy.Keep(v, site.Privacy, len(gpc) > 0 && strings.TrimSpace(gpc[0]) == "1"); err != nil {
		return nil, err
	}
	t.Taken = api.Taken{ID: v.ID, Time: v.Time, Marks: v.Marks}
	switch {
	case body.DryRun:
		t.state = DryRun
	case v.Card.Gate != nil && v.Card.Gate.Outcome == gate.Refuse:
		t.state = Refused
	}
	if from.ShowsVisit {
		shown := *v
		t.Visit = &shown
	}
	t.queued, err = s.facts.Queued(v)
	return t, err
}

// scratch are visits to write in, which are large.
var scratch = sync.Pool{New: func() any { return new(visit.Visit) }}

func giveBack(v *visit.Visit) {
	*v = visit.Visit{}
	scratch.Put(v)
}

// siteOf gives the site that a visit is of: the one that it names, or else the only one of the
// key, or the only one there is.
func (s *Visits) siteOf(host string, who access.Identity) (*sites.Site, error) {
	if host == "" && who.Key != nil && len(who.Key.Sites) == 1 {
		host = who.Key.Sites[0]
	}
	if all := s.Sites.All(); host == "" && len(all) == 1 {
		return all[0], nil
	}
	if host == "" {
		return nil, invalid.Field("site", "it is missing, and there are several", s.Sites.Hint())
	}
	return s.Sites.Find(host)
}

// Take brings visits onto the disk, all of them or none, and says of each what
// has become of it. Above 0, wait is how long it waits until they stand in the database.
func (s *Visits) Take(ctx context.Context, wait time.Duration, list ...*Taken) error {
	queued := make([]visit.QueuedVisit, 0, len(list))
	for _, t := range list {
		if t.State = t.state; t.state == "" {
			t.State = Accepted
			queued = append(queued, t.queued)
		}
	}
	if len(queued) == 0 {
		return nil
	}
	index, err := s.Queue.Accept(ctx, queued)
	if err != nil {
		return err
	}
	if wait > 0 {
		s.await(ctx, wait, index, list)
	}
	return nil
}

// await waits until visits have been dealt with, and says what has become of each. Where
// that cannot be told in time, they stay as accepted as they are.
func (s *Visits) await(ctx context.Context, most time.Duration, index uint64, list []*Taken) {
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	if s.Queue.Wait(ctx, index) != nil {
		return
	}
	var sent []*Taken
	var rows []visit.Row
	for _, t := range list {
		if t.state == "" {
			sent, rows = append(sent, t), append(rows, t.queued.Row)
		}
	}
	standing, err := s.Store.Standing(ctx, rows)
	if err != nil {
		return
	}
	for _, t := range sent {
		t.State = Missing
	}
	for _, at := range standing {
		if sent[at.Index].State = Conflict; at.Same {
			sent[at.Index].State = Stored
		}
	}
	for _, t := range sent {
		if t.State != Stored {
			t.Visit = nil // it is not as it is stored
		}
	}
}

// identify gives a visit's id and time, of which either may be given; a page gives a nonce.
func (s *Visits) identify(body *api.NewVisit, who access.Identity) (uuid.UUID, time.Time, error) {
	given, when, now := body.ID, body.Time, s.now()
	if body.Nonce != nil {
		if given != nil || when != nil {
			return uuid.Nil, now, invalid.Field("nonce", "an id or a time is given beside it", "A server gives an id, which serves the same end; a page gives a nonce.")
		}
		return s.once(*body.Nonce, body.Site, who)
	}
	at, field := now, "time"
	if when != nil {
		t, err := time.Parse(time.RFC3339, *when)
		if err != nil {
			return uuid.Nil, at, invalid.Field("time", fmt.Sprintf("%.40q is not a time", *when), "Write it like 2026-11-14T06:00:00.000Z.")
		}
		at = t.Truncate(time.Millisecond)
	}
	var id uuid.UUID
	if given != nil {
		var err error
		id, err = uuid.Parse(*given)
		of, ok := visit.TimeOf(id)
		if err != nil || !ok {
			return id, of, invalid.Field("id", "this is not a UUID of version 7", "Make one whose time is the visit's (RFC 9562), or leave the id out.")
		}
		if when != nil && !of.Equal(at) {
			return id, of, invalid.Field("time", "it is not that of the id", "Give one of the two, or the same time in both.")
		}
		at, field = of, "id"
	}
	oldest := s.Store.Oldest(now)
	switch {
	case at.After(now.Add(ahead)):
		return id, at, invalid.Field(field, "its time lies more than 5 minutes ahead", "Check the clock of the machine that made it.")
	case at.Before(oldest) || at.Year() < 1971:
		return id, at, invalid.Field(field, "its time lies before what is kept", fmt.Sprintf("Visits are kept since %s; retention_days in the configuration says for how long.", oldest.Format(time.DateOnly)))
	}
	if given == nil {
		var err error
		if id, err = visit.NewID(at, rand.Reader); err != nil {
			return id, at, err
		}
		at, _ = visit.TimeOf(id)
	}
	return id, at, nil
}

// checkTexts refuses what cannot be stored, but shortens an agent, which the
// visitor's program chose and nobody can mend.
func checkTexts(v *visit.Visit) error {
	if v.Path == "" {
		return invalid.Field("path", "it is missing", "Give the path of the page, such as /programme.")
	}
	if !strings.HasPrefix(v.Path, "/") {
		return invalid.Field("path", "it does not begin with /", "Give the path of the page, such as /programme.")
	}
	if err := plain.Check(v.Path, visit.MaxPath); err != nil {
		return invalid.Field("path", err.Error(), "Give the path without its query.")
	}
	if v.Referrer != nil {
		if err := plain.Check(*v.Referrer, visit.MaxReferrer); err != nil {
			return invalid.Field("referrer", err.Error(), "Leave it out, or give the page that linked here.")
		}
	}
	if v.Link != nil {
		const hint = "Give the name of the link, or leave it out."
		if err := plain.Check(*v.Link, visit.MaxLink); err != nil {
			return invalid.Field("link", err.Error(), hint)
		}
		if *v.Link == "" {
			return invalid.Field("link", "it is empty", hint)
		}
	}
	if v.UserAgent != nil {
		clean := plain.Clean(*v.UserAgent, visit.MaxAgent)
		v.UserAgent = &clean
	}
	return nil
}

// checkClick refuses visits that pass for clicks on links, which the service records itself; an owner may
// give those of the past.
func checkClick(v *visit.Visit, destination *string, who access.Identity) error {
	switch {
	case isClick(v) && !who.Scope.Includes(access.Admin):
		return invalid.Field("path", "it is that of a link, whose clicks the service records itself", "Give the path of the page that the link led to; a key of scope admin may give clicks of the past.")
	case destination == nil:
		return nil
	case !isClick(v):
		return invalid.Field("destination", "this is no click on a link", "Leave it out, or give link and its path.")
	}
	if err := plain.Check(*destination, visit.MaxPath); err != nil {
		return invalid.Field("destination", err.Error(), "Give the destination as the link has it.")
	}
	v.Destination = destination
	return nil
}

func isClick(v *visit.Visit) bool { return v.Link != nil && v.Path == link.Path(*v.Link) }

// whose gives the visitor that is reported, or the peer, with the header; those of the
// request itself where none are.
func whose(b *api.NewVisit, from *Request) (netip.Addr, map[string][]string, error) {
	if b.Address == nil {
		return Seen(b.Peer, b.Headers, from.Peer, from.Header)
	}
	if b.Peer != nil {
		return netip.Addr{}, nil, invalid.Field("peer", "it is given beside address", "Give address where you know the visitor, or peer and headers to have the visitor found.")
	}
	visitor, err := addr.Parse(*b.Address)
	if err != nil {
		return netip.Addr{}, nil, invalid.Field("address", err.Error(), "Give one IPv4 or IPv6 address.")
	}
	return visitor, canonical(b.Headers), nil
}

// Seen gives the peer and header that somebody reports, or those of the request
// itself where none are.
func Seen(peer *string, headers api.Headers, own netip.Addr, ownHeader map[string][]string) (netip.Addr, map[string][]string, error) {
	if peer == nil && headers == nil {
		return own, ownHeader, nil
	}
	if peer == nil {
		return netip.Addr{}, nil, invalid.Field("peer", "headers are given without it", "Give peer, the other end of the connection that you saw, or address where you know the visitor.")
	}
	if *peer == "unix" {
		return netip.Addr{}, canonical(headers), nil
	}
	from, err := addr.Parse(*peer)
	if err != nil {
		return netip.Addr{}, nil, invalid.Field("peer", err.Error(), "Give one IPv4 or IPv6 address.")
	}
	return from, canonical(headers), nil
}

// canonical gives headers under their canonical names.
func canonical(headers api.Headers) map[string][]string {
	header := make(map[string][]string, len(headers))
	for name, lines := range headers {
		key := textproto.CanonicalMIMEHeaderKey(name)
		header[key] = append(header[key], lines...)
	}
	return header
}

// Of gives what the sender of many visits hears of it.
func (t *Taken) Of() api.TakenOne {
	return api.TakenOne{Index: t.Index, ID: &t.ID, Time: &t.Time, State: &t.State, Marks: t.Marks, Visit: t.Visit}
}
