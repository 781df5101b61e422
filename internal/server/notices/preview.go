package notices

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// previewed is how many of the newest visits are looked at for a preview.
const previewed = 50

// Preview shows what a notice would say of two visits: one with as many facts as there are, one with facts missing.
func (n *Notices) Preview(ctx context.Context, site *sites.Site, of notice.PreviewOf) (notice.Preview, error) {
	out, _, err := n.preview(ctx, site, of)
	return out, err
}

// preview is [Notices.Preview], with the first as it would be sent.
func (n *Notices) preview(ctx context.Context, site *sites.Site, of notice.PreviewOf) (out notice.Preview, first notice.Draft, err error) {
	out = notice.Preview{Previews: []notice.Shown{}, Visits: []notice.VisitChoice{}}
	known := n.Running().known(site.Host)
	c, err := notice.Compile(of.Said, known)
	if err != nil {
		return out, first, err
	}
	a := n.aspect(site)
	var list []visit.Visit
	if c.Trigger.Kind.OfVisit() || c.Trigger.Kind == notice.OnAsk {
		if list, err = n.Visits.Visits(ctx, visit.Filter{Site: site.Host}, uuid.Nil, previewed); err != nil {
			return out, first, err
		}
	}
	for i := range list {
		out.Visits = append(out.Visits, notice.VisitChoice{ID: list[i].ID, Time: list[i].Time, Place: notice.Place(&list[i].Card, a.Language), CountryCode: list[i].Card.Location.CountryCode})
	}
	full, missing := best(c, a, list)
	for i, v := range []*visit.Visit{full, missing} {
		if i < len(of.Visits) {
			given, err := n.Visits.Visit(ctx, of.Visits[i])
			if errors.Is(err, visit.ErrNoVisit) || err == nil && given.Site != site.Host {
				return out, first, invalid.Field("visits", "the site has no such visit", "Take one of the list.")
			}
			if err != nil {
				return out, first, err
			}
			v = &given
		}
		one, draft, err := n.show(ctx, site, c, known, a, v, i == 1)
		if err != nil {
			return out, first, err
		}
		if i == 0 {
			first = draft
		}
		out.Previews = append(out.Previews, one)
	}
	return out, first, nil
}

// best picks the newest visit that lacks the fewest facts of a notice, and the newest that lacks some; nil for none.
func best(c *notice.Compiled, a *notice.Aspect, list []visit.Visit) (full, missing *visit.Visit) {
	fewest := 0
	for i := range list {
		lacks := 0
		f := a.OfVisit(&list[i])
		for _, name := range c.Needed() {
			if f.Values[name] == "" {
				lacks++
			}
		}
		if full == nil || lacks < fewest {
			full, fewest = &list[i], lacks
		}
		if missing == nil && lacks > 0 {
			missing = &list[i]
		}
	}
	if missing == full {
		missing = nil
	}
	return full, missing
}

// show writes a notice for a visit, or for made-up facts, of which some are missing.
func (n *Notices) show(ctx context.Context, site *sites.Site, c *notice.Compiled, known *notice.Known, a *notice.Aspect, v *visit.Visit, lacking bool) (notice.Shown, notice.Draft, error) {
	out := notice.Shown{To: []string{}, Lines: []notice.Line{}, HTMLDropped: []string{}, Place: "made up"}
	var f notice.Facts
	if v != nil {
		if c.WantsCompanions() {
			n.askCompanions(site, v, ctx.Done())
		}
		f = a.OfVisit(v)
		out.Visit, out.Place, out.CountryCode = &v.ID, notice.Place(&v.Card, a.Language), v.Card.Location.CountryCode
		for name, value := range map[string]string{"asker": "you@" + site.Host, "question": f.Values["address"], "label": first(v.Card.Labels)} {
			f.Set(name, value, "")
		}
	} else {
		f, out.MadeUp = known.Examples(c.Trigger.Kind), true
		a.When(n.Now(), f)
		if lacking {
			for _, name := range c.Needed() {
				if notice.MayLack(name) {
					delete(f.Values, name)
				}
			}
			out.Place = "made up, with facts missing"
		}
	}
	d, err := c.Write(f)
	if err != nil {
		return out, d, err
	}
	out.To, out.Subject, out.Lines, out.HTML = append(out.To, d.To...), d.Subject, append(out.Lines, d.Lines...), d.HTML
	for _, line := range d.InHTML {
		if line.Dropped != nil {
			out.HTMLDropped = append(out.HTMLDropped, *line.Dropped)
		}
	}
	return out, d, nil
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// Test sends a notice to one recipient, or over a webhook, marked as a test.
func (n *Notices) Test(ctx context.Context, site *sites.Site, t notice.Test) (notice.Message, error) {
	known := n.Running().known(site.Host)
	kind := known.Channels[t.Said.Channel]
	switch {
	case kind == notice.Mail && notice.CheckRecipient(t.To) != nil:
		return notice.Message{}, invalid.Field("to", notice.CheckRecipient(t.To).Error(), "Give the mail address that gets the test.")
	case kind == notice.Webhook && t.To != "":
		return notice.Message{}, invalid.Field("to", "a webhook has no recipients", "Leave it empty.")
	}
	c, err := notice.Compile(t.Said, known)
	if err != nil {
		return notice.Message{}, err
	}
	if t.Name != "" {
		if err := notice.CheckName(t.Name); err != nil {
			return notice.Message{}, err
		}
	}
	of := notice.PreviewOf{Said: t.Said}
	if t.Visit != nil {
		of.Visits = []uuid.UUID{*t.Visit}
	}
	_, d, err := n.preview(ctx, site, of)
	if err != nil {
		return notice.Message{}, err
	}
	d.Subject = "Test: " + d.Subject
	if d.To = nil; kind == notice.Mail {
		d.To = []string{t.To}
	}
	name := t.Name
	if name == "" {
		name = "test"
	}
	l, err := newLetter(&notice.Kept{Site: site.Host, Name: name, Said: c.Said}, kind, d, n.Now())
	if err != nil {
		return notice.Message{}, err
	}
	l.Test = true
	return shown(&l, n.hosts(site.Host)), n.put(ctx, l)
}
