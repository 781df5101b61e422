package notices

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"eastporch/internal/core/checkup"
	"eastporch/internal/core/notice"
	"eastporch/internal/core/visit"
)

const (
	watchEvery = 10 * time.Second // for findings and editions, which tell nobody
	lookAgain  = 10 * time.Second // for what cannot be written as it is, or what the database did not answer
)

// Run writes and delivers until ctx ends, while no other instance does. What is being delivered then is ended.
func (n *Notices) Run(ctx context.Context) error { return n.Lead(ctx, n.lead) }

// A leader is the one instance that writes and delivers.
type leader struct {
	*Notices
	proof func(ctx context.Context) error // that it still is
	known map[[2]string]known             // what notices have met before

	mu    sync.Mutex
	busy  map[[2]string]bool // the channels that something is delivered over
	freed chan struct{}      // one is busy no more

	watched time.Time // when findings and editions were looked at
	due     time.Time // when there is something to do for what is in the database; zero for now
}

func (n *Notices) leader(proof func(context.Context) error) *leader {
	return &leader{Notices: n, proof: proof, known: map[[2]string]known{}, busy: map[[2]string]bool{}, freed: make(chan struct{}, 1)}
}

// lead is what one instance does at a time. Where nothing is to be done the database is asked nothing.
func (n *Notices) lead(ctx context.Context, proof func(context.Context) error) {
	var delivering sync.WaitGroup
	defer delivering.Wait()
	l := n.leader(proof)
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		woken := n.Woken() // before it is looked at what there is, so that nothing is missed
		if err := l.look(ctx, &delivering); err != nil && ctx.Err() == nil {
			if !errors.Is(err, visit.ErrAway) {
				n.Log.Warn("notices are not sent now", "error", err)
			}
			l.due = n.Now().Add(lookAgain)
		}
		next := l.watched.Add(watchEvery)
		if l.due.Before(next) {
			next = l.due
		}
		timer.Reset(min(max(next.Sub(n.Now()), 0), watchEvery))
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-woken:
			l.due = time.Time{}
		case <-l.freed:
			l.due = time.Time{}
		}
	}
}

func (l *leader) take(key [2]string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.busy[key] {
		return false
	}
	l.busy[key] = true
	return true
}

// leave ends the delivery over a channel; what is left there is looked at again where anything was tried.
func (l *leader) leave(key [2]string, tried bool) {
	l.mu.Lock()
	delete(l.busy, key)
	l.mu.Unlock()
	if !tried {
		return
	}
	select {
	case l.freed <- struct{}{}:
	default: // it is said already
	}
}

// look writes what met notices, begins to deliver what is due, and says when there is something to do again.
func (l *leader) look(ctx context.Context, delivering *sync.WaitGroup) error {
	now := l.Now()
	if now.Sub(l.watched) >= watchEvery || now.Before(l.watched) {
		l.watched = now
		if err := l.watch(ctx); err != nil {
			return err
		}
	}
	if now.Before(l.due) {
		return nil
	}
	until, err := l.write(ctx)
	if err != nil {
		return err
	}
	channels, err := l.Rows.Due(ctx)
	if err != nil {
		return err
	}
	if now = l.Now(); until.IsZero() {
		until = now.AddDate(1, 0, 0)
	}
	for key, at := range channels {
		if at.After(now) {
			until = earlier(until, at)
			continue
		}
		until = earlier(until, now.Add(lookAgain)) // should it be down
		if !l.take(key) {
			continue
		}
		delivering.Go(func() {
			l.leave(key, l.deliver(ctx, key[0], key[1]))
		})
	}
	l.due = until
	return nil
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// watch looks whether the checkup or an edition has met notices.
func (l *leader) watch(ctx context.Context) (err error) {
	set := l.Running()
	var findings []checkup.Diagnostic
	for _, k := range set.notices("") {
		if !k.Said.Enabled || set.Sites.Of(k.Site) == nil {
			continue
		}
		switch k.Said.Trigger.Kind {
		case notice.OnCheckup:
			if findings == nil {
				findings = set.Findings()
			}
			err = l.watchFindings(ctx, &k, findings)
		case notice.OnEdition:
			waiting, inUse := set.Editions()
			err = l.watchEdition(ctx, &k, waiting, inUse)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// watchFindings meets a notice with the findings that turned from good. Those about notices are none of its: a
// mail that fails would have another written. A finding that cannot be judged now is as it was.
func (l *leader) watchFindings(ctx context.Context, k *notice.Kept, findings []checkup.Diagnostic) error {
	before, first, err := l.remembered(ctx, k)
	if err != nil {
		return err
	}
	now, after := l.Now(), map[string]bool{}
	var list []notice.Triggered
	for _, f := range findings {
		switch {
		case f.Name == "notices":
		case f.State == checkup.Attention:
			key := f.Name + ": " + f.Title
			if after[key] = true; !before[key] && !first {
				list = append(list, notice.Triggered{Key: f.Name, At: now, Facts: map[string]string{"finding": f.Title, "finding_text": f.Text}, Times: 1})
			}
		case f.State == checkup.Unknown:
			for key := range before {
				after[key] = true
			}
		}
	}
	if !first && len(list) == 0 && same(before, after) {
		return nil
	}
	return l.meet(ctx, k, after, list, now)
}

func same(a, b map[string]bool) bool {
	if len(a) != len(b) {
		return false
	}
	for key := range a {
		if !b[key] {
			return false
		}
	}
	return true
}

func keysOf(set map[string]bool) []string {
	list := []string{}
	for key := range set {
		list = append(list, key)
	}
	slices.Sort(list)
	return list
}

// known is what a notice has met before, as it was saved then.
type known struct {
	revision int64
	keys     map[string]bool // nil where it has not looked yet
}

// remembered gives what a notice has met before; first says that it has not looked yet.
func (l *leader) remembered(ctx context.Context, k *notice.Kept) (set map[string]bool, first bool, err error) {
	key := [2]string{k.Site, k.Name}
	if had := l.known[key]; had.revision == k.Revision && had.keys != nil {
		return had.keys, false, nil
	}
	body, err := l.Rows.Known(ctx, k.Site, k.Name)
	if err != nil || body == nil {
		return nil, true, err
	}
	var keys []string
	set = map[string]bool{}
	if json.Unmarshal(body, &keys) != nil {
		return set, true, nil // it was of another kind before
	}
	for _, key := range keys {
		set[key] = true
	}
	l.known[key] = known{k.Revision, set}
	return set, false, nil
}

// meet keeps what a notice has met, with what triggers it.
func (l *leader) meet(ctx context.Context, k *notice.Kept, after map[string]bool, list []notice.Triggered, now time.Time) error {
	if err := l.Rows.Meet(ctx, k.Site, k.Name, keysOf(after), list, now); err != nil {
		return err
	}
	l.known[[2]string{k.Site, k.Name}] = known{k.Revision, after}
	if len(list) > 0 {
		l.due = time.Time{}
	}
	return nil
}

// watchEdition meets a notice with an edition that waits, once; also with one that waited before the notice was made.
func (l *leader) watchEdition(ctx context.Context, k *notice.Kept, waiting, inUse string) error {
	before, _, err := l.remembered(ctx, k)
	if err != nil || waiting == "" || before[waiting] {
		return err
	}
	now := l.Now()
	met := notice.Triggered{Key: waiting, At: now, Facts: map[string]string{"edition": waiting, "edition_in_use": inUse}, Times: 1}
	return l.meet(ctx, k, map[string]bool{waiting: true}, []notice.Triggered{met}, now)
}
