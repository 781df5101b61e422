package httpapi

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/textproto"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
)

const (
	// ahead is how far a visit's time may lie in the future.
	ahead = 5 * time.Minute
	// manyVisits bounds the visits of one request.
	manyVisits = 1000
	// waitMost bounds how long a request waits for its visits to be stored.
	waitMost = 20 * time.Second
)

// newVisit is the body of a visit to store.
type newVisit struct {
	ID         *string         `json:"id"`
	Time       *string         `json:"time"`
	Site       string          `json:"site"`
	Path       string          `json:"path"`
	Referrer   *string         `json:"referrer"`
	UserAgent  *string         `json:"user_agent"`
	Link       *string         `json:"link"`
	Attributes json.RawMessage `json:"attributes"`
	Test       bool            `json:"test"`
	DryRun     bool            `json:"dry_run"`
	Address    *string         `json:"address"`
	seen
}

// States of a visit that was sent.
const (
	stateAccepted = "accepted"   // it is on the disk, and will be stored
	stateStored   = "stored"     // it stands in the database
	stateConflict = "conflict"   // another stands there under its id; it is set apart
	stateMissing  = "not stored" // nothing does: it was erased, is too old, or is set apart
	stateDryRun   = "dry run"    // it was read and made, and goes no further
)

// taken is what the sender of a visit hears of it.
type taken struct {
	ID    uuid.UUID    `json:"id"`
	Time  time.Time    `json:"time"`
	State string       `json:"state"`
	Marks []string     `json:"marks"`
	Visit *visit.Visit `json:"visit,omitempty"`

	dryRun bool
	whole  visit.Visit
	queued visit.QueuedVisit
}

// takenOrRefused is the same of one of many.
type takenOrRefused struct {
	Index int `json:"index"`
	*taken
	Problem *problem `json:"problem,omitempty"`
}

