package rehearsal

import (
	"sync"
	"time"
)

// Once remembers which one-time numbers were used, until their time is over. It is safe for concurrent
// use.
type Once struct {
	mu   sync.Mutex
	used map[string]time.Time // by number, when it expires
}

// NewOnce makes one that has seen none.
func NewOnce() *Once { return &Once{used: map[string]time.Time{}} }

// most bounds the numbers that are remembered; beyond, none is good.
const most = 10_000

// Use notes that a number was used; false where it was before.
func (o *Once) Use(number string, expires, now time.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	for known, until := range o.used {
		if !now.Before(until) {
			delete(o.used, known)
		}
	}
	if _, before := o.used[number]; before || len(o.used) >= most {
		return false
	}
	o.used[number] = expires
	return true
}
