package gather

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"strings"
	"sync"
	"time"

	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/fetch"
	"eastporch/internal/files/whole"
)

// A round asks for the feeds that are due.
type round struct {
	g            *Gatherer
	installation string
	due          int

	lock   sync.Mutex // of all below, and of the feeds
	feeds  map[string]*Feed
	done   int
	left   int64 // bytes
	saved  time.Time
	failed error // of the disk
}

// host asks for the feeds of one host, one after another.
func (r *round) host(ctx context.Context, feeds []*Feed) {
	client, done := r.g.Client.Keep()
	defer done()
	pause := cmp.Or(r.g.Pause, politePause)
	for i, f := range feeds {
		if i > 0 {
			select {
			case <-ctx.Done():
			case <-time.After(pause):
			}
		}
		if ctx.Err() != nil {
			return
		}
		r.ask(ctx, client, f)
	}
}

// ask asks for a feed, and keeps what came of it.
func (r *round) ask(ctx context.Context, client *fetch.Client, f *Feed) {
	r.lock.Lock()
	question := fetch.Question{
		URL: f.URL, Most: min(maxBytes, r.left), Within: cmp.Or(r.g.Within, maxTime), Plain: r.g.Plain, Redirects: maxRedirects,
	}
	if f.Sum != "" && f.Failures == 0 {
		question.ETag, question.Modified = f.ETag, f.Modified
	}
	spent := r.left <= 0
	r.lock.Unlock()
	if spent { // it is due in the next round
		return
	}
	reply, err := client.Ask(ctx, question)
	if ctx.Err() != nil {
		return // which is not the feed's fault
	}
	if err == nil && !reply.Same {
		err = plausible(reply)
	}
	r.lock.Lock()
	defer r.lock.Unlock()
	now := r.g.now()
	f.Tried, f.Failed = &now, ""
	fresh := time.Duration(-1)
	switch {
	case err != nil:
		f.Failures++
		f.Failed = err.Error()
	case reply.Same:
		f.Failures, f.Good, fresh = 0, &now, reply.Fresh
	default:
		sum := sha256.Sum256(reply.Body)
		f.Failures, f.Good, fresh = 0, &now, reply.Fresh
		f.ETag, f.Modified = reply.ETag, reply.Modified
		r.left -= int64(len(reply.Body))
		if text := hex.EncodeToString(sum[:]); text != f.Sum {
			f.Sum = text
			r.failed = errors.Join(r.failed, whole.Write(r.g.content(f), 0o600, reply.Body))
		}
	}
	next := geofeed.Next(now, fresh, f.Failures, hostOf(f.URL), r.installation)
	f.Next = &next
	if r.done++; r.g.Progress != nil {
		r.g.Progress(r.done, r.due)
	}
	if time.Since(r.saved) > saveEvery {
		r.saved = time.Now()
		r.failed = errors.Join(r.failed, r.g.save(byURL(r.feeds)))
	}
}

// plausible says why an answer is no geofeed: a page, say, or a table of another kind.
func plausible(reply *fetch.Reply) error {
	text := bytes.TrimSpace(bytes.TrimPrefix(reply.Body, []byte("\ufeff")))
	if strings.Contains(strings.ToLower(reply.Type), "html") || bytes.HasPrefix(text, []byte("<")) {
		return errors.New("it answers a page of HTML, not a geofeed")
	}
	rows, rejected := 0, 0
	first := ""
	source.Entries(text, false, func(e *source.Entry) {
		rows++
		if e.Reject != nil {
			if rejected++; first == "" {
				first = e.Reject.Error()
			}
		}
	})
	if rejected*2 > rows {
		return errors.New("more than half of its lines are none of a geofeed: " + first)
	}
	return nil
}

// state says how a feed stands by now.
func (g *Gatherer) state(f *Feed) State {
	switch {
	case f.Sum == "" && f.Failed == "":
		return Waiting
	case f.Sum == "", f.Wrong != "":
		return Refused
	case f.Failed != "" && (f.Good == nil || g.now().Sub(*f.Good) > geofeed.KeptFor):
		return Lapsed
	case f.Failed != "":
		return Failing
	}
	return Used
}

// read gives the last good content of a feed, where it may be used; it sets the state.
func (g *Gatherer) read(f *Feed) []byte {
	f.Wrong = ""
	if f.State = g.state(f); f.State != Used && f.State != Failing {
		return nil
	}
	text, err := os.ReadFile(g.content(f))
	sum := sha256.Sum256(text)
	if err != nil || hex.EncodeToString(sum[:]) != f.Sum { // it is asked for anew
		f.State, f.Sum, f.ETag, f.Modified, f.Next = Waiting, "", "", "", nil
		return nil
	}
	return text
}
