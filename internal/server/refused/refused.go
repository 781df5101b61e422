// Package refused counts requests that were refused before anything was made of them: by reason, by what was asked with
// and by site, with one example of each. Their owner would learn of them nowhere else. Nothing of a visitor is kept.
package refused

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"eastporch/internal/core/plain"
	"eastporch/internal/server/lifecycle"
)

// A Kind is why a request was refused.
type Kind string

// The kinds.
const (
	Origin  Kind = "origin"  // no key allows the page
	BadKey  Kind = "key"     // the key is not known, or was revoked
	NoKey   Kind = "no_key"  // there was none
	Host    Kind = "host"    // the listener does not answer to it
	Visitor Kind = "visitor" // too many from one address
	Busy    Kind = "busy"    // too many with one key
	Scope   Kind = "scope"   // the key's is too small
	Site    Kind = "site"    // the key is for others
)

// NotWhole is the detail of keys that were never whole, or none of ours.
const NotWhole = "not a whole key of ours"

// A Key tells refused requests apart.
type Key struct {
	Kind   Kind
	Site   string // "" where it is not known
	Detail string // an origin, how a key begins, a host; "" for the rest of many
}

// A Slot is where they are counted: five minutes, or an hour where they are older.
type Slot struct {
	Key
	Time time.Time
}

// An Example is the last request of a kind.
type Example struct {
	Time   time.Time `json:"time"`
	Method string    `json:"method"`
	Route  string    `json:"route"` // as the contract writes it, without what stood in it
	Host   string    `json:"host"`
	Origin string    `json:"origin"`
	Start  string    `json:"key"` // how the key began
	Status int       `json:"status"`
}

// Kept is an example with the time of the first request like it.
type Kept struct {
	Example
	First time.Time
}

const (
	fine       = 5 * time.Minute
	detailsOf  = 60  // of each kind; the rest is counted together
	longest    = 120 // bytes of anything that was sent
	flushEvery = 5 * time.Second
)

// rows keep what was counted. Errors may wrap [visit.ErrAway].
type rows interface {
	AddRefused(ctx context.Context, counts map[Slot]int64, examples map[Key]Example) error
	Refused(ctx context.Context, since time.Time) (map[Slot]int64, map[Key]Kept, error)
}

// A Counter counts. It is safe for concurrent use.
type Counter struct {
	rows rows
	log  *slog.Logger
	now  func() time.Time

	mu       sync.Mutex
	known    map[Key]bool
	of       map[Kind]int // how many are known
	counts   map[Slot]int64
	examples map[Key]Example
}

// New makes a Counter, which keeps what it counts in rows while it runs.
func New(rows rows, log *slog.Logger, now func() time.Time) *Counter {
	return &Counter{rows: rows, log: log, now: now, known: map[Key]bool{}, of: map[Kind]int{}, counts: map[Slot]int64{}, examples: map[Key]Example{}}
}

// Note counts a request; mend is what mends it, for the log.
func (c *Counter) Note(of Key, e Example, mend string) {
	of.Detail = Clean(of.Detail)
	e.Host, e.Origin, e.Start = Clean(e.Host), Clean(e.Origin), Clean(e.Start)
	e.Time = c.now().UTC().Truncate(time.Second)
	c.mu.Lock()
	fresh := !c.known[of]
	if fresh && c.of[of.Kind] >= detailsOf {
		of.Detail, of.Site, fresh = "", "", false
	}
	if fresh {
		c.known[of] = true
		c.of[of.Kind]++
	}
	c.counts[Slot{of, e.Time.Truncate(fine)}]++
	c.examples[of] = e
	c.mu.Unlock()
	if fresh {
		c.log.Warn("requests are refused", "reason", of.Kind, "with", of.Detail, "site", of.Site, "route", e.Route, "status", e.Status, "mend", mend)
	}
}

// Clean bounds what was sent, shows what is not ASCII, as hosts and origins are, by a mark, and masks an address in it.
func Clean(text string) string {
	text = strings.Map(func(r rune) rune {
		if r > '~' { // also marks that would turn a terminal's line around
			return '?'
		}
		return r
	}, plain.Clean(text, longest))
	host := text
	if u, err := url.Parse(text); err == nil && u.Host != "" {
		host = u.Host
	}
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	if _, err := netip.ParseAddr(strings.Trim(name, "[]")); err == nil {
		return strings.Replace(text, host, "(an address)", 1)
	}
	return text
}

// Start is how a secret begins, as far as anybody may read it; of what is no key of ours nothing.
func Start(secret string) string {
	const shown = 4
	i := strings.LastIndexByte(secret, '_')
	if !strings.HasPrefix(secret, "porch_") || len(secret) < i+4*shown {
		return ""
	}
	return secret[:i+1+shown]
}

// Flush keeps what was counted. While the database is away it waits in memory.
func (c *Counter) Flush(ctx context.Context) error {
	c.mu.Lock()
	counts, examples := c.counts, c.examples
	c.counts, c.examples = map[Slot]int64{}, map[Key]Example{}
	c.mu.Unlock()
	if len(counts) == 0 {
		return nil
	}
	err := c.rows.AddRefused(ctx, counts, examples)
	if err != nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		for at, n := range counts {
			if c.now().Sub(at.Time) < 24*time.Hour { // so that a long outage takes no more than a day's
				c.counts[at] += n
			}
		}
		for of, e := range examples {
			if _, newer := c.examples[of]; !newer {
				c.examples[of] = e
			}
		}
	}
	return err
}

// Run keeps what was counted every few seconds until ctx ends, and then once more. What is known is forgotten every
// day, so that other requests come to have examples.
func (c *Counter) Run(ctx context.Context) error {
	forget := c.now()
	err := lifecycle.Every(ctx, flushEvery, func() {
		if err := c.Flush(ctx); err != nil && ctx.Err() == nil {
			c.log.Debug("refused requests are not counted yet", "error", err)
		}
		if c.now().Sub(forget) > 24*time.Hour {
			c.mu.Lock()
			forget, c.known, c.of = c.now(), map[Key]bool{}, map[Kind]int{}
			c.mu.Unlock()
		}
	})
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), flushEvery)
	defer cancel()
	_ = c.Flush(last) // what is lost is a count
	return err
}
