package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/access"
	"eastporch/internal/visitfile"
)

// getState says how visits are kept: what waits, since when rows are kept, and
// when the next ones go.
func (a *api) getState(c *gin.Context) {
	kept, err := a.Store.Kept(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	_, apart, err := a.Store.Quarantine(c, 1)
	if err != nil {
		a.fail(c, err)
		return
	}
	var nextKey *time.Time
	for _, s := range a.Sites {
		if s.Privacy == visit.Hashed {
			at := a.Privacy.NextKey(a.Now())
			nextKey = &at
		}
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, struct {
		Intake     visit.Queue `json:"intake"`
		Kept       visit.Kept  `json:"kept"`
		Quarantine int         `json:"quarantine"`
		NextKey    *time.Time  `json:"next_key"`
	}{a.Intake.State(), kept, apart, nextKey})
}

const (
	heartbeat    = 15 * time.Second
	streamBatch  = 200
	streamWithin = 30 * time.Second // for one write
	// admittedAgain is how soon a stream ends whose key was revoked.
	admittedAgain = time.Second
)

// streamVisits sends visits as they are stored (server-sent events), from a
// sequence number on.
func (a *api) streamVisits(c *gin.Context) {
	f, err := a.filter(c)
	after := int64(0)
	if text := cmpOr(c.GetHeader("Last-Event-ID"), c.Query("after")); err == nil && text != "" {
		if _, scanErr := fmt.Sscanf(text, "%d", &after); scanErr != nil || after < 0 {
			err = invalidField("after", fmt.Sprintf("%.20q is not a sequence number", text), "Give the id of the last event, or leave it out.")
		}
	} else if err == nil {
		after, err = a.Store.LastSequence(c)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	out := http.NewResponseController(c.Writer)
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no") // proxies pass it on at once
	c.Status(http.StatusOK)
	send := func(text string) error {
		_ = out.SetWriteDeadline(time.Now().Add(streamWithin)) // the next write says what was wrong
		if _, err := io.WriteString(c.Writer, text); err != nil {
			return err
		}
		return out.Flush()
	}
	if send(fmt.Sprintf("retry: 2000\nid: %d\n\n", after)) != nil {
		return
	}
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	again := time.NewTicker(admittedAgain)
	defer again.Stop()
	for {
		if err := a.stillAdmitted(c); errors.Is(err, access.ErrBadKey) || errors.Is(err, access.ErrBadSession) {
			return
		}
		changed := a.Stored()
		last, err := a.Store.LastSequence(c)
		var list []visit.StoredVisit
		if err == nil {
			list, err = a.Store.StoredAfter(c, f, after, streamBatch)
		}
		for _, one := range list {
			text, jsonErr := json.Marshal(one.Visit)
			if jsonErr != nil || send(fmt.Sprintf("id: %d\nevent: visit\ndata: %s\n\n", one.Sequence, text)) != nil {
				return
			}
			after = one.Sequence
		}
		if len(list) == streamBatch {
			continue
		}
		if err == nil {
			after = max(after, last)
		}
		select {
		case <-changed:
		case <-again.C:
		case <-beat.C:
			if send(": still here\n\n") != nil {
				return
			}
		case <-c.Request.Context().Done():
			return
		case <-a.Stopping:
			return
		}
	}
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

const exportPage = 1000 // visits that are read at once

// exportVisits writes visits as a file, the oldest first.
func (a *api) exportVisits(c *gin.Context) {
	format := c.DefaultQuery("format", "ndjson")
	f, err := a.filter(c)
	if visitfile.Types[format] == "" && err == nil {
		err = invalidField("format", fmt.Sprintf("%.20q is not a format", format), "Give one of "+strings.Join(slices.Sorted(maps.Keys(visitfile.Types)), ", ")+".")
	}
	if err == nil {
		err = a.byAddress(c, &f)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	a.settle(c)
	page, err := a.Store.VisitsFrom(c, f, uuid.Nil, exportPage)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Type", visitfile.Types[format])
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "visits."+format))
	c.Header("Cache-Control", "private, no-store")
	w, err := visitfile.NewWriter(steady(c), format, c.Query("raw") == "true")
	for err == nil && len(page) > 0 {
		if err = a.stillAdmitted(c); err != nil {
			break
		}
		for _, v := range page {
			if err = w.Write(v); err != nil {
				break
			}
		}
		if err == nil {
			page, err = a.Store.VisitsFrom(c, f, page[len(page)-1].ID, exportPage)
		}
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		a.breakOff(c, err)
	}
}

// breakOff ends an answer whose head has gone out: only a broken connection can say that a
// file is not whole.
func (a *api) breakOff(c *gin.Context, err error) {
	a.Log.Warn("an export broke off", "request_id", requestID(c), "error", err)
	panic(http.ErrAbortHandler)
}

// steady writes an answer that takes as long as it takes, as long as it is read.
func steady(c *gin.Context) io.Writer {
	return steadyWriter{c.Writer, http.NewResponseController(c.Writer)}
}

type steadyWriter struct {
	io.Writer
	out *http.ResponseController
}

func (w steadyWriter) Write(p []byte) (int, error) {
	_ = w.out.SetWriteDeadline(time.Now().Add(streamWithin)) // the write says what is wrong
	return w.Writer.Write(p)
}

// byAddress reads what an export or erasure may be by, beside filters: an address,
// as far as the site keeps it.
func (a *api) byAddress(c *gin.Context, f *visit.Filter) error {
	text := c.Query("address")
	if text == "" {
		return nil
	}
	ip, err := addr.Parse(text)
	if err != nil {
		return invalidField("address", reasonOf(err), "Give one IPv4 or IPv6 address.")
	}
	switch site := a.sites[f.Site]; site.Privacy {
	case visit.Whole:
		f.Within = netip.PrefixFrom(ip, ip.BitLen())
	case visit.Hashed:
		words, err := a.Privacy.Hashes(site.Host, ip)
		if err != nil {
			return err
		}
		f.Placeholder = strings.Join(words, "\n")
		if len(words) == 0 {
			f.Placeholder = "\n" // no key is left, so that nothing can be told to be of it
		}
	default:
		return onlyByPrefix(site, ip)
	}
	return nil
}

func onlyByPrefix(site *Site, ip netip.Addr) problem {
	hint := "Give the id of the visit."
	if site.Privacy == visit.Truncated {
		hint = fmt.Sprintf("Give the prefix %s, which its neighbours share, or the id of the visit.", addr.TruncatePrefix(netip.PrefixFrom(ip, ip.BitLen())))
	}
	return invalidField("address", fmt.Sprintf("%s keeps no whole addresses, so that its visits cannot be told from others'", site.Host), hint)
}

func reasonOf(err error) string { return without(err, addr.ErrSyntax) }

const (
	importBatch   = 2000
	importBytes   = 8 << 20 // of visits that wait to be stored
	importRejects = 100     // that are spelled out
)

// imported is what became of a file of visits.
type imported struct {
	Read      int      `json:"read"`
	Stored    int      `json:"stored"`
	Duplicate int      `json:"duplicate"`
	Expired   int      `json:"expired"`
	Erased    int      `json:"erased"`
	Rejected  int      `json:"rejected"`
	Rejects   []reject `json:"rejects"`
}

type reject struct {
	Line   int    `json:"line"`
	Reason string `json:"reason"`
}

func (i *imported) reject(line int, reason string) {
	i.Rejected++
	if len(i.Rejects) < importRejects {
		i.Rejects = append(i.Rejects, reject{line, reason})
	}
}

// importVisits stores the visits of a file that an export has written. They are
// kept as the site's mode says now.
func (a *api) importVisits(c *gin.Context) {
	format := c.Query("format")
	if visitfile.Types[format] == "" {
		a.fail(c, invalidField("format", fmt.Sprintf("%.20q is not a format", format), "Give one of "+strings.Join(slices.Sorted(maps.Keys(visitfile.Types)), ", ")+"."))
		return
	}
	var body io.Reader = c.Request.Body
	if format == "parquet" { // whose end is read first
		file, err := os.CreateTemp("", "eastporch-import-")
		if err == nil {
			defer os.Remove(file.Name())
			defer file.Close()
			_, err = io.Copy(file, c.Request.Body)
		}
		if err != nil {
			a.fail(c, err)
			return
		}
		body = file
	}
	done := imported{Rejects: []reject{}}
	var batch []visit.QueuedVisit
	var lines []int
	size := 0
	flush := func() error {
		err := a.insertEach(c, batch, lines, &done)
		clear(batch) // so that what was stored is let go
		batch, lines, size = batch[:0], lines[:0], 0
		return err
	}
	err := visitfile.Read(body, format, func(line int, v visit.Visit, err error) error {
		done.Read++
		var queued visit.QueuedVisit
		if err == nil {
			queued, err = a.readmit(v)
		}
		if err != nil {
			done.reject(line, err.Error())
			return nil
		}
		batch, lines = append(batch, queued), append(lines, line)
		size += len(queued.Facts) + len(queued.Row.Card) + len(queued.Row.Trail)
		if len(batch) < importBatch && size < importBytes {
			return nil
		}
		return flush()
	})
	if err == nil {
		err = flush()
	}
	if err != nil && !errors.Is(err, visit.ErrAway) {
		p := badRequest("invalid-file", "File could not be read to the end", upperFirst(err.Error())+".", fmt.Sprintf("Until then %d visits were read and %d stored; sending it again stores none twice.", done.Read, done.Stored))
		p.Status = http.StatusUnprocessableEntity
		err = p
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "visits imported", fmt.Sprintf("%d stored of %d", done.Stored, done.Read))
	c.JSON(http.StatusOK, done)
}

// readmit checks a visit from outside, and leaves of it what its site keeps.
func (a *api) readmit(v visit.Visit) (visit.QueuedVisit, error) {
	site, ok := a.sites[v.Site]
	if !ok {
		return visit.QueuedVisit{}, fmt.Errorf("site: %.64q is not a configured site", v.Site)
	}
	if v.Time.After(a.Now().Add(ahead)) {
		return visit.QueuedVisit{}, errors.New("id: its time lies more than 5 minutes ahead")
	}
	if err := checkTexts(&v); err != nil {
		return visit.QueuedVisit{}, err
	}
	var err error
	if v.Attributes, err = visit.CheckAttributes(v.Attributes); err != nil {
		return visit.QueuedVisit{}, fmt.Errorf("attributes: %w", err)
	}
	for _, m := range v.Marks {
		if !slices.Contains(visit.MarkWords, m) {
			return visit.QueuedVisit{}, fmt.Errorf("marks: %.20q is not a mark", m)
		}
	}
	private := slices.Contains(v.Marks, visit.MarkPrivate)
	v.Marks = slices.DeleteFunc(v.Marks, func(m string) bool { return m == visit.MarkPrivate })
	if v, err = a.Privacy.Keep(v, site.Privacy, private); err != nil {
		return visit.QueuedVisit{}, err
	}
	return v.Queued()
}

// insertEach stores visits; where the database refuses one, the others are
// stored all the same.
func (a *api) insertEach(ctx context.Context, batch []visit.QueuedVisit, lines []int, done *imported) error {
	if len(batch) == 0 {
		return nil
	}
	out, err := a.Store.Insert(ctx, batch)
	switch {
	case err == nil:
		done.Stored, done.Duplicate = done.Stored+out.Stored, done.Duplicate+out.Duplicate
		done.Expired, done.Erased = done.Expired+out.Expired, done.Erased+out.Erased
		return nil
	case !errors.Is(err, visit.ErrRefused):
		return err
	case len(batch) == 1:
		done.reject(lines[0], err.Error())
		return nil
	}
	half := len(batch) / 2
	if err := a.insertEach(ctx, batch[:half], lines[:half], done); err != nil {
		return err
	}
	return a.insertEach(ctx, batch[half:], lines[half:], done)
}

// receipt is what is left of an erasure.
type receipt struct {
	Time time.Time `json:"time"`
	visit.Erased
	// Left are the sites that keep too little of an address to find its visits.
	Left []string `json:"left"`
}

// eraseVisits erases one visit, or all of an address or prefix.
func (a *api) eraseVisits(c *gin.Context) {
	var body struct {
		ID      *string `json:"id"`
		Address *string `json:"address"`
		Prefix  *string `json:"prefix"`
	}
	if err := readJSON(c, &body, false); err != nil {
		a.fail(c, err)
		return
	}
	done := receipt{Time: a.Now().UTC(), Left: []string{}}
	var list []visit.Erasure
	var err error
	given := 0
	for _, s := range []*string{body.ID, body.Address, body.Prefix} {
		if s != nil {
			given++
		}
	}
	switch {
	case given != 1:
		err = invalidField("id, address, prefix", fmt.Sprintf("%d of them are given", given), "Give one: the id of a visit, an address, or a prefix.")
	case body.ID != nil:
		id, parseErr := uuid.Parse(*body.ID)
		if parseErr != nil || id == uuid.Nil {
			err = invalidField("id", "this is not a UUID", "Give the id of a visit.")
		}
		list = []visit.Erasure{{ID: id}}
	case body.Prefix != nil:
		prefix, parseErr := addr.ParsePrefix(*body.Prefix)
		if parseErr != nil {
			err = invalidField("prefix", reasonOf(parseErr), "Give a prefix such as 198.18.3.0/24.")
		} else if prefix.Bits() < 8 {
			err = invalidField("prefix", "it is too wide to be meant", "Give a prefix of at least 8 bits.")
		}
		list = []visit.Erasure{{Prefix: prefix}}
	default:
		list, done.Left, err = a.erasures(*body.Address)
	}
	for _, e := range list {
		if err != nil {
			break
		}
		var one visit.Erased
		if one, err = a.Store.Erase(c, e, done.Time); err == nil {
			done.Visits, done.Days, done.Quarantine = done.Visits+one.Visits, done.Days+one.Days, done.Quarantine+one.Quarantine
		}
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "visits erased", fmt.Sprintf("%d visits", done.Visits))
	c.JSON(http.StatusOK, done)
}

// erasures gives what erases an address from all sites, and the sites whose
// visits cannot be told from their neighbours'.
func (a *api) erasures(text string) (list []visit.Erasure, left []string, err error) {
	ip, err := addr.Parse(text)
	if err != nil {
		return nil, nil, invalidField("address", reasonOf(err), "Give one IPv4 or IPv6 address.")
	}
	left = []string{}
	for _, s := range a.Sites {
		switch s.Privacy {
		case visit.Whole:
			list = []visit.Erasure{{Address: ip}}
		case visit.Truncated:
			left = append(left, s.Host)
		}
	}
	for _, s := range a.Sites {
		if s.Privacy != visit.Hashed {
			continue
		}
		words, err := a.Privacy.Hashes(s.Host, ip)
		if err != nil {
			return nil, nil, err
		}
		if len(words) > 0 {
			list = append(list, visit.Erasure{Placeholder: words})
		}
	}
	if len(list) == 0 {
		for _, s := range a.Sites {
			if s.Privacy == visit.Truncated {
				return nil, nil, onlyByPrefix(&s, ip)
			}
		}
		return nil, nil, invalidField("address", "no site keeps anything that could be told to be of it", "Give the id of the visit.")
	}
	return list, left, nil
}

// apart is a visit in quarantine, as it is shown.
type apart struct {
	ID     uuid.UUID `json:"id"`
	Time   time.Time `json:"time"`
	Reason string    `json:"reason"`
	// Row is what was to be stored; null where it cannot be read, and then Text is
	// how it begins.
	Row  *visit.Row `json:"row"`
	Text *string    `json:"text"`
}

const textMost = 400 // bytes of what cannot be read

func (a *api) listQuarantine(c *gin.Context) {
	limit, err := intOf(c, "limit", 50, 1, 500)
	if err != nil {
		a.fail(c, err)
		return
	}
	list, all, err := a.Store.Quarantine(c, limit)
	if err != nil {
		a.fail(c, err)
		return
	}
	shown := []apart{}
	for _, q := range list {
		one := apart{ID: q.ID, Time: q.Time.UTC(), Reason: q.Reason}
		if queued, err := q.Queued(); err == nil {
			one.Row = &queued.Row
		} else {
			text := strings.ToValidUTF8(string(q.Record[:min(textMost, len(q.Record))]), "\ufffd")
			one.Text = &text
		}
		shown = append(shown, one)
	}
	c.Header("Cache-Control", "private, no-store")
	c.JSON(http.StatusOK, gin.H{"visits": shown, "all": all})
}

// replayVisit stores a visit from quarantine, with what is mended of it.
func (a *api) replayVisit(c *gin.Context) {
	var mend struct {
		ID        *string `json:"id"`
		Site      *string `json:"site"`
		Path      *string `json:"path"`
		Referrer  *string `json:"referrer"`
		UserAgent *string `json:"user_agent"`
		Link      *string `json:"link"`
	}
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		a.fail(c, invalidField("id", "this is not a UUID", "Give the id of a visit in quarantine."))
		return
	}
	if err := readJSON(c, &mend, true); err != nil {
		a.fail(c, err)
		return
	}
	q, err := a.Store.FromQuarantine(c, id)
	if err != nil {
		a.fail(c, err)
		return
	}
	queued, err := q.Queued()
	if err != nil {
		a.fail(c, invalidField("id", err.Error(), "Drop it; nothing of it can be stored."))
		return
	}
	row := &queued.Row
	if mend.ID != nil {
		if row.ID, _, err = a.identify(mend.ID, nil); err != nil {
			a.fail(c, err)
			return
		}
	}
	for _, field := range []struct {
		to   *string
		from *string
	}{{&row.Site, mend.Site}, {&row.Path, mend.Path}} {
		if field.from != nil {
			*field.to = *field.from
		}
	}
	for _, field := range []struct {
		to   **string
		from *string
	}{{&row.Referrer, mend.Referrer}, {&row.UserAgent, mend.UserAgent}, {&row.Link, mend.Link}} {
		if field.from != nil {
			*field.to = field.from
		}
	}
	if _, ok := a.sites[row.Site]; !ok {
		a.fail(c, invalidField("site", fmt.Sprintf("%.64q is not a configured site", row.Site), "Configured are "+a.siteList()+"."))
		return
	}
	v := visit.Visit{Path: row.Path, Referrer: row.Referrer, UserAgent: row.UserAgent, Link: row.Link}
	if err := checkTexts(&v); err != nil {
		a.fail(c, err)
		return
	}
	out, err := a.Store.Insert(c, []visit.QueuedVisit{queued})
	if errors.Is(err, visit.ErrRefused) {
		err = invalidField("visit", err.Error(), "Mend what the reason names, or drop the visit.")
	}
	if err == nil && len(out.Conflicts) > 0 {
		err = invalidField("id", "it was stored before with other content", "Give the visit another id, or drop it.")
	}
	if err == nil {
		_, err = a.Store.Release(c, id)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gin.H{"id": row.ID, "stored": out.Stored == 1})
}

func (a *api) dropVisit(c *gin.Context) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		a.fail(c, invalidField("id", "this is not a UUID", "Give the id of a visit in quarantine."))
		return
	}
	ok, err := a.Store.Release(c, id)
	if err == nil && !ok {
		err = fmt.Errorf("%s: %w", id, visit.ErrNoVisit)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "visit dropped from quarantine", id.String())
	c.Status(http.StatusNoContent)
}

