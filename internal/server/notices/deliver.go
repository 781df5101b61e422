package notices

import (
	"context"
	"fmt"
	"slices"
	"time"

	"eastporch/internal/core/notice"
	"eastporch/internal/core/plain"
)

// verdict is what the other side of a channel makes of a message.
type verdict int

const (
	taken   verdict = iota
	refused         // for good
	later           // by the other side, for this message or recipient
	away            // nobody was reached, or not so that a message could be given
	gone            // the webhook says that it is for good
)

// outcomes are the words of the metrics.
var outcomes = map[verdict]string{taken: "delivered", refused: "refused", later: "put_off", away: "not_reached", gone: "refused"}

// outcome is what came of one try.
type outcome struct {
	verdict
	says  string        // the other side, or why it was not reached
	after time.Duration // that the other side wants to be left alone for
}

// longestSays bounds what is kept of what the other side says, in bytes.
const longestSays = 300

// recordWithin bounds how long a letter's result may take to be kept when the service stops.
const recordWithin = 5 * time.Second

// deliver delivers what is due over a channel, in the order in which it was written, until nothing is. It reads the
// channel anew for each, so that one that was saved or dropped meanwhile is used no more as it was. It says whether anything
// was tried.
func (l *leader) deliver(ctx context.Context, site, name string) (tried bool) {
	for ctx.Err() == nil {
		k, err := l.channel(ctx, site, name)
		switch {
		case err != nil, k.NextTry.After(l.Now()) && k.Failures > 0, k.Gone && !l.giveUp(ctx, k):
			return tried
		case k.Gone:
			continue
		}
		list, err := l.Rows.Waiting(ctx, site, name)
		if err != nil {
			return tried
		}
		letter := next(list, l.Now())
		if letter == nil || l.proof(ctx) != nil {
			return tried
		}
		tried = true
		if err := l.send(ctx, k, letter); err != nil {
			if ctx.Err() == nil {
				l.Log.Warn("what became of a message is not kept", "site", letter.Site, "notice", letter.Notice, "message", letter.ID, "error", err)
			}
			return tried
		}
	}
	return tried
}

// channel gives a channel as it is said now, and how it stands; [notice.ErrNoChannel] where there is none.
func (n *Notices) channel(ctx context.Context, site, name string) (*notice.KeptChannel, error) {
	d := n.Running().Documents.Get(channelKey(site, name))
	if d == nil {
		return nil, notice.ErrNoChannel
	}
	k, err := channelOf(d)
	if err != nil {
		return nil, err
	}
	healths, err := n.Rows.Healths(ctx)
	k.ChannelHealth = healthOf(healths, &k)
	return &k, err
}

// healthOf is how a channel stands since it was saved as it is now.
func healthOf(all map[[2]string]notice.HealthOf, k *notice.KeptChannel) notice.ChannelHealth {
	if h := all[[2]string{k.Site, k.Name}]; h.Revision == k.Revision {
		return h.ChannelHealth
	}
	return notice.ChannelHealth{}
}

// next picks what is delivered next. Messages of a webhook keep their order; a mail that a server has put off lets
// those to other recipients pass.
func next(list []notice.Letter, now time.Time) *notice.Letter {
	held := map[string]bool{}
	for i := range list {
		l := &list[i]
		ahead := slices.ContainsFunc(l.Recipients, func(r notice.Recipient) bool { return r.State == notice.Waiting && held[r.Address] })
		if !ahead && !l.NextTry.After(now) {
			return l
		}
		if l.Kind == notice.Webhook {
			return nil
		}
		for _, r := range l.Recipients {
			if r.State == notice.Waiting {
				held[r.Address] = true
			}
		}
	}
	return nil
}

// giveUp fails what waits for a webhook that is gone; false where nothing does.
func (n *Notices) giveUp(ctx context.Context, k *notice.KeptChannel) bool {
	list, err := n.Rows.Waiting(ctx, k.Site, k.Name)
	if err != nil || len(list) == 0 {
		return false
	}
	for i := range list {
		l, now := &list[i], n.Now().UTC()
		l.State, l.Result, l.Finished = notice.Failed, "not tried: "+k.Reason, &now
		if n.Rows.Record(ctx, l, nil, now) != nil {
			return false
		}
	}
	return true
}

// send tries one letter, and keeps what came of it.
func (n *Notices) send(ctx context.Context, k *notice.KeptChannel, l *notice.Letter) error {
	values, key, err := n.secretOf(k)
	if err != nil {
		return n.recordDown(ctx, k, l, outcome{away, err.Error(), 0}, n.Now())
	}
	began := n.Now()
	try := func(to string, o outcome) {
		o.says = plain.Clean(values.Hide(o.says), longestSays)
		l.Tries = append(l.Tries, notice.Attempt{Time: began.UTC().Truncate(time.Millisecond), To: to, Ok: o.verdict == taken, Result: o.says, TookMs: n.Now().Sub(began).Milliseconds()})
		if len(l.Tries) > triesKept {
			l.Tries = l.Tries[len(l.Tries)-triesKept:]
		}
	}
	if l.Kind == notice.Webhook {
		o := n.post(ctx, k, l, key)
		if o.says = plain.Clean(values.Hide(o.says), longestSays); ctx.Err() != nil && o.verdict == away {
			return nil // the service stops: as if it had not been tried
		}
		try(k.Said.Host(), o)
		return n.recordPost(ctx, k, l, o)
	}
	return n.mail(ctx, k, l, key, values.Hide, try)
}

