// Package rates keeps the exchange rates that the service converts with: it reads them
// from a file or over HTTP, again and again, and keeps the old ones where that fails.
package rates

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"

	"eastporch/internal/core/locale"
	"eastporch/internal/fetch"
	"eastporch/internal/files/whole"
	"eastporch/internal/server/lifecycle"
)

// Options says where rates come from. Neither File nor URL means that there are none.
type Options struct {
	File, URL string
	Source    string // who says so
	Dir       string // where fetched rates are kept
	Inside    bool   // fetch from addresses that are not public
	StaleDays int
}

// A State is how the rates stand.
type State struct {
	Rates   locale.Rates
	ReadAt  time.Time // when they were read; zero for never
	Problem string    // why the last reading failed, "" where it did not
}

// A Feed reads rates again and again. It is safe for concurrent use.
type Feed struct {
	opt Options
	now func() time.Time

	mu      sync.RWMutex
	state   State
	changed func(locale.Rates)
}

// New makes a feed. changed is called with the rates whenever they were read, from
// [Feed.Read] and [Feed.Run].
func New(opt Options, now func() time.Time, changed func(locale.Rates)) *Feed {
	return &Feed{opt: opt, now: now, changed: changed}
}

// ErrNone is what [Feed.Read] gives where no rates are configured.
var ErrNone = errors.New("no rates are configured")

// State gives the rates and how they stand.
func (k *Feed) State() State {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.state
}

// Stale says whether the rates are older than the owner lets them be, at a time.
func (k *Feed) Stale(now time.Time) bool {
	s := k.State()
	return s.Rates.Base != "" && s.Rates.AgeDays(now) > k.opt.StaleDays
}

// Read reads the rates anew. Where that fails, those of before stand, or, at a start,
// those that were last fetched.
func (k *Feed) Read(ctx context.Context) error {
	if k.opt.File == "" && k.opt.URL == "" {
		return ErrNone
	}
	path, trouble := k.opt.File, error(nil)
	if k.opt.URL != "" {
		fetcher := fetch.Client{Cache: filepath.Join(k.opt.Dir, "rates"), Inside: k.opt.Inside, InsideKey: "rates.fetch_inside"}
		var kept bool
		if path, kept, trouble = fetcher.GetOrKept(ctx, k.opt.URL); trouble != nil && (!kept || k.State().Rates.Base != "") {
			return k.failed(trouble)
		}
	}
	file, err := whole.Open(path)
	if err != nil {
		return k.failed(errors.Join(trouble, err))
	}
	defer file.Close()
	read, err := locale.ReadRates(file, k.opt.Source)
	if err != nil {
		return k.failed(errors.Join(trouble, err))
	}
	k.mu.Lock()
	k.state = State{Rates: read, ReadAt: k.now().UTC()}
	k.mu.Unlock()
	k.changed(read)
	if trouble != nil {
		return k.failed(trouble)
	}
	return nil
}

func (k *Feed) failed(err error) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.state.Problem = err.Error()
	return err
}

// Run reads the rates again as often as it is said, until ctx ends. failed is told where that
// was not possible.
func (k *Feed) Run(ctx context.Context, every time.Duration, failed func(error)) error {
	if k.opt.File == "" && k.opt.URL == "" {
		return nil
	}
	return lifecycle.Every(ctx, every, func() {
		if err := k.Read(ctx); err != nil && ctx.Err() == nil {
			failed(err)
		}
	})
}
