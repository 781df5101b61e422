package companions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"eastporch/internal/core/companion"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/secret"
)

// Outcomes of questions, for the metrics.
const (
	answered = "answered"
	failed   = "failed"
	refused  = "refused" // by the allowance
)

// The circuit: after so many failures in a row nobody is asked for a time, which doubles.
const (
	failuresAllowed = 3
	firstPause      = 30 * time.Second
	longestPause    = 15 * time.Minute
	longestAfter    = time.Hour // of what Retry-After may say
)

// enter says until when the companion is not asked, and why; "" where it may be. After a pause one question
// goes, and decides.
func (e *entry) enter(now time.Time) (until time.Time, reason string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	switch {
	case within(e.openUntil, now, longestAfter):
		return e.openUntil, e.reason
	case e.failures >= failuresAllowed && e.probing:
		return now.Add(soon * time.Second), e.reason
	}
	e.probing = e.failures >= failuresAllowed
	return now, ""
}

// leave gives back what enter allowed.
func (e *entry) leave() {
	e.mu.Lock()
	e.probing = false
	e.mu.Unlock()
}

// A trip is one question that was asked, and what came.
type trip struct {
	question  companion.Question
	answer    *http.Response // nil where none came
	body      []byte
	secrets   secret.Values
	after     time.Duration // that the service wants to be left alone for
	unchanged bool
	wrong     string // why there is nothing that can be used
}

// ask asks a question and keeps the answer.
func (e *entry) ask(ctx context.Context, cur *current, s *slot, facts companion.Facts, done chan struct{}) {
	defer close(done)
	all := e.all
	defer func() {
		s.mu.Lock()
		s.asking = nil
		s.mu.Unlock()
	}()
	secrets, err := all.Secrets.Read(cur.SecretNames())
	if err != nil {
		e.fails(s, err.Error(), 0)
		return
	}
	wait, why, err := e.claim(ctx, cur, s)
	if err != nil || wait > 0 {
		if err != nil {
			wait, why = 5*time.Second, "the database does not answer, so that the question could not be counted"
		}
		all.Count(e.host, e.name, refused)
		e.leave()
		s.mu.Lock()
		s.notBefore, s.reason = all.Now().Add(wait), why
		s.mu.Unlock()
		return
	}
	before := s.got.Load()
	tag := ""
	if before != nil {
		tag = before.tag
	}
	t := all.travel(ctx, cur.Compiled, &facts, secrets, tag)
	now := all.Now()
	var shown *companion.Shown
	switch {
	case t.wrong != "":
	case t.unchanged:
		shown = before.shown
	default:
		read, err := cur.Read(t.body, secrets)
		if err != nil {
			t.wrong = err.Error()
			break
		}
		shown = cur.Show(read)
	}
	t.question.Problem = plain.Optional(t.wrong)
	e.mu.Lock()
	e.last, e.lastFacts, e.lastOwn = &t.question, &facts, true
	e.mu.Unlock()
	if ctx.Err() != nil && t.wrong != "" { // the service stops
		e.leave()
		return
	}
	if t.wrong != "" {
		e.fails(s, t.wrong, t.after)
		return
	}
	all.Count(e.host, e.name, answered)
	e.keep(cur, s, &t, shown, now)
}

// keep puts an answer into use.
func (e *entry) keep(cur *current, s *slot, t *trip, shown *companion.Shown, now time.Time) {
	g := &got{shown: shown, at: now, lasts: cur.Lifetime(t.answer.Header, now), tag: t.answer.Header.Get("ETag"), text: t.question.Text}
	if !t.unchanged {
		e.all.remember(e, t)
	}
	if later := e.now.Load(); later != nil && later.of.Revision != cur.of.Revision && later.said.Asks(&cur.said) { // it was changed meanwhile
		if again := e.again(later, g); again != nil {
			g = again
		} else {
			g.lasts = 0
		}
	}
	s.mu.Lock()
	s.got.Store(g)
	s.failures, s.notBefore, s.reason = 0, time.Time{}, ""
	s.mu.Unlock()
	e.mu.Lock()
	e.failures, e.openUntil, e.reason, e.since, e.probing = 0, time.Time{}, "", time.Time{}, false
	e.mu.Unlock()
}

// remember keeps the body of an answer, so that it can be read again.
func (c *Companions) remember(e *entry, t *trip) {
	if len(t.body) <= bodyMost {
		c.bodies.Add(bodyKey(e.host, e.name, t.question.Text), body{[]byte(t.secrets.Hide(string(t.body))), t.question})
	}
}

func bodyKey(host, name, question string) string { return host + "/" + name + "\n" + question }

// fails notes that a question was not answered: the place waits, and after some failures all do.
func (e *entry) fails(s *slot, reason string, after time.Duration) {
	now := e.all.Now()
	e.all.Count(e.host, e.name, failed)
	e.mu.Lock()
	if e.failures == 0 {
		e.since = now
	}
	e.failures, e.reason, e.probing = e.failures+1, reason, false
	pause := time.Duration(0)
	if n := e.failures - failuresAllowed; n >= 0 {
		pause = min(firstPause<<min(n, 10), longestPause)
	}
	if pause = max(pause, min(after, longestAfter)); pause > 0 {
		e.openUntil = now.Add(pause)
	}
	e.mu.Unlock()
	s.mu.Lock()
	s.failures++
	s.reason, s.notBefore = reason, now.Add(min(firstPause<<min(s.failures-1, 10), longestPause))
	s.mu.Unlock()
	e.all.Log.Warn("a companion did not answer", "site", e.host, "companion", e.name, "reason", reason)
}

