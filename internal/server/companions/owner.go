package companions

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"eastporch/internal/core/checkup"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/documents"
	"eastporch/internal/server/sites"
)

// Kind is how companions are kept.
func (c *Companions) Kind() documents.Kind {
	return documents.Kind{Most: companion.MaxCompanions, Word: "companions", None: companion.ErrNone, Changed: companion.ErrChanged, Restore: func(ctx context.Context, key document.Key, body json.RawMessage, by string) error {
		var said companion.Said
		err := json.Unmarshal(body, &said)
		if err == nil {
			err = c.save(ctx, key, companion.Save{Said: said}, by)
		}
		return err
	}}
}

func key(site *sites.Site, name string) document.Key {
	return document.Key{Site: site.Host, Kind: document.Companion, Name: name}
}

// List lists the companions of a site.
func (c *Companions) List(_ context.Context, site *sites.Site) (companion.List, error) {
	out := companion.List{Site: site.Host, Companions: []companion.State{}, Secrets: c.Secrets.Names(), Inside: c.Inside}
	for _, e := range c.of(site).list {
		out.Companions = append(out.Companions, e.state())
	}
	return out, nil
}

// of gives the companions of a site that run now.
func (c *Companions) of(site *sites.Site) *Site {
	if s := c.Running(site.Host); s != nil {
		return s
	}
	return &Site{}
}

// Get gives a companion; [companion.ErrNone] where there is none.
func (c *Companions) Get(_ context.Context, site *sites.Site, name string) (companion.State, error) {
	e := c.of(site).find(name)
	if e == nil {
		return companion.State{}, companion.ErrNone
	}
	return e.state(), nil
}

// Save checks what is said of a companion, keeps it and puts it into use. by is who said so.
func (c *Companions) Save(ctx context.Context, site *sites.Site, name string, s companion.Save, by string) (companion.State, error) {
	if err := c.save(ctx, key(site, name), s, by); err != nil {
		return companion.State{}, err
	}
	return c.Get(ctx, site, name)
}

func (c *Companions) save(ctx context.Context, key document.Key, s companion.Save, by string) error {
	err := companion.CheckName(key.Name)
	if err == nil {
		s.Said, err = c.check(s.Said)
	}
	if err == nil {
		_, err = c.Documents.Save(ctx, key, s.Said, documents.Saving{On: s.Revision, By: by})
	}
	return err
}

// check is [companion.Check], and keeps secrets from going over open connections.
func (c *Companions) check(s companion.Said) (companion.Said, error) {
	s, err := companion.Check(s)
	if err == nil && !c.Inside && strings.HasPrefix(s.URL, "http:") && len(companion.Compile("", s).SecretNames()) > 0 {
		err = invalid.Field("url", "a secret would go to it where everybody on the way can read it", "Write https://. companions.fetch_inside allows it, for services of your own network.")
	}
	return s, err
}

// Drop drops a companion; [companion.ErrNone] where there is none.
func (c *Companions) Drop(ctx context.Context, site *sites.Site, name, by string) error {
	return c.Documents.Drop(ctx, key(site, name), by)
}

// AskAgain asks a companion what it was asked last, at once, and says how it stands then. Where it was never
// asked nothing is.
func (c *Companions) AskAgain(ctx context.Context, site *sites.Site, name string) (companion.State, error) {
	e := c.of(site).find(name)
	if e == nil {
		return companion.State{}, companion.ErrNone
	}
	e.mu.Lock()
	facts := e.lastFacts
	e.openUntil, e.probing = time.Time{}, false
	e.mu.Unlock()
	for _, s := range e.slots.Values() {
		s.mu.Lock()
		s.notBefore = time.Time{}
		s.mu.Unlock()
	}
	cur := e.cur
	if facts == nil || cur.off != "" {
		return e.state(), nil
	}
	s, ok := e.slots.Get(*facts)
	if !ok {
		s = &slot{}
		e.slots.Add(*facts, s)
	}
	if g := s.got.Load(); g.fresh(cur, c.Now()) {
		old := *g
		old.lasts = 0
		s.got.Store(&old)
	}
	if turn := e.begin(cur, s, *facts, true, c.Now()); turn.done != nil {
		select {
		case <-turn.done:
		case <-ctx.Done():
			return companion.State{}, ctx.Err()
		}
	}
	return e.state(), nil
}

// state says how a companion stands.
func (e *bound) state() companion.State {
	cur, now := e.cur, e.all.Now()
	day, ends := companion.Date(now, cur.zone)
	e.mu.Lock()
	defer e.mu.Unlock()
	s := companion.State{
		Name: e.name, Site: e.host, Revision: cur.of.Revision, MadeBy: cur.of.MadeBy, ChangedAt: cur.of.MadeAt, Said: cur.said,
		DayEnds: ends.UTC(), Places: e.slots.Len(), Sends: cur.said.Sends(), Last: e.last, Snippet: fmt.Sprintf(`data-porch="companions.%s.category"`, e.name),
	}
	s.UsedToday, s.UsedThisMinute = e.spent.On(day, now.Unix()/60)
	switch {
	case cur.off != "":
		s.Standing = companion.Off
	case cur.ADay == 0 || cur.AMinute == 0:
		s.Standing, s.Reason = companion.UsedUp, plain.Optional("the allowance is 0, so that the service is never asked")
	case e.failures > 0:
		since := e.since.UTC().Truncate(time.Second)
		s.Standing, s.Reason, s.Since = companion.Failing, plain.Optional(e.reason), &since
		if within(e.openUntil, now, longestAfter) {
			s.NextTry = at(e.openUntil)
		}
	case s.UsedToday >= int64(cur.ADay):
		s.Standing, s.Reason, s.NextTry = companion.UsedUp, plain.Optional(fmt.Sprintf("the %d questions of today are used up", cur.ADay)), at(ends)
	case e.lastFacts == nil:
		s.Standing = companion.Unasked
	case e.lastOwn && e.last.Problem != nil: // somebody tried it
		s.Standing, s.Reason, s.Since = companion.Failing, e.last.Problem, at(e.last.Time)
	default:
		s.Standing = companion.Answering
	}
	return s
}

func at(t time.Time) *time.Time {
	t = t.UTC().Truncate(time.Second)
	return &t
}

// Check judges the companions of a site: those that fail, and those whose questions are used up.
func (s *Site) Check() (list []checkup.Diagnostic) {
	for _, e := range s.list {
		s := e.state()
		switch s.Standing {
		case companion.Failing:
			list = append(list, checkup.Diagnostic{
				Name: "companions", State: checkup.Attention, Title: fmt.Sprintf("The companion %s fails.", e.name),
				Text: fmt.Sprintf("Since %s: %s. Good answers are shown as long as they may be, with their age.", s.Since.Format("2006-01-02 15:04 UTC"), *s.Reason),
			})
		case companion.UsedUp:
			list = append(list, checkup.Diagnostic{Name: "companions", State: checkup.Attention, Title: fmt.Sprintf("The companion %s is not asked any more today.", e.name), Text: plain.UpperFirst(*s.Reason) + "."})
		}
	}
	return list
}
