package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/api"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/files/answers"
	visitfile "eastporch/internal/files/visits"
	"eastporch/internal/server/companions"
	"eastporch/internal/server/guard"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
	"eastporch/internal/server/sites"
	"eastporch/internal/server/visits"
)

// manyVisits bounds the visits of one request.
const manyVisits = 1000

func (h *handlers) addVisit(c *gin.Context) {
	text, err := request.Body(c)
	if err != nil {
		h.fail(c, err)
		return
	}
	prefer := request.Preferences(c)
	respond.Private(c)
	if strings.HasPrefix(strings.TrimSpace(string(text)), "[") {
		h.addMany(c, text, prefer)
		return
	}
	_, shows := c.GetQuery("fields")
	t, err := h.reader(c, shows, prefer)(func(body any) error { return request.Decode(text, body) })
	if err == nil {
		err = h.take(c, prefer, t)
	}
	if err == nil && shows { // whatever its page would like to read, the visit is taken
		t.Card, err = ownCard(t.Own, c.Query("fields"))
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	respond.JSON(c, statusOf(t), &t.Taken)
}

// ownCard gives the parts of a visitor's card that fields name, all of it for none.
func ownCard(own *card.Card, fields string) (any, error) {
	made := own.In(own.Locale.Language)
	paths := answers.Paths(fields)
	if len(paths) == 0 {
		return &made, nil
	}
	text, err := answers.Render("json", &made, "", paths)
	if err != nil {
		return nil, invalid.Field("fields", err.Error()+"; the visit itself was taken", "Paths go by the keys of a card, such as location.city or clock.")
	}
	return json.RawMessage(text), nil
}

// reader gives what reads the visits of a request and hands them to the service. Where their sender is shown
// a card, the companions in it are asked.
func (h *handlers) reader(c *gin.Context, shows bool, prefer request.Preference) func(decode func(any) error) (*visits.Taken, error) {
	from := visits.Request{
		Peer: peer(c.Request), Header: c.Request.Header, Who: callerOf(c), Seen: h.seen, ShowsCard: shows, ShowsVisit: prefer.Representation,
		Own: func() *caller.Trail { return h.trail(c) },
		Decided: func(site string, made *card.Card, path string) {
			h.Content.Gates.Counter.Count(site, gate.AskedVisit, made.Gate, 0, plain.Value(made.Location.CountryCode), path)
		},
		Context: func(header map[string][]string, site *sites.Site) card.RequestContext {
			req := h.requestContext(c, header, site)
			if shows { // a server that only reports costs no question
				fields := answers.Paths(c.Query("fields"))
				req.Ask = len(fields) > 0 && companions.Asks(site, fields)
			}
			return req
		},
	}
	return func(decode func(any) error) (*visits.Taken, error) {
		var body api.NewVisit
		err := decode(&body)
		if errors.Is(err, request.ErrNotUTF8) {
			err = notUTF8(&body)
		}
		if err != nil {
			return nil, err
		}
		return h.Visits.Service.Read(&body, &from)
	}
}

// notUTF8 names the field whose text was not UTF-8, which the reader of JSON has
// put U+FFFD into.
func notUTF8(b *api.NewVisit) error {
	const reason, hint = "it is not valid UTF-8", "Send the body as UTF-8."
	for _, field := range []struct {
		name string
		text *string
	}{{"site", &b.Site}, {"path", &b.Path}, {"referrer", b.Referrer}, {"user_agent", b.UserAgent}, {"link", b.Link}} {
		if field.text != nil && strings.ContainsRune(*field.text, utf8.RuneError) {
			return invalid.Field(field.name, reason, hint)
		}
	}
	if !utf8.Valid(b.Attributes) {
		return invalid.Field("attributes", reason, hint)
	}
	return invalid.Field("headers", reason, hint)
}

// addMany takes a list of visits. What is wrong with one does not harm another.
func (h *handlers) addMany(c *gin.Context, text []byte, prefer request.Preference) {
	many := api.Many{Visits: []api.TakenOne{}}
	var good []*visits.Taken
	read := h.reader(c, false, prefer)
	err := request.EachOf(text, func(decode func(any) error) error {
		i := len(many.Visits)
		if i == manyVisits {
			return problem.BadRequest("invalid-json", "Invalid JSON", fmt.Sprintf("The list has more than %d visits.", manyVisits), fmt.Sprintf("Send 1 to %d at once.", manyVisits))
		}
		t, err := read(decode)
		if errors.Is(err, request.ErrNoJSON) {
			return err
		}
		many.Visits = append(many.Visits, api.TakenOne{Index: i})
		if err != nil {
			p := problem.From(err).Problem
			p.RequestID = guard.RequestID(c)
			many.Visits[i].Problem = &p
			return nil
		}
		t.Index = i
		good = append(good, t)
		return nil
	})
	if err == nil && len(many.Visits) == 0 {
		err = problem.BadRequest("invalid-json", "Invalid JSON", "The list has no visits.", fmt.Sprintf("Send 1 to %d at once.", manyVisits))
	}
	if err == nil && len(good) > 0 {
		err = h.take(c, prefer, good...)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	status := http.StatusUnprocessableEntity
	if len(good) > 0 {
		if status = statusOf(good[0]); status == http.StatusConflict {
			status = http.StatusCreated // the list was dealt with; each visit says how
		}
	}
	for _, t := range good {
		many.Visits[t.Index] = t.Of()
	}
	many.Accepted, many.Refused = len(good), len(many.Visits)-len(good)
	respond.JSON(c, status, &many)
}

func (h *handlers) take(c *gin.Context, prefer request.Preference, list ...*visits.Taken) error {
	err := h.Visits.Service.Take(c, prefer.Wait, list...)
	if err == nil && prefer.Applied != "" {
		c.Header("Preference-Applied", prefer.Applied)
	}
	return err
}

func statusOf(t *visits.Taken) int {
	switch t.State {
	case visits.Accepted:
		return http.StatusAccepted
	case visits.Stored:
		return http.StatusCreated
	case visits.Conflict, visits.Missing:
		return http.StatusConflict
	}
	return http.StatusOK
}

func (h *handlers) listVisits(c *gin.Context) {
	bySequence := c.Query("order") == "sequence"
	limit, before, err := 0, uuid.Nil, error(nil)
	switch order := c.Query("order"); {
	case bySequence:
		limit, err = request.Int(c, "limit", 50, 1, 500) // whose cursor is not an id
	case order != "" && order != "time":
		err = invalid.Field("order", fmt.Sprintf("%.20q is not an order", order), "Give time or sequence.")
	default:
		limit, before, err = request.Page(c)
	}
	f := visit.Filter{}
	if err == nil {
		f, err = request.Filter(c, h.Public.Sites)
	}
	answer := api.VisitPage{Visits: []visit.Visit{}}
	if err == nil {
		h.Visits.Settle(c)
		answer.Count, err = h.Visits.Stored.Count(c, f, h.Service.Now())
	}
	if err == nil && bySequence {
		err = h.stored(c, f, limit, &answer)
	} else if err == nil {
		answer.Visits, err = h.Visits.Stored.Visits(c, f, before, limit+1)
		answer.Visits, answer.Next = request.Cut(answer.Visits, limit, func(v visit.Visit) uuid.UUID { return v.ID })
	}
	respond.Own(c)
	h.replyJSON(c, http.StatusOK, answer, err)
}

// stored lists visits in the order in which they were stored, the oldest
// first. Nothing is ever stored before a cursor, however late it was reported, so
// that whoever copies visits elsewhere misses none.
func (h *handlers) stored(c *gin.Context, f visit.Filter, limit int, answer *api.VisitPage) error {
	after, err := int64(0), error(nil)
	if text := c.Query("cursor"); text != "" {
		if after, err = strconv.ParseInt(text, 10, 64); err != nil || after < 0 {
			return invalid.Field("cursor", fmt.Sprintf("%.20q is not a sequence number", text), "Give the next of the page before.")
		}
	}
	through, err := h.Visits.Stored.StoredThrough(c)
	var list []visit.StoredVisit
	if err == nil {
		list, err = h.Visits.Stored.StoredAfter(c, f, after, through, limit)
	}
	for _, one := range list {
		answer.Visits = append(answer.Visits, one.Visit)
		after = one.Sequence
	}
	next := strconv.FormatInt(after, 10) // also of the last page: more will come
	answer.Next = &next
	return err
}

func (h *handlers) getVisit(c *gin.Context) {
	id, err := visitID(c, "Give the id of a visit.")
	var v visit.Visit
	if err == nil {
		h.Visits.Settle(c)
		v, err = h.Visits.Stored.Visit(c, id)
	}
	respond.Own(c)
	h.replyJSON(c, http.StatusOK, v, err)
}

func visitID(c *gin.Context, hint string) (uuid.UUID, error) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		err = invalid.Field("id", "this is not a UUID", hint)
	}
	return id, err
}

