package companions

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/caller"
	"eastporch/internal/core/card"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/sites"
)

// Try tries what is said of a companion with made-up visitors. It stores nothing; what is asked counts.
func (c *Companions) Try(ctx context.Context, visitors cards, site *sites.Site, try companion.Try) (companion.Tries, error) {
	out := companion.Tries{Results: []companion.Tried{}}
	err := companion.CheckName(try.Name)
	if err == nil {
		try.Said, err = c.check(try.Said)
	}
	if n := len(try.Visitors); err == nil && (n == 0 || n > 4) {
		err = invalid.Field("visitors", fmt.Sprintf("there are %d", n), "Give 1 to 4.")
	}
	if err != nil {
		return out, err
	}
	zone, err := time.LoadLocation(site.TimeZone)
	if err != nil {
		zone = time.UTC
	}
	cur := &current{Compiled: companion.Compile(try.Name, try.Said), zone: zone}
	e := &entry{all: c, host: site.Host, name: try.Name}
	if saved := c.of(site).find(try.Name); saved != nil {
		e = saved.entry
	}
	who := make([]madeUp, len(try.Visitors))
	for i, text := range try.Visitors {
		if who[i], err = c.madeUp(visitors, site, text); err != nil {
			return out, invalid.Field(fmt.Sprintf("visitors.%d", i), err.Error(), "Give a town and its country, such as Lisbon, PT, or an address.")
		}
	}
	out.Results = make([]companion.Tried, len(who))
	var asking sync.WaitGroup
	for i := range who {
		asking.Go(func() { out.Results[i] = c.try(ctx, e, cur, &who[i], try.Ask) })
	}
	asking.Wait()
	return out, ctx.Err()
}

// madeUp is a visitor that somebody made up.
type madeUp struct {
	text, place string
	subject     companion.Subject
}

// madeUp reads a visitor: an address, or the name of a town with its country.
func (c *Companions) madeUp(visitors cards, site *sites.Site, text string) (m madeUp, err error) {
	m.text = text
	if ip, _, err := addr.Read(text); err == nil {
		made := visitors.Card(ip, caller.ObtainedGiven, card.RequestContext{At: site.Local}, c.Now())
		names := made.Location.NamesIn("en")
		m.subject, m.place = made.CompanionSubject(), cmp.Or(plain.Value(names.City), plain.Value(names.Region), plain.Value(names.Country), "nowhere known")
		return m, nil
	}
	name, country, _ := strings.Cut(text, ",")
	name, country = strings.TrimSpace(name), strings.TrimSpace(country)
	if country != "" {
		if country, err = almanac.ReadCode(country); err != nil {
			return m, err
		}
	}
	town, err := meant(name, country)
	if err != nil {
		return m, err
	}
	of, _ := almanac.ByCode(town.Country)
	made := visitors.Localize(of, town.Zone, card.RequestContext{At: site.Local}, c.Now())
	m.place = town.Name
	m.subject = companion.Subject{Level: string(atlas.City), Point: &town.Point, Country: of, TimeZone: town.Zone, Language: made.Locale.Language, Written: made.Locale.Formatting}
	return m, nil
}

// muchLarger is how many times the people of every other place of its name one has that is
// meant without its country.
const muchLarger = 10

// meant is the town of a name, in a country unless that is "".
func meant(name, country string) (*gazetteer.Town, error) {
	if country != "" {
		if found, ok := gazetteer.Find(country, "", name); ok {
			return found.Town, nil
		}
		return nil, fmt.Errorf("%.60q is no town that is known in %s", name, country)
	}
	list := gazetteer.Named(name) // the most populous first
	if len(list) == 0 {
		return nil, fmt.Errorf("%.60q is neither an address nor a town that is known", name)
	}
	in := map[string]bool{list[0].Country: true}
	for _, other := range list {
		if muchLarger*other.Population > list[0].Population {
			in[other.Country] = true
		}
	}
	if len(in) > 1 {
		return nil, fmt.Errorf("%.60q is in %s: say in which country", name, strings.Join(slices.Sorted(maps.Keys(in)), ", "))
	}
	return list[0], nil
}

func (c *Companions) try(ctx context.Context, e *entry, cur *current, of *madeUp, ask bool) companion.Tried {
	t := companion.Tried{Visitor: of.text, Language: of.subject.Written, Lines: []companion.Line{}, Place: of.place}
	if of.subject.Country != nil {
		t.CountryCode = &of.subject.Country.Code
	}
	without := func(reason string) companion.Tried {
		cur.Without(reason).Fill(&t.Answer, companion.Never)
		return t
	}
	facts, reason := cur.Facts(&of.subject)
	if reason != "" {
		return without(reason)
	}
	secrets, err := c.Secrets.Read(cur.SecretNames())
	if err != nil {
		return without(err.Error())
	}
	var b body
	if ask {
		wait, why, err := e.claim(ctx, cur, nil)
		if err != nil {
			return without("the database does not answer, so that the question could not be counted")
		}
		if wait > 0 {
			return without(why)
		}
		trip := c.travel(ctx, cur.Compiled, &facts, secrets, "")
		trip.question.Problem = plain.Optional(trip.wrong)
		e.noteTry(cur, &facts, &trip)
		b = body{[]byte(secrets.Hide(string(trip.body))), trip.question}
		if trip.wrong == "" {
			c.remember(e, &trip)
		}
	} else {
		var ok bool
		if b, ok = c.bodies.Get(bodyKey(e.host, e.name, cur.Request(&facts, secrets).Shown)); !ok {
			return without("it was not asked for this place yet")
		}
	}
	t.Question = &b.last
	if len(b.text) <= companion.MaxBytes {
		t.Lines, t.LinesCut = companion.Lines(b.text, secrets)
	}
	if b.last.Problem != nil {
		return without(*b.last.Problem)
	}
	read, err := cur.Read(b.text, secrets)
	if err != nil {
		wrong := err.Error()
		t.Question.Problem = &wrong
		return without(wrong)
	}
	age := c.Now().Sub(b.last.Time)
	cur.Show(read).In(of.subject.Written).Fill(&t.Answer, companion.Moment{Age: max(0, int(age/time.Second)), Refresh: -1})
	return t
}

// noteTry notes what somebody asked who tries a companion. Where that was the question of the one that is saved, it
// says how that one stands, by the values that are saved.
func (e *entry) noteTry(cur *current, facts *companion.Facts, t *trip) {
	last, saved := t.question, e.now.Load()
	own := saved != nil && saved.said.Asks(&cur.Compiled.Said)
	if own && t.wrong == "" {
		if _, err := saved.Read(t.body, t.secrets); err != nil {
			last.Problem = plain.Optional(err.Error())
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.last, e.lastOwn = &last, own; own {
		e.lastFacts = facts
	}
}