func (a *api) addVisit(c *gin.Context) {
	text, err := io.ReadAll(c.Request.Body)
	if err != nil {
		a.fail(c, err)
		return
	}
	prefer := preferences(c)
	private(c)
	if list := strings.TrimSpace(string(text)); strings.HasPrefix(list, "[") {
		a.addMany(c, text, prefer)
		return
	}
	t, err := a.readVisit(c, func(body any) error { return decode(text, body) })
	if err == nil {
		err = a.take(c, prefer, t)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.JSON(statusOf(t), t)
}

// addMany takes a list of visits. What is wrong with one does not harm another.
func (a *api) addMany(c *gin.Context, text []byte, prefer preference) {
	var answers []takenOrRefused
	var good []*taken
	err := eachOf(text, func(decode func(any) error) error {
		i := len(answers)
		if i == manyVisits {
			return badRequest("invalid-json", "Invalid JSON", fmt.Sprintf("The list has more than %d visits.", manyVisits), fmt.Sprintf("Send 1 to %d at once.", manyVisits))
		}
		t, err := a.readVisit(c, decode)
		if errors.Is(err, errNoJSON) {
			return err
		}
		answers = append(answers, takenOrRefused{Index: i, taken: t})
		if err != nil {
			p := toProblem(err)
			p.RequestID = requestID(c)
			answers[i].taken, answers[i].Problem = nil, &p
			return nil
		}
		good = append(good, t)
		return nil
	})
	if err == nil && len(answers) == 0 {
		err = badRequest("invalid-json", "Invalid JSON", "The list has no visits.", fmt.Sprintf("Send 1 to %d at once.", manyVisits))
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	status := http.StatusUnprocessableEntity
	if len(good) > 0 {
		if err := a.take(c, prefer, good...); err != nil {
			a.fail(c, err)
			return
		}
		if status = statusOf(good[0]); status == http.StatusConflict {
			status = http.StatusCreated // the list was dealt with; each visit says how
		}
	}
	c.JSON(status, gin.H{"visits": answers, "accepted": len(good), "refused": len(answers) - len(good)})
}

func statusOf(t *taken) int {
	switch t.State {
	case stateAccepted:
		return http.StatusAccepted
	case stateStored:
		return http.StatusCreated
	case stateConflict, stateMissing:
		return http.StatusConflict
	}
	return http.StatusOK
}

// take brings visits onto the disk, all of them or none, and says of each what
// has become of it. Where the sender prefers to wait, it waits until they stand
// in the database.
func (a *api) take(c *gin.Context, prefer preference, list ...*taken) error {
	var queued []visit.QueuedVisit
	for _, t := range list {
		if t.State = stateDryRun; !t.dryRun {
			t.State = stateAccepted
			queued = append(queued, t.queued)
		}
		if prefer.representation {
			t.Visit = &t.whole
		}
	}
	if len(queued) > 0 {
		index, err := a.Intake.Accept(c, queued)
		if err != nil {
			return err
		}
		if prefer.wait > 0 {
			a.await(c, prefer.wait, index, list)
		}
	}
	if prefer.applied != "" {
		c.Header("Preference-Applied", prefer.applied)
	}
	return nil
}

// await waits until visits have been dealt with, and says what has become of each. Where
// that cannot be told in time, they stay as accepted as they are.
func (a *api) await(c *gin.Context, most time.Duration, index uint64, list []*taken) {
	ctx, cancel := context.WithTimeout(c, most)
	defer cancel()
	if a.Intake.Wait(ctx, index) != nil {
		return
	}
	var sent []*taken
	var rows []visit.Row
	for _, t := range list {
		if !t.dryRun {
			sent, rows = append(sent, t), append(rows, t.queued.Row)
		}
	}
	standing, err := a.Store.Standing(ctx, rows)
	if err != nil {
		return
	}
	for _, t := range sent {
		t.State = stateMissing
	}
	for _, s := range standing {
		if sent[s.Index].State = stateConflict; s.Same {
			sent[s.Index].State = stateStored
		}
	}
	for _, t := range sent {
		if t.State != stateStored {
			t.Visit = nil // it is not as it is stored
		}
	}
}

// readVisit checks a visit, enriches it, and leaves of it what its site keeps.
func (a *api) readVisit(c *gin.Context, decode func(any) error) (*taken, error) {
	var body newVisit
	err := decode(&body)
	if errors.Is(err, errNotUTF8) {
		err = body.notUTF8()
	}
	if err != nil {
		return nil, err
	}
	site, ok := a.sites[body.Site]
	if !ok {
		return nil, invalidField("site", fmt.Sprintf("%.64q is not a configured site", body.Site), "Configured are "+a.siteList()+".")
	}
	who := callerOf(c)
	if who.key != nil && !who.key.MayUse(site.Host) {
		return nil, forbidden("site", "Key not valid for this site", fmt.Sprintf("This key may not be used for %s.", site.Host), "Use a key that is bound to this site.")
	}
	if (body.ID != nil || body.Time != nil || body.UserAgent != nil || body.Address != nil || body.Peer != nil || body.Headers != nil) && !who.scope.Includes(access.Server) {
		return nil, lacks(who.scope, access.Server)
	}
	id, at, err := a.identify(body.ID, body.Time)
	if err != nil {
		return nil, err
	}
	from, header, err := body.request(c)
	if err != nil {
		return nil, err
	}
	v := visit.Visit{ID: id, Time: at, Site: site.Host, Path: body.Path, Referrer: body.Referrer, UserAgent: body.UserAgent, Link: body.Link, Earlier: []visit.EarlierFacts{}}
	if agent := header["User-Agent"]; v.UserAgent == nil && len(agent) > 0 {
		v.UserAgent = &agent[0]
	}
	if err := checkTexts(&v); err != nil {
		return nil, err
	}
	if v.Attributes, err = visit.CheckAttributes(body.Attributes); err != nil {
		return nil, invalidField("attributes", err.Error(), fmt.Sprintf("Give one JSON object of at most %d bytes.", visit.MaxAttributes))
	}
	if body.Address != nil {
		v.Card, v.Trail = a.Enrich.Given(from, header, a.requestContext(c, header, site), at)
	} else {
		v.Card, v.Trail = a.Enrich.Visitor(from, header, a.requestContext(c, header, site), at)
		a.Watch.Observe(from, header, v.Trail)
	}
	a.countVisitor(v.Card)
	v.Marks = a.Marker.Marks(v.UserAgent, v.Card.Labels)
	if body.Test {
		v.Marks = append(v.Marks, visit.MarkTest)
	}
	gpc := header["Sec-Gpc"]
	if v, err = a.Privacy.Keep(v, site.Privacy, len(gpc) > 0 && strings.TrimSpace(gpc[0]) == "1"); err != nil {
		return nil, err
	}
	t := &taken{ID: v.ID, Time: v.Time, Marks: v.Marks, whole: v, dryRun: body.DryRun}
	t.queued, err = v.Queued()
	return t, err
}

// notUTF8 names the field whose text was not UTF-8, which the reader of JSON has
// put U+FFFD into.
func (b newVisit) notUTF8() error {
	const hint = "Send the body as UTF-8."
	for name, text := range map[string]*string{"site": &b.Site, "path": &b.Path, "referrer": b.Referrer, "user_agent": b.UserAgent, "link": b.Link} {
		if text != nil && strings.ContainsRune(*text, utf8.RuneError) {
			return invalidField(name, "it is not valid UTF-8", hint)
		}
	}
	if !utf8.Valid(b.Attributes) {
		return invalidField("attributes", "it is not valid UTF-8", hint)
	}
	return invalidField("headers", "it is not valid UTF-8", hint)
}

func (a *api) siteList() string {
	var hosts []string
	for _, s := range a.Sites {
		hosts = append(hosts, s.Host)
	}
	return strings.Join(hosts, ", ")
}

// identify gives a visit's id and time, of which either may be given.
func (a *api) identify(given, when *string) (uuid.UUID, time.Time, error) {
	now := a.Now()
	at, field := now, "time"
	if when != nil {
		t, err := time.Parse(time.RFC3339, *when)
		if err != nil {
			return uuid.Nil, at, invalidField("time", fmt.Sprintf("%.40q is not a time", *when), "Write it like 2026-11-14T06:00:00.000Z.")
		}
		at = t.Truncate(time.Millisecond)
	}
	var id uuid.UUID
	if given != nil {
		var err error
		id, err = uuid.Parse(*given)
		of, ok := visit.TimeOf(id)
		if err != nil || !ok {
			return id, of, invalidField("id", "this is not a UUID of version 7", "Make one whose time is the visit's (RFC 9562), or leave the id out.")
		}
		if when != nil && !of.Equal(at) {
			return id, of, invalidField("time", "it is not that of the id", "Give one of the two, or the same time in both.")
		}
		at, field = of, "id"
	}
	oldest := a.Store.Oldest(now)
	switch {
	case at.After(now.Add(ahead)):
		return id, at, invalidField(field, "its time lies more than 5 minutes ahead", "Check the clock of the machine that made it.")
	case at.Before(oldest) || at.Year() < 1971:
		return id, at, invalidField(field, "its time lies before what is kept", fmt.Sprintf("Visits are kept since %s; retention_days in the configuration says for how long.", oldest.Format(time.DateOnly)))
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
	if !strings.HasPrefix(v.Path, "/") {
		return invalidField("path", "it does not begin with /", "Give the path of the page, such as /programme.")
	}
	if err := plain.Check(v.Path, visit.MaxPath); err != nil {
		return invalidField("path", err.Error(), "Give the path without its query.")
	}
	if v.Referrer != nil {
		if err := plain.Check(*v.Referrer, visit.MaxReferrer); err != nil {
			return invalidField("referrer", err.Error(), "Leave it out, or give the page that linked here.")
		}
	}
	if v.Link != nil {
		if err := plain.Check(*v.Link, visit.MaxLink); err != nil || *v.Link == "" {
			return invalidField("link", reasonOr(err, "it is empty"), "Give the name of the link, or leave it out.")
		}
	}
	if v.UserAgent != nil {
		clean := plain.Clean(*v.UserAgent, visit.MaxAgent)
		v.UserAgent = &clean
	}
	return nil
}

// request gives the visitor that is reported, or the peer, with the header; those of the
// request itself where none are.
func (b newVisit) request(c *gin.Context) (netip.Addr, map[string][]string, error) {
	if b.Address == nil {
		return b.seen.request(c)
	}
	if b.Peer != nil {
		return netip.Addr{}, nil, invalidField("peer", "it is given beside address", "Give address where you know the visitor, or peer and headers to have the visitor found.")
	}
	visitor, err := addr.Parse(*b.Address)
	if err != nil {
		return netip.Addr{}, nil, invalidField("address", err.Error(), "Give one IPv4 or IPv6 address.")
	}
	return visitor, b.header(), nil
}

// request gives the peer and header that are reported, or those of the request
// itself where none are.
func (s seen) request(c *gin.Context) (netip.Addr, map[string][]string, error) {
	if s.Peer == nil && s.Headers == nil {
		return peer(c.Request), c.Request.Header, nil
	}
	if s.Peer == nil {
		return netip.Addr{}, nil, invalidField("peer", "headers are given without it", "Give peer, the other end of the connection that you saw, or address where you know the visitor.")
	}
	from, err := addr.Parse(*s.Peer)
	if *s.Peer == "unix" {
		from, err = netip.Addr{}, nil
	}
	if err != nil {
		return netip.Addr{}, nil, invalidField("peer", err.Error(), "Give one IPv4 or IPv6 address.")
	}
	return from, s.header(), nil
}

// header gives the headers under their canonical names.
func (s seen) header() map[string][]string {
	header := make(map[string][]string, len(s.Headers))
	for name, lines := range s.Headers {
		key := textproto.CanonicalMIMEHeaderKey(name)
		header[key] = append(header[key], lines...)
	}
	return header
}

func reasonOr(err error, reason string) string {
	if err != nil {
		return err.Error()
	}
	return reason
}

// preference is what a sender prefers (RFC 7240).
type preference struct {
	representation bool          // return=representation
	wait           time.Duration // wait=
	applied        string        // what of it is honoured
}

func preferences(c *gin.Context) (p preference) {
	var applied []string
	for _, line := range c.Request.Header.Values("Prefer") {
		for part := range strings.SplitSeq(line, ",") {
			word := strings.ToLower(strings.TrimSpace(part))
			seconds, isWait := strings.CutPrefix(word, "wait=")
			switch n, err := strconv.Atoi(seconds); {
			case word == "return=representation":
				p.representation = true
			case isWait && err == nil && n > 0:
				p.wait = min(time.Duration(n)*time.Second, waitMost)
			default:
				continue
			}
			applied = append(applied, word)
		}
	}
	p.applied = strings.Join(applied, ", ")
	return p
}
