package httpapi

import (
	"bytes"
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

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
)

// ahead is how far the time of a given id may lie in the future.
const ahead = 5 * time.Minute

// newVisit is the body of a visit to store.
type newVisit struct {
	ID       *string `json:"id"`
	Site     string  `json:"site"`
	Path     string  `json:"path"`
	Referrer *string `json:"referrer"`
	seen
}

type stored struct {
	ID     uuid.UUID    `json:"id"`
	Time   time.Time    `json:"time"`
	Stored bool         `json:"stored"`
	Visit  *visit.Visit `json:"visit,omitempty"`
}

func (a *api) addVisit(c *gin.Context) {
	v, mode, err := a.readVisit(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	v = v.Keep(mode)
	added, err := a.Store.Add(c, v)
	if err != nil {
		a.fail(c, err)
		return
	}
	answer := stored{ID: v.ID, Time: v.Time, Stored: added}
	if wantsRepresentation(c) {
		if !added { // the first wins
			if v, err = a.Store.Visit(c, v.ID); err != nil {
				a.fail(c, err)
				return
			}
		}
		answer.Visit = &v
		c.Header("Preference-Applied", "return=representation")
	}
	private(c)
	status := http.StatusCreated
	if !added {
		status = http.StatusOK
	}
	c.JSON(status, answer)
}

// readVisit checks a visit and enriches it.
func (a *api) readVisit(c *gin.Context) (visit.Visit, visit.Mode, error) {
	var body newVisit
	if err := readJSON(c, &body, false); err != nil {
		return visit.Visit{}, 0, err
	}
	site, ok := a.sites[body.Site]
	if !ok {
		return visit.Visit{}, 0, badField("site", fmt.Sprintf("%.64q is not a configured site", body.Site), "Configured are "+a.siteList()+".")
	}
	who := callerOf(c)
	if who.key != nil && !who.key.MayUse(site.Host) {
		return visit.Visit{}, 0, forbidden("site", "The key is bound to other sites", fmt.Sprintf("This key may not be used for %s.", site.Host), "Use a key that is bound to this site.")
	}
	if (body.ID != nil || body.Peer != nil || body.Headers != nil) && !who.scope.Includes(access.Server) {
		return visit.Visit{}, 0, lacks(who.scope, access.Server)
	}
	now := a.Now()
	id, at, err := a.identify(body.ID, now)
	if err != nil {
		return visit.Visit{}, 0, err
	}
	from, header, err := body.request(c)
	if err != nil {
		return visit.Visit{}, 0, err
	}
	v := visit.Visit{ID: id, Time: at, Site: site.Host, Path: body.Path, Referrer: body.Referrer, Earlier: []visit.Reading{}}
	if agent := header["User-Agent"]; len(agent) > 0 {
		v.Agent = &agent[0]
	}
	if err := checkTexts(&v); err != nil {
		return visit.Visit{}, 0, err
	}
	v.Card, v.Trail = a.Enrich.Visitor(from, header, at)
	a.observed(from, header, v.Card, v.Trail)
	return v, site.Privacy, nil
}

func (a *api) siteList() string {
	var hosts []string
	for _, s := range a.Sites {
		hosts = append(hosts, s.Host)
	}
	return strings.Join(hosts, ", ")
}

func (a *api) identify(given *string, now time.Time) (uuid.UUID, time.Time, error) {
	if given == nil {
		id, err := visit.NewID(now, rand.Reader)
		at, _ := visit.TimeOf(id)
		return id, at, err
	}
	id, err := uuid.Parse(*given)
	at, ok := visit.TimeOf(id)
	switch {
	case err != nil || !ok:
		return id, at, badField("id", "this is no UUID of version 7", "Make one whose time is the visit's (RFC 9562), or leave the id out.")
	case at.After(now.Add(ahead)):
		return id, at, badField("id", "its time lies more than 5 minutes ahead", "Check the clock of the machine that made it.")
	}
	return id, at, nil
}

// checkTexts refuses what cannot be stored, but shortens an agent, which the
// visitor's program chose and nobody can mend.
func checkTexts(v *visit.Visit) error {
	if !strings.HasPrefix(v.Path, "/") {
		return badField("path", "it does not begin with /", "Give the path of the page, such as /programme.")
	}
	if err := plain.Check(v.Path, visit.MaxPath); err != nil {
		return badField("path", err.Error(), "Give the path without its query.")
	}
	if v.Referrer != nil {
		if err := plain.Check(*v.Referrer, visit.MaxReferrer); err != nil {
			return badField("referrer", err.Error(), "Leave it out, or give the page that linked here.")
		}
	}
	if v.Agent != nil {
		clean := plain.Clean(*v.Agent, visit.MaxAgent)
		v.Agent = &clean
	}
	return nil
}

// request gives the peer and header that are reported, or those of the request
// itself where none are.
func (s seen) request(c *gin.Context) (netip.Addr, map[string][]string, error) {
	if s.Peer == nil && s.Headers == nil {
		return peer(c.Request), c.Request.Header, nil
	}
	if s.Peer == nil {
		return netip.Addr{}, nil, badField("peer", "headers are given without it", "Give the address of the other end of the connection that you saw.")
	}
	from, err := addr.Parse(*s.Peer)
	if *s.Peer == "unix" {
		from, err = netip.Addr{}, nil
	}
	if err != nil {
		return netip.Addr{}, nil, badField("peer", err.Error(), "Give one IPv4 or IPv6 address.")
	}
	header := make(map[string][]string, len(s.Headers))
	for name, lines := range s.Headers {
		key := textproto.CanonicalMIMEHeaderKey(name)
		header[key] = append(header[key], lines...)
	}
	return from, header, nil
}

func (a *api) listVisits(c *gin.Context) {
	limit, before, err := pageOf(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	f, count, ok := a.counted(c)
	if !ok {
		return
	}
	visits, err := a.Store.Visits(c, f, before, limit+1)
	if err != nil {
		a.fail(c, err)
		return
	}
	var next *string
	if len(visits) > limit {
		visits = visits[:limit]
		id := visits[limit-1].ID.String()
		next = &id
	}
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, gin.H{"visits": append([]visit.Visit{}, visits...), "next": next, "count": count})
}

func (a *api) getVisit(c *gin.Context) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		a.fail(c, badField("id", "this is no UUID", "Give the id of a visit."))
		return
	}
	v, err := a.Store.Visit(c, id)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, v)
}

