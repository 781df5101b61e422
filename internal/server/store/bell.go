package store

import (
	"context"
	"sync"
	"time"
)

// A Bell rings when visits have been stored, by this service or another. It is
// safe for concurrent use.
type Bell struct {
	mu   sync.Mutex
	next chan struct{}
}

// NewBell makes a bell, which rings once somebody runs it.
func NewBell() *Bell { return &Bell{next: make(chan struct{})} }

// Next gives a channel that is closed when the bell rings next.
func (b *Bell) Next() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.next
}

func (b *Bell) ring() {
	b.mu.Lock()
	defer b.mu.Unlock()
	close(b.next)
	b.next = make(chan struct{})
}

// listenAgain is how long a bell waits before it listens again.
const listenAgain = time.Second

// Run rings the bell whenever the database says that visits have arrived, until
// ctx ends. What arrived while the database was away rings once.
func (b *Bell) Run(ctx context.Context, s *Store) {
	for ctx.Err() == nil {
		b.listen(ctx, s)
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
}

func (b *Bell) listen(ctx context.Context, s *Store) {
	pooled, err := s.pool.Acquire(ctx)
	if err != nil {
		return
	}
	conn := pooled.Hijack() // it listens, and goes back into no pool
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+arrivedChannel); err != nil {
		return
	}
	for {
		b.ring()
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return
		}
	}
}
