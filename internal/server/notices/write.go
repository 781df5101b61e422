package notices

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/notice"
	"eastporch/internal/core/visit"
	"eastporch/internal/server/sites"
)

// companionWait bounds how long a notice waits for what companions say.
const companionWait = 5 * time.Second

func newID(now time.Time) (uuid.UUID, error) { return visit.NewID(now, rand.Reader) }

func written(site, name string, letters ...notice.Letter) notice.Written {
	return notice.Written{Site: site, Notice: name, Letters: letters}
}

// compile reads a notice as it is stored, once for each of its revisions.
func (n *Notices) compile(set *Settings, k *notice.Kept) (*notice.Compiled, error) {
	key := [2]string{k.Site, k.Name}
	n.mu.Lock()
	c, ok := n.compiled[key]
	n.mu.Unlock()
	if ok && c.revision == k.Revision && c.of == set {
		return c.Compiled, nil
	}
	made, err := notice.Compile(k.Said, set.known(k.Site))
	n.mu.Lock()
	defer n.mu.Unlock()
	if delete(n.broken, key); err != nil {
		delete(n.compiled, key)
		if k.Said.Enabled {
			n.broken[key] = err.Error()
		}
		return nil, err
	}
	n.compiled[key] = cached{k.Revision, set, made}
	return made, nil
}

// write puts letters in the place of what met notices, until nothing is left but what is to wait; then it says until when,
// the zero time where nothing is.
func (l *leader) write(ctx context.Context) (until time.Time, err error) {
	wait := map[[2]string]bool{}
	again := func(key [2]string, at time.Time) {
		if wait[key] = true; until.IsZero() || at.Before(until) {
			until = at
		}
	}
	for {
		list, err := l.Rows.Triggered(ctx, wait)
		if err != nil || len(list) == 0 {
			return until, err
		}
		by := map[[2]string]*notice.Kept{}
		for _, k := range l.Running().notices("") {
			by[[2]string{k.Site, k.Name}] = &k
		}
		groups := map[[2]string][]notice.Triggered{}
		var order [][2]string // in which they were met first
		for _, t := range list {
			key := [2]string{t.Site, t.Notice}
			if groups[key] == nil {
				order = append(order, key)
			}
			groups[key] = append(groups[key], t)
		}
		for _, key := range order {
			group := groups[key]
			if by[key] == nil { // it was dropped; or is so new that it is not known here
				if err := l.Rows.Forget(ctx, ids(group)); err != nil {
					return until, err
				}
				again(key, l.Now().Add(lookAgain))
				continue
			}
			quiet, err := l.writeOne(ctx, by[key], group)
			if errors.Is(err, visit.ErrAway) || ctx.Err() != nil {
				return until, err
			}
			if err != nil {
				l.Log.Warn("a notice is not written", "site", key[0], "notice", key[1], "error", err)
			}
			if err != nil {
				quiet = l.Now().Add(lookAgain)
			}
			if !quiet.IsZero() {
				again(key, quiet)
			}
		}
	}
}

// writeOne writes what met a notice; it says until when it is to wait, the zero time where it is written.
func (n *Notices) writeOne(ctx context.Context, k *notice.Kept, list []notice.Triggered) (quiet time.Time, err error) {
	w := written(k.Site, k.Name)
	w.Triggers = ids(list)
	now, set := n.Now(), n.Running()
	site := set.Sites.Of(k.Site)
	if !k.Said.Enabled || site == nil {
		return quiet, n.Rows.Write(ctx, w, now)
	}
	c, err := n.compile(set, k)
	if err != nil {
		return quiet, err
	}
	a := n.aspect(site)
	if c.Quiet.Holds(now, a.Zone) {
		return c.Quiet.Round(now, a.Zone), nil
	}
	counted, err := n.Rows.Counted(ctx, k.Site, k.Name, now.Add(-c.Limit.Window()))
	if err != nil {
		return quiet, err
	}
	p := pile{n: n, k: k, c: c, at: now, counted: counted, kind: n.kindOf(k)}
	for _, t := range list {
		if err := p.add(ctx, site, a, t); err != nil {
			return quiet, err
		}
	}
	if err := p.close(); err != nil {
		return quiet, err
	}
	w.Letters, w.LeftOut = p.letters, p.left
	return quiet, n.Rows.Write(ctx, w, now)
}

func ids(list []notice.Triggered) (ids []int64) {
	for _, t := range list {
		ids = append(ids, t.ID)
	}
	return ids
}

// kindOf is the kind of a notice's channel, "" where there is none by now.
func (n *Notices) kindOf(k *notice.Kept) string {
	return n.Running().known(k.Site).Channels[k.Said.Channel]
}

// A pile is what becomes of a notice's triggers: letters, one for each or one for all of a quiet time.
type pile struct {
	n       *Notices
	k       *notice.Kept
	c       *notice.Compiled
	kind    string
	at      time.Time
	counted map[string]int // by the keys of the limit
	letters []notice.Letter
	left    int64

	round    time.Time // the quiet time of drafts, which are for one digest
	drafts   []notice.Draft
	keys     []string
	visits   []uuid.UUID
	leftThen int64
}