// counted reads the filter of a list or report and counts what it picks; where
// ok is false the request has been answered with the problem.
func (a *api) counted(c *gin.Context) (f visit.Filter, count visit.Count, ok bool) {
	f, err := a.filter(c)
	if err == nil {
		count, err = a.Store.Count(c, f)
	}
	if err != nil {
		a.fail(c, err)
	}
	return f, count, err == nil
}

// filter reads the query of a list or report.
func (a *api) filter(c *gin.Context) (visit.Filter, error) {
	f := visit.Filter{
		Site: c.Query("site"), CountryCode: c.Query("country_code"), City: c.Query("city"),
		Level: atlas.Level(c.Query("level")), Path: c.Query("path"),
	}
	if _, ok := a.sites[f.Site]; !ok {
		return f, badField("site", fmt.Sprintf("%.64q is not a configured site", f.Site), "Configured are "+a.siteList()+".")
	}
	for name, at := range map[string]*time.Time{"from": &f.From, "to": &f.To} {
		if text := c.Query(name); text != "" {
			t, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return f, badField(name, fmt.Sprintf("%.40q is not a time", text), "Write it like 2026-11-14T06:00:00Z.")
			}
			*at = t
		}
	}
	if f.CountryCode != "" {
		if err := almanac.CheckCode(f.CountryCode); err != nil {
			return f, badField("country_code", err.Error(), "Give an alpha-2 code of ISO 3166-1.")
		}
	}
	switch f.Level {
	case "", atlas.City, atlas.Region, atlas.Country, atlas.Continent, atlas.None:
	default:
		return f, badField("level", fmt.Sprintf("%.20q is not a level", string(f.Level)), "Give city, region, country, continent or none.")
	}
	if text := c.Query("set_aside"); text != "" {
		aside, err := strconv.ParseBool(text)
		if err != nil {
			return f, badField("set_aside", fmt.Sprintf("%.20q is neither true nor false", text), "Give true or false.")
		}
		f.SetAside = &aside
	}
	for name, text := range map[string]string{"city": f.City, "path": f.Path} {
		if err := plain.Check(text, visit.MaxPath); err != nil {
			return f, badField(name, err.Error(), "Give it as plain text.")
		}
	}
	return f, nil
}

func wantsRepresentation(c *gin.Context) bool {
	for _, line := range c.Request.Header.Values("Prefer") {
		for part := range strings.SplitSeq(line, ",") {
			if strings.EqualFold(strings.TrimSpace(part), "return=representation") {
				return true
			}
		}
	}
	return false
}

// readJSON reads one JSON value into body. A field that body does not have, a
// wrong type and anything after the value are problems that name the place.
func readJSON(c *gin.Context, body any, mayBeEmpty bool) error {
	text, err := io.ReadAll(c.Request.Body)
	if err != nil {
		return err
	}
	if len(bytes.TrimSpace(text)) == 0 {
		if mayBeEmpty {
			return nil
		}
		return badRequest("bad-json", "The body is not usable JSON", "The body is empty.", "Send a JSON object.")
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	err = decoder.Decode(body)
	if err == nil && decoder.More() {
		err = errors.New("something follows the JSON object")
	}
	if err == nil {
		return nil
	}
	var wrongType *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &wrongType):
		return badField(wrongType.Field, fmt.Sprintf("a JSON %s does not fit here", wrongType.Value), "See /openapi.json for its type.")
	case errors.As(err, &syntax):
		return badRequest("bad-json", "The body is not usable JSON", fmt.Sprintf("At byte %d: %s.", syntax.Offset, syntax), "Send a JSON object.")
	}
	if field, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		return badField(strings.Trim(field, `"`), "this field is not known", "See /openapi.json for the fields.")
	}
	return badRequest("bad-json", "The body is not usable JSON", strings.TrimPrefix(err.Error(), "json: ")+".", "Send a JSON object.")
}
