// Package lifecycle runs the parts of a service and stops them in order, within one
// deadline: what others use is closed when nothing that uses it runs any more.
package lifecycle

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// ErrStopped means that a stage stops, and takes no more parts.
var ErrStopped = errors.New("the service stops")

// Stages are what a service is made of, in the order in which they were added: each may use
// those before it. They stop in reverse.
type Stages struct {
	list   []*Stage
	failed chan error // of the first part that failed while all should run
}

// A Stage is parts that run at the same time, and what they share. It is safe for concurrent
// use.
type Stage struct {
	name    string
	close   func(context.Context) error
	process bool
	failed  chan<- error

	mu      sync.Mutex
	ctx     context.Context // of the parts; nil until they run
	end     context.CancelFunc
	ready   []part // that begin when the stage does
	running []string
	changed chan struct{} // closed and made anew when a part has returned
	stopped bool
}

type part struct {
	name string
	run  func(context.Context) error
}

// New makes no stages yet.
func New() *Stages { return &Stages{failed: make(chan error, 1)} }

// Add adds a stage. shut closes what its parts and later stages use, once none of those runs any
// more; where one did not stop in time, shut is not called, since the process ends in a moment.
func (s *Stages) Add(name string, shut func(context.Context) error) *Stage {
	st := &Stage{name: name, close: shut, failed: s.failed, changed: make(chan struct{})}
	s.list = append(s.list, st)
	return st
}

// AddProcess adds a stage whose shut stops another process, which would outlive this one: it is
// called in any case.
func (s *Stages) AddProcess(name string, shut func(context.Context) error) *Stage {
	st := s.Add(name, shut)
	st.process = true
	return st
}

// Go has a part run with its stage: from [Stages.Run] on, or from now on where that has been
// called. run returns when its context ends, or before, when there is nothing left to do; an error
// before that ends the whole service. The error is [ErrStopped] where the stage stops.
func (st *Stage) Go(name string, run func(context.Context) error) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	switch {
	case st.stopped:
		return ErrStopped
	case st.ctx == nil:
		st.ready = append(st.ready, part{name, run})
	default:
		st.start(part{name, run})
	}
	return nil
}

// start runs a part; the caller holds the lock.
func (st *Stage) start(p part) {
	ctx := st.ctx
	st.running = append(st.running, p.name)
	go func() {
		err := p.run(ctx)
		if err != nil && !errors.Is(err, context.Canceled) {
			select {
			case st.failed <- fmt.Errorf("%s: %w", p.name, err):
			default: // another has failed before
			}
		}
		st.mu.Lock()
		defer st.mu.Unlock()
		i := slices.Index(st.running, p.name)
		st.running = slices.Delete(st.running, i, i+1)
		close(st.changed)
		st.changed = make(chan struct{})
	}()
}

// Run runs all parts until ctx ends or one fails, and then stops them within grace. What did not
// stop in time is named by the error.
func (s *Stages) Run(ctx context.Context, grace time.Duration) error {
	for _, st := range s.list {
		st.mu.Lock()
		st.ctx, st.end = context.WithCancel(context.WithoutCancel(ctx))
		for _, p := range st.ready {
			st.start(p)
		}
		st.mu.Unlock()
	}
	var failed error
	select {
	case <-ctx.Done():
	case failed = <-s.failed:
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), grace)
	defer cancel()
	err := errors.Join(failed, s.Close(stop))
	select {
	case failed = <-s.failed: // while it stopped
		err = errors.Join(err, failed)
	default:
	}
	return err
}

// Close stops what runs and closes all stages, the last first, until ctx ends.
func (s *Stages) Close(ctx context.Context) error {
	var errs []error
	for _, st := range slices.Backward(s.list) {
		if err := st.stop(ctx); err != nil {
			errs = append(errs, err)
		}
		if st.close != nil && (len(errs) == 0 || st.process) {
			if err := st.close(ctx); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", st.name, err))
			}
		}
	}
	return errors.Join(errs...)
}

// stop ends the parts and waits for them.
func (st *Stage) stop(ctx context.Context) error {
	st.mu.Lock()
	st.stopped = true
	if st.end != nil {
		st.end()
	}
	st.mu.Unlock()
	for {
		st.mu.Lock()
		left, changed := slices.Clone(st.running), st.changed
		st.mu.Unlock()
		if len(left) == 0 {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return fmt.Errorf("did not stop in time: %s: %w", strings.Join(left, ", "), ctx.Err())
		}
	}
}

// Every calls do again and again until ctx ends, the first time after an interval.
func Every(ctx context.Context, interval time.Duration, do func()) error {
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
			do()
		}
	}
}