// stopWithin is how long what is being delivered may go on when the service stops: what arrives and is not
// noted would arrive again.
const stopWithin = 3 * time.Second

// begun gives a context for a delivery that has begun, which may take so long.
func begun(ctx context.Context, most time.Duration) (context.Context, context.CancelFunc) {
	lasting, cancel := context.WithTimeout(context.WithoutCancel(ctx), most)
	off := context.AfterFunc(ctx, func() { time.AfterFunc(stopWithin, cancel) })
	return lasting, func() {
		off()
		cancel()
	}
}

// triesKept bounds the attempts that are listed of a letter.
const triesKept = 60

// secretOf gives the password or key of a channel, and what hides it.
func (n *Notices) secretOf(k *notice.KeptChannel) (hides, string, error) {
	if k.Said.Secret == "" {
		return hides{}, "", nil
	}
	values, err := n.Secrets.Read([]string{k.Said.Secret})
	return hides{values.Hide}, values[k.Said.Secret], err
}

// hides takes secrets out of texts.
type hides struct{ hide func(string) string }

func (h hides) Hide(text string) string {
	if h.hide == nil {
		return text
	}
	return h.hide(text)
}

// record keeps a letter also when the service stops.
func (n *Notices) record(ctx context.Context, l *notice.Letter, went []string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordWithin)
	defer cancel()
	return n.Rows.Record(ctx, l, went, n.Now())
}

// health keeps how a channel stands.
func (n *Notices) health(ctx context.Context, k *notice.KeptChannel, o outcome) error {
	n.Count(k.Site, k.Name, outcomes[o.verdict])
	h, now := k.ChannelHealth, n.Now().UTC()
	h.Used = true
	switch o.verdict {
	case gone:
		h.Gone, h.Reason, h.Since = true, o.says, now
	case away:
		if h.Failures++; h.Failures == 1 {
			h.Since = now
		}
		h.Reason, h.NextTry = o.says, now.Add(channelPause(h.Failures, o.after))
	default:
		h = notice.ChannelHealth{Used: true}
	}
	if h == k.ChannelHealth {
		return nil
	}
	k.ChannelHealth = h
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordWithin)
	defer cancel()
	return n.Rows.Health(ctx, k.Site, k.Name, k.Revision, h)
}

// longestPause bounds how long a channel is left alone.
const longestPause = 30 * time.Minute

func channelPause(failures int, after time.Duration) time.Duration {
	pause := 15 * time.Second << min(failures-1, 10)
	return min(max(pause, after), longestPause)
}

// recordDown keeps that a channel's other side was not reached.
func (n *Notices) recordDown(ctx context.Context, k *notice.KeptChannel, l *notice.Letter, o outcome, began time.Time) error {
	l.Tries = append(l.Tries, notice.Attempt{Time: began.UTC().Truncate(time.Millisecond), Result: o.says, TookMs: n.Now().Sub(began).Milliseconds()})
	if err := n.health(ctx, k, o); err != nil {
		return err
	}
	putOff(l, n.Now(), o.says, 0)
	return n.record(ctx, l, nil)
}

// putOff has a letter wait for its next attempt, or fail where it has none left.
func putOff(l *notice.Letter, now time.Time, says string, after time.Duration) {
	now = now.UTC().Truncate(time.Millisecond)
	l.Tried++
	l.Result = says
	if pause, ok := notice.Pause(l.Tried); ok {
		l.NextTry = now.Add(max(pause, min(after, longestAfter)))
		return
	}
	for i := range l.Recipients {
		if r := &l.Recipients[i]; r.State == notice.Waiting {
			r.State, r.Result = notice.Failed, says
		}
	}
	l.State, l.Finished = notice.Failed, &now
	l.Result = fmt.Sprintf("given up after %d attempts: %s", l.Tried, says)
}

// longestAfter bounds what the other side may want.
const longestAfter = 6 * time.Hour

// recordPost keeps what came of a message to a webhook.
func (n *Notices) recordPost(ctx context.Context, k *notice.KeptChannel, l *notice.Letter, o outcome) error {
	if err := n.health(ctx, k, o); err != nil {
		return err
	}
	now := n.Now().UTC().Truncate(time.Millisecond)
	switch o.verdict {
	case taken:
		l.State, l.Result, l.Finished = notice.Delivered, o.says, &now
		l.Tried++
		return n.record(ctx, l, []string{""})
	case refused, gone:
		l.State, l.Result, l.Finished = notice.Failed, o.says, &now
		l.Tried++
	default:
		putOff(l, now, o.says, o.after)
	}
	return n.record(ctx, l, nil)
}
