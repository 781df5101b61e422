package access

import (
	"math"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"eastporch/internal/core/addr"
)

// A Limiter lets each of many callers do so much a second. Its memory is
// bounded: when it knows too many, those who were not seen lately are
// forgotten, and they were below their limit. It is safe for concurrent use.
type Limiter struct {
	perSecond rate.Limit
	burst     int

	mu         sync.Mutex
	young, old map[string]*rate.Limiter
}

// generation is how many callers a Limiter knows before it forgets the oldest;
// it keeps at most two.
const generation = 10_000

// NewLimiter makes a limiter of so many a second, and so many at once.
func NewLimiter(perSecond float64, burst int) *Limiter {
	return &Limiter{perSecond: rate.Limit(perSecond), burst: burst, young: map[string]*rate.Limiter{}}
}

// A Quota is what is left to a caller.
type Quota struct {
	Limit     int
	Remaining int
	Reset     time.Duration // until everything is there again
	Wait      time.Duration // until the next is allowed; 0 where one is
}

// Take takes one from a caller's quota; ok is false where none is left.
func (l *Limiter) Take(caller string, now time.Time) (q Quota, ok bool) {
	one := l.of(caller)
	ok = one.AllowN(now, 1)
	tokens := one.TokensAt(now)
	q = Quota{Limit: l.burst, Remaining: max(0, int(math.Floor(tokens)))}
	q.Reset = time.Duration((float64(l.burst) - tokens) / float64(l.perSecond) * float64(time.Second))
	if !ok {
		q.Wait = time.Duration((1 - tokens) / float64(l.perSecond) * float64(time.Second))
	}
	return q, ok
}

func (l *Limiter) of(caller string) *rate.Limiter {
	l.mu.Lock()
	defer l.mu.Unlock()
	one, ok := l.young[caller]
	if !ok {
		if one, ok = l.old[caller]; !ok {
			one = rate.NewLimiter(l.perSecond, l.burst)
		}
		if len(l.young) >= generation {
			l.old, l.young = l.young, map[string]*rate.Limiter{}
		}
		l.young[caller] = one
	}
	return one
}

// LimitName is what a visitor is called in limits. A truncated address is enough, and stands for a household
// of IPv6.
func LimitName(visitor netip.Addr) string {
	switch {
	case !visitor.IsValid():
		return "nobody"
	case visitor.Is6():
		visitor = addr.Truncate(visitor)
	}
	return visitor.String()
}