func (h *handlers) getState(c *gin.Context) {
	state, err := h.Visits.Service.State(c)
	h.replyJSON(c, http.StatusOK, state, err)
}

// fileFormat reads the format of a file of visits.
func fileFormat(word string) error {
	if visitfile.Types[word] == "" {
		return invalid.Field("format", fmt.Sprintf("%.20q is not a format", word), "Give one of "+strings.Join(slices.Sorted(maps.Keys(visitfile.Types)), ", ")+".")
	}
	return nil
}

// exportVisits writes visits as a file, the oldest first.
func (h *handlers) exportVisits(c *gin.Context) {
	format := c.DefaultQuery("format", "ndjson")
	f, err := request.Filter(c, h.Public.Sites)
	if err == nil {
		err = fileFormat(format)
	}
	if address := c.Query("address"); err == nil && address != "" {
		err = h.Visits.Service.OfAddress(&f, address)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	h.Visits.Settle(c)
	begun := false
	err = h.Visits.Service.Export(c, f, func() (visitfile.Writer, error) {
		begun = true
		respond.Attachment(c, visitfile.Types[format], "visits."+format)
		respond.Own(c)
		return visitfile.NewWriter(respond.Steady(c), format, c.Query("raw") == "true")
	}, func() error { return h.stillAdmitted(c) })
	switch {
	case err != nil && begun:
		h.breakOff(c, err)
	case err != nil:
		h.fail(c, err)
	}
}

// importVisits stores the visits of a file that an export has written.
func (h *handlers) importVisits(c *gin.Context) {
	format := c.Query("format")
	if err := fileFormat(format); err != nil {
		h.fail(c, err)
		return
	}
	done, err := h.Visits.Service.Import(c, c.Request.Body, format)
	if err != nil && !errors.Is(err, visit.ErrAway) {
		err = problem.Of(http.StatusUnprocessableEntity, "invalid-file", "File could not be read to the end", plain.UpperFirst(err.Error())+".",
			fmt.Sprintf("Read until then: %s; stored: %d; sending it again stores none twice.", plain.Count(done.Read, "visit"), done.Stored))
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	h.note(c, "visits imported", fmt.Sprintf("%d stored of %d", done.Stored, done.Read))
	c.JSON(http.StatusOK, done)
}

// eraseVisits erases one visit, or all of an address or prefix.
func (h *handlers) eraseVisits(c *gin.Context) {
	var body api.Erase
	err := request.JSON(c, &body, false)
	var done api.Receipt
	if err == nil {
		done, err = h.Visits.Service.Erase(c, body)
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	h.note(c, "visits erased", plain.Count(done.Visits, "visit"))
	c.JSON(http.StatusOK, done)
}

func (h *handlers) listQuarantine(c *gin.Context) {
	limit, err := request.Int(c, "limit", 50, 1, 500)
	var list api.Quarantine
	if err == nil {
		list, err = h.Visits.Service.Quarantine(c, limit)
	}
	respond.Own(c)
	h.replyJSON(c, http.StatusOK, list, err)
}

const quarantineHint = "Give the id of a visit in quarantine."

// replayVisit stores a visit from quarantine, with what is mended of it.
func (h *handlers) replayVisit(c *gin.Context) {
	var mend api.Mend
	id, err := visitID(c, quarantineHint)
	if err == nil {
		err = request.JSON(c, &mend, true)
	}
	var done api.Replayed
	if err == nil {
		done, err = h.Visits.Service.Replay(c, id, mend)
	}
	h.replyJSON(c, http.StatusOK, done, err)
}

func (h *handlers) dropVisit(c *gin.Context) {
	id, err := visitID(c, quarantineHint)
	if err == nil {
		if err = h.Visits.Service.Drop(c, id); err == nil {
			h.note(c, "visit dropped from quarantine", id.String())
		}
	}
	h.done(c, err)
}

// verifyVisits lists the days that a site has rows of, or recounts one of them.
func (h *handlers) verifyVisits(c *gin.Context) {
	var body api.Verify
	err := request.JSON(c, &body, false)
	var answer api.Verified
	if err == nil {
		answer, err = h.Visits.Service.Verify(c, body)
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}

// reenrichVisits reads stored visits again from the edition in use.
func (h *handlers) reenrichVisits(c *gin.Context) {
	var body api.Reenrich
	err := request.JSON(c, &body, true)
	var answer api.ReenrichAnswer
	if err == nil {
		answer, err = h.Visits.Service.Reenrich(c, body.Since, h.Atlas.Service.Shelf.Current().Name())
	}
	if err == nil {
		h.note(c, "visits read again", fmt.Sprintf("%d of %d, with edition %s", answer.Reenriched, answer.Seen, answer.Edition))
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}
