package companions

import (
	"context"
	"fmt"
	"strings"
	"time"

	"eastporch/internal/core/checkup"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/sites"
)

// List lists the companions of a site.
func (c *Companions) List(site *sites.Site) companion.List {
	out := companion.List{Site: site.Host, Companions: []companion.State{}, Secrets: c.Secrets.Names(), Inside: c.Inside}
	for _, e := range *c.Of(site.Host).list.Load() {
		out.Companions = append(out.Companions, e.state())
	}
	return out
}

// Get gives a companion; [companion.ErrNone] where there is none.
func (c *Companions) Get(site *sites.Site, name string) (companion.State, error) {
	e := c.Of(site.Host).find(name)
	if e == nil {
		return companion.State{}, companion.ErrNone
	}
	return e.state(), nil
}

// Save checks what is said of a companion, keeps it and puts it into use. by is who said so.
func (c *Companions) Save(ctx context.Context, site *sites.Site, name string, s companion.Save, by string) (companion.State, error) {
	err := companion.CheckName(name)
	if err == nil {
		s.Said, err = c.check(s.Said)
	}
	if err != nil {
		return companion.State{}, err
	}
	at := c.Of(site.Host)
	if at.find(name) == nil && len(*at.list.Load()) >= companion.MaxCompanions {
		return companion.State{}, invalid.Field("name", fmt.Sprintf("the site has %d companions already", companion.MaxCompanions), "Drop one first.")
	}
	k := companion.Kept{Site: site.Host, Name: name, Said: s.Said, MadeBy: by, ChangedAt: c.Now().UTC().Truncate(time.Millisecond)}
	if err := c.Rows.Save(ctx, k, s.Revision); err != nil {
		return companion.State{}, err
	}
	if err := c.Read(ctx); err != nil {
		return companion.State{}, err
	}
	return c.Get(site, name)
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
func (c *Companions) Drop(ctx context.Context, site *sites.Site, name string) error {
	ok, err := c.Rows.Drop(ctx, site.Host, name)
	if err == nil && !ok {
		err = companion.ErrNone
	}
	if err != nil {
		return err
	}
	return c.Read(ctx)
}

// AskAgain asks a companion what it was asked last, at once, and says how it stands then. Where it was never
// asked nothing is.
func (c *Companions) AskAgain(ctx context.Context, site *sites.Site, name string) (companion.State, error) {
	e := c.Of(site.Host).find(name)
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
	cur := e.now.Load()
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
func (e *entry) state() companion.State {
	cur, now := e.now.Load(), e.site.all.Now()
	day, ends := companion.Date(now, e.site.zone.Load())
	e.mu.Lock()
	defer e.mu.Unlock()
	s := companion.State{
		Name: e.name, Site: e.site.host, Revision: cur.Revision, MadeBy: cur.MadeBy, ChangedAt: cur.ChangedAt, Said: cur.Kept.Said,
		DayEnds: ends.UTC(), Places: e.slots.Len(), Sends: cur.Kept.Said.Sends(), Last: e.last, Snippet: fmt.Sprintf(`data-porch="companions.%s.category"`, e.name),
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

// Check judges the companions of all sites: those that fail, and those whose questions are used up.
func (c *Companions) Check() (list []checkup.Diagnostic) {
	c.sites.Range(func(_, value any) bool {
		for _, e := range *value.(*Site).list.Load() {
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
		return true
	})
	return list
}

// Tick reads what has changed; now and then it makes what was asked for lately count less.
func (c *Companions) Tick(ctx context.Context) error {
	if hour := c.Now().Unix() / 3600; c.hour.Swap(hour) != hour {
		c.sites.Range(func(_, value any) bool {
			for _, e := range *value.(*Site).list.Load() {
				e.fade()
			}
			return true
		})
	}
	return c.Read(ctx)
}
