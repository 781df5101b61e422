package store

import (
	"context"
	"sync"
	"time"
)

// A Notifier tells when visits have been stored, by this service or another. It is
// safe for concurrent use.
type Notifier struct {
	store *Store

	mu   sync.Mutex
	next chan struct{}
}

// NewNotifier makes a notifier, which tells once it runs.
func (s *Store) NewNotifier() *Notifier { return &Notifier{store: s, next: make(chan struct{})} }

// Next gives a channel that is closed when visits are stored next.
func (n *Notifier) Next() <-chan struct{} {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.next
}

func (n *Notifier) notify() {
	n.mu.Lock()
	defer n.mu.Unlock()
	close(n.next)
	n.next = make(chan struct{})
}

// listenAgain is how long a notifier waits before it listens again.
const listenAgain = time.Second

// Run tells whenever the database says that visits were stored, until
// ctx ends. Of what was stored while the database was away it tells once.
func (n *Notifier) Run(ctx context.Context) error {
	for ctx.Err() == nil {
		n.listen(ctx)
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
	return nil
}

func (n *Notifier) listen(ctx context.Context) {
	pooled, err := n.store.pool.Acquire(ctx)
	if err != nil {
		return
	}
	conn := pooled.Hijack() // it listens, and goes back into no pool
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+storedChannel); err != nil {
		return
	}
	for {
		n.notify()
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return
		}
	}
}
