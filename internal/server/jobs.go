package server

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// jobs are goroutines that somebody waits for.
type jobs struct {
	mu      sync.Mutex
	running []string
	changed chan struct{} // closed and made anew when one ends
}

// start runs a job; a name may run several times at once.
func (j *jobs) start(name string, run func()) {
	j.mu.Lock()
	j.running = append(j.running, name)
	j.mu.Unlock()
	go func() {
		defer j.end(name)
		run()
	}()
}

// every does something again and again, first after interval, until ctx ends.
func every(ctx context.Context, interval time.Duration, do func()) {
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			do()
		}
	}
}

func (j *jobs) end(name string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	i := slices.Index(j.running, name)
	j.running = slices.Delete(j.running, i, i+1)
	if j.changed != nil {
		close(j.changed)
		j.changed = nil
	}
}

// wait waits until no job runs. The error says which still do when ctx ends.
func (j *jobs) wait(ctx context.Context) error {
	for {
		j.mu.Lock()
		left := slices.Clone(j.running)
		if j.changed == nil {
			j.changed = make(chan struct{})
		}
		changed := j.changed
		j.mu.Unlock()
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