// verifyVisits lists the days that a site has rows of, or recounts one of them.
func (a *api) verifyVisits(c *gin.Context) {
	var body struct {
		Site string  `json:"site"`
		Day  *string `json:"day"`
		Mend bool    `json:"mend"`
	}
	if err := readJSON(c, &body, false); err != nil {
		a.fail(c, err)
		return
	}
	if _, ok := a.sites[body.Site]; !ok {
		a.fail(c, invalidField("site", fmt.Sprintf("%.64q is not a configured site", body.Site), "Configured are "+a.siteList()+"."))
		return
	}
	answer := struct {
		Site    string                `json:"site"`
		Days    []string              `json:"days"`
		Rows    int64                 `json:"rows"`
		Differs []visit.CountMismatch `json:"differs"`
	}{Site: body.Site, Days: []string{}, Differs: []visit.CountMismatch{}}
	if body.Day == nil {
		days, err := a.Store.Days(c, body.Site, a.Now())
		if err != nil {
			a.fail(c, err)
			return
		}
		for _, d := range days {
			answer.Days = append(answer.Days, d.Format(time.DateOnly))
		}
		c.JSON(http.StatusOK, answer)
		return
	}
	day, err := time.Parse(time.DateOnly, *body.Day)
	if err == nil && day.Before(a.Store.Oldest(a.Now())) {
		a.fail(c, invalidField("day", "its rows are no longer kept, and its counts stand alone", "Give a later day."))
		return
	}
	if err != nil {
		a.fail(c, invalidField("day", fmt.Sprintf("%.20q is not a day", *body.Day), "Write it like 2026-11-14; days are of UTC."))
		return
	}
	differs, rows, err := a.Store.Verify(c, body.Site, day, body.Mend)
	if err != nil {
		a.fail(c, err)
		return
	}
	answer.Days, answer.Rows, answer.Differs = []string{*body.Day}, rows, append(answer.Differs, differs...)
	c.JSON(http.StatusOK, answer)
}