// claim takes a question from the allowance, for a place or, with nil, for whoever tries it. Where there is none
// it says how long there will be none, and why.
func (e *entry) claim(ctx context.Context, cur *current, s *slot) (wait time.Duration, why string, err error) {
	now := e.all.Now()
	day, ends := companion.Date(now, cur.zone)
	c := companion.Claim{Day: day, Minute: now.Unix() / 60, MostDay: int64(cur.ADay - cur.Reserve), MostMinute: int64(cur.AMinute)}
	ctx, cancel := context.WithTimeout(ctx, claimWithin)
	defer cancel()
	spent, ok, err := e.all.Rows.Claim(ctx, e.host, e.name, c)
	if inDay, _ := spent.On(day, c.Minute); err == nil && !ok && cur.Reserve > 0 && inDay >= c.MostDay && (s == nil || e.isAmongMostAsked(s)) {
		c.MostDay = int64(cur.ADay)
		spent, ok, err = e.all.Rows.Claim(ctx, e.host, e.name, c)
	}
	if err != nil {
		return 0, "", err
	}
	e.took(spent)
	if ok {
		return 0, "", nil
	}
	inDay, _ := spent.On(day, c.Minute)
	switch {
	case cur.ADay == 0 || cur.AMinute == 0:
		return time.Hour, "the allowance is 0, so that the service is never asked", nil
	case inDay >= int64(cur.ADay):
		return ends.Sub(now), fmt.Sprintf("the %d questions of today are used up", cur.ADay), nil
	case inDay >= c.MostDay:
		return min(ends.Sub(now), 10*time.Minute), fmt.Sprintf("the last %d questions of today are for the places that are asked for most", cur.Reserve), nil
	}
	return time.Minute - time.Duration(now.Second())*time.Second, fmt.Sprintf("the %d questions of this minute are used up", cur.AMinute), nil
}

// claimWithin bounds how long the database may take to count a question.
const claimWithin = 2 * time.Second

func (e *entry) took(s companion.Spent) {
	e.mu.Lock()
	e.spent = s
	e.mu.Unlock()
}

// isAmongMostAsked says whether a place is one of those that are asked for most lately.
func (e *entry) isAmongMostAsked(s *slot) bool {
	more, own := 0, s.wanted.Load()
	for _, other := range e.slots.Values() {
		if other != s && other.wanted.Load() > own {
			more++
		}
	}
	return more < companion.MostAsked
}

// fade makes what was asked for lately count less.
func (e *entry) fade() {
	for _, s := range e.slots.Values() {
		for have := s.wanted.Load(); have > 0 && !s.wanted.CompareAndSwap(have, have/2); {
			have = s.wanted.Load()
		}
	}
}

// travel asks the service one question. tag is that of an answer that is there already, "" for none.
func (c *Companions) travel(ctx context.Context, of *companion.Compiled, facts *companion.Facts, secrets secret.Values, tag string) (t trip) {
	ask := of.Request(facts, secrets)
	begun := c.Now()
	t.secrets, t.question = secrets, companion.Question{Text: ask.Shown, Time: begun.UTC().Truncate(time.Millisecond)}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(of.TimeoutMs)*time.Millisecond)
	defer cancel()
	var with io.Reader
	if ask.Body != nil {
		with = bytes.NewReader(ask.Body)
	}
	request, err := http.NewRequestWithContext(ctx, ask.Method, ask.URL, with)
	if err != nil {
		t.wrong = "the address cannot be asked: " + secrets.Hide(bare(err).Error())
		return t
	}
	for _, h := range ask.Header {
		request.Header.Set(h.Name, h.Value)
	}
	if tag != "" {
		request.Header.Set("If-None-Match", tag)
	}
	t.answer, t.body, err = c.Out.Once(request, companion.MaxBytes+1)
	t.question.TookMs = c.Now().Sub(begun).Milliseconds()
	t.question.Bytes = len(t.body)
	if t.answer != nil {
		t.question.Status = &t.answer.StatusCode
		t.question.ContentType = plain.Optional(plain.Clean(secrets.Hide(t.answer.Header.Get("Content-Type")), 100))
	}
	switch {
	case errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil:
		t.wrong = fmt.Sprintf("the service did not answer within %s", time.Duration(of.TimeoutMs)*time.Millisecond)
	case err != nil:
		t.wrong = "the service could not be asked: " + plain.Clean(secrets.Hide(bare(err).Error()), 300)
	default:
		t.judge(tag != "", begun)
	}
	return t
}

// judge says what is wrong with an answer before its body is read.
func (t *trip) judge(conditional bool, now time.Time) {
	status := t.answer.StatusCode
	switch {
	case status == http.StatusNotModified && conditional:
		t.unchanged = true
	case status >= 300 && status < 400:
		t.wrong = fmt.Sprintf("the service answered %d", status)
		if to, err := t.answer.Location(); err == nil { // whose query may hold what was asked
			t.wrong += fmt.Sprintf(" and leads to %s, which is not followed: write the address that is meant", plain.Clean(t.secrets.Hide(to.Scheme+"://"+to.Host+to.EscapedPath()), 200))
		}
	case status < 200 || status >= 300:
		t.wrong, t.after = fmt.Sprintf("the service answered %d", status), retryAfter(t.answer.Header.Get("Retry-After"), now)
	case len(t.body) > companion.MaxBytes:
		t.wrong = fmt.Sprintf("the service answered more than %d bytes", companion.MaxBytes)
	}
}

// retryAfter reads the field (RFC 9110, section 10.2.3); 0 for none.
func retryAfter(text string, now time.Time) time.Duration {
	if n, err := strconv.ParseInt(text, 10, 32); err == nil && n > 0 {
		return time.Duration(n) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, at.Sub(now))
	}
	return 0
}

// bare takes the address off an error, whose query holds what was asked, and the secret.
func bare(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}