// add writes what one trigger is about, unless the limit leaves it out.
func (p *pile) add(ctx context.Context, site *sites.Site, a *notice.Aspect, t notice.Triggered) error {
	round := time.Time{}
	if q := p.c.Quiet; q.Holds(t.At, a.Zone) && q.Then == "digest" {
		round = q.Round(t.At, a.Zone)
	}
	if !round.Equal(p.round) {
		if err := p.close(); err != nil {
			return err
		}
		p.round = round
	}
	digest := !round.IsZero()
	key := allKeys
	if p.c.Limit.Each {
		key = keyOf(t.Key)
	}
	joins := digest && len(p.drafts) > 0 && !p.c.Limit.Each // a digest is one message
	if p.counted[key] >= p.c.Limit.Most && !joins {
		p.leave(t.Times, digest)
		return nil
	}
	facts, ok, err := p.n.facts(ctx, site, a, p.c, t)
	if errors.Is(err, visit.ErrNoVisit) { // it was erased
		return nil
	}
	if err != nil {
		return err
	}
	if !ok {
		return nil
	}
	draft, err := p.c.Write(facts)
	if err != nil {
		return err
	}
	p.leave(t.Times-1, digest)
	if !joins {
		p.counted[key]++
	}
	var about []uuid.UUID
	if t.Visit != nil {
		about = []uuid.UUID{*t.Visit}
	}
	if digest {
		p.drafts, p.keys, p.visits = append(p.drafts, draft), append(p.keys, keyOf(t.Key)), append(p.visits, about...)
		return nil
	}
	return p.letter(draft, []string{keyOf(t.Key)}, about)
}

func (p *pile) leave(times int64, inDigest bool) {
	p.left += times
	if inDigest {
		p.leftThen += times
	}
}

// close makes the digest of the drafts that wait for one.
func (p *pile) close() error {
	drafts, keys, visits, left := p.drafts, p.keys, p.visits, p.leftThen
	p.drafts, p.keys, p.visits, p.leftThen = nil, nil, nil, 0
	if len(drafts) == 0 {
		return nil
	}
	return p.letter(p.c.Digest(drafts, left), keys, visits)
}

// allKeys counts all messages of a notice, and keyOf one kind of them: no country or label is called so.
const allKeys = "*"

func keyOf(key string) string { return "=" + key }

func (p *pile) letter(d notice.Draft, keys []string, visits []uuid.UUID) error {
	l, err := newLetter(p.k, p.kind, d, p.at)
	l.Keys, l.Visits = keys, visits
	p.letters = append(p.letters, l)
	return err
}

// newLetter makes a letter of what a notice says. One that nobody is left to get has failed.
func newLetter(k *notice.Kept, kind string, d notice.Draft, now time.Time) (notice.Letter, error) {
	id, err := newID(now)
	now = now.UTC().Truncate(time.Millisecond)
	l := notice.Letter{
		ID: id, Site: k.Site, Notice: k.Name, Channel: k.Said.Channel, Kind: kind, Created: now, Subject: d.Subject, Text: d.Text, HTML: d.HTML, Facts: d.Facts,
		Recipients: []notice.Recipient{}, State: notice.Waiting, NextTry: now,
	}
	for _, to := range d.To {
		l.Recipients = append(l.Recipients, notice.Recipient{Address: to, State: notice.Waiting})
	}
	if kind == notice.Mail && len(d.To) == 0 {
		l.State, l.Result, l.Finished = notice.Failed, "no recipient is left: the facts of all of them are missing", &now
	}
	return l, err
}

// facts gives what is known of what met a notice; ok is false where its condition is not met.
func (n *Notices) facts(ctx context.Context, site *sites.Site, a *notice.Aspect, c *notice.Compiled, t notice.Triggered) (f notice.Facts, ok bool, err error) {
	switch c.Trigger.Kind {
	case notice.OnCountry, notice.OnLabel:
		v, err := n.Visits.Visit(ctx, *t.Visit)
		if err != nil {
			return f, false, err
		}
		if c.WantsCompanions() {
			n.askCompanions(site, &v, ctx.Done())
		}
		if c.Trigger.Category != "" && !v.Card.Companions.Has(c.Trigger.Category) {
			return f, false, nil
		}
		f = a.OfVisit(&v)
		if c.Trigger.Kind == notice.OnLabel {
			f.Set("label", t.Key, "")
		}
		return f, true, nil
	case notice.OnRefusals:
		return a.Jump(integer(t.Facts["last"]), integer(t.Facts["before"]), t.At), true, nil
	default:
		f = notice.NewFacts()
		a.When(t.At, f)
		for name, value := range t.Facts {
			f.Set(name, value, "")
		}
		return f, true, nil
	}
}

func integer(text string) (n int64) {
	for _, r := range strings.TrimSpace(text) {
		if r < '0' || r > '9' || n > 1<<53 {
			return n
		}
		n = n*10 + int64(r-'0')
	}
	return n
}

// askCompanions has a visit's card say what companions say now.
func (n *Notices) askCompanions(site *sites.Site, v *visit.Visit, over <-chan struct{}) {
	of, subject := n.Running().Companions(site.Host), v.Card.CompanionSubject()
	v.Card.Companions = of.Answers(&subject, true, n.Now())
	v.Card.Companions.Wait(companionWait, over)
	v.Card.Companions = slices.Clone(of.Answers(&subject, false, n.Now()))
}
