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
	lookEvery  = time.Second      // for what met notices, and what is due
	watchEvery = 10 * time.Second // for findings and editions
	leadAgain  = time.Second
)

// Run writes and delivers until ctx ends, while no other instance does. What is being delivered then is ended.
func (n *Notices) Run(ctx context.Context) error {
	for ctx.Err() == nil {
		if err := n.Rows.Lead(ctx, n.lead); err != nil && ctx.Err() == nil {
			n.Log.Debug("notices wait for the database", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(leadAgain):
		}
	}
	return nil
}

// lead is what one instance does at a time.
func (n *Notices) lead(ctx context.Context) {
	var delivering sync.WaitGroup
	defer delivering.Wait()
	busy := &busyChannels{of: map[[2]string]bool{}}
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for ctx.Err() == nil {
		if err := n.look(ctx, busy, &delivering); err != nil && ctx.Err() == nil && !errors.Is(err, visit.ErrAway) {
			n.Log.Warn("notices are not sent now", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-ticker.C:
		case <-n.wake:
		}
	}
}

// busyChannels are those that something is delivered over.
type busyChannels struct {
	mu sync.Mutex
	of map[[2]string]bool
}

func (b *busyChannels) take(key [2]string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.of[key] {
		return false
	}
	b.of[key] = true
	return true
}

func (b *busyChannels) leave(key [2]string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.of, key)
}

// look writes what met notices, and begins to deliver what is due.
func (n *Notices) look(ctx context.Context, busy *busyChannels, delivering *sync.WaitGroup) error {
	if now := n.Now(); now.Sub(n.lastWatch) >= watchEvery || now.Before(n.lastWatch) {
		n.lastWatch = now
		if err := n.watch(ctx); err != nil {
			return err
		}
	}
	if err := n.write(ctx); err != nil {
		return err
	}
	due, err := n.Rows.Due(ctx, n.Now())
	if err != nil {
		return err
	}
	for _, key := range due {
		if !busy.take(key) {
			continue
		}
		delivering.Go(func() {
			defer busy.leave(key)
			n.deliver(ctx, key[0], key[1])
		})
	}
	return nil
}

// watch looks whether the checkup or an edition has met notices.
func (n *Notices) watch(ctx context.Context) error {
	all, err := n.Rows.Notices(ctx)
	if err != nil {
		return err
	}
	set := n.settings.Load()
	var findings []checkup.Diagnostic
	for _, k := range all {
		if !k.Said.Enabled || set.Sites.Of(k.Site) == nil {
			continue
		}
		switch k.Said.Trigger.Kind {
		case notice.OnCheckup:
			if findings == nil {
				findings = set.Findings()
			}
			err = n.watchFindings(ctx, &k, findings)
		case notice.OnEdition:
			waiting, inUse := set.Editions()
			err = n.watchEdition(ctx, &k, waiting, inUse)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// watchFindings meets a notice with the findings that turned from good. Those about notices are none of its: a
// mail that fails would have another written. A finding that cannot be judged now is as it was.
func (n *Notices) watchFindings(ctx context.Context, k *notice.Kept, findings []checkup.Diagnostic) error {
	before, first, err := n.remembered(ctx, k)
	if err != nil {
		return err
	}
	now, after := n.Now(), map[string]bool{}
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
	return n.Rows.Meet(ctx, k.Site, k.Name, keysOf(after), list, now)
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

// remembered gives what a notice has met before; first says that it has not looked yet.
func (n *Notices) remembered(ctx context.Context, k *notice.Kept) (set map[string]bool, first bool, err error) {
	body, err := n.Rows.Known(ctx, k.Site, k.Name)
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
	return set, false, nil
}

// watchEdition meets a notice with an edition that waits, once; also with one that waited before the notice was made.
func (n *Notices) watchEdition(ctx context.Context, k *notice.Kept, waiting, inUse string) error {
	before, _, err := n.remembered(ctx, k)
	if err != nil || waiting == "" || before[waiting] {
		return err
	}
	now := n.Now()
	met := notice.Triggered{Key: waiting, At: now, Facts: map[string]string{"edition": waiting, "edition_in_use": inUse}, Times: 1}
	return n.Rows.Meet(ctx, k.Site, k.Name, []string{waiting}, []notice.Triggered{met}, now)
}
