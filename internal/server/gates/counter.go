// Package gates has all about gates but what they decide: rules with their history, drafts and simulations, what is counted
// of decisions, references of refusals, owners' passes, and the operations of the HTTP API. Begin with [Rulebook], or with
// [API].
package gates

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"log/slog"
	"maps"
	"sync"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/gate"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/signed"
	"eastporch/internal/server/lifecycle"
)

// counts is what a counter needs of the database.
type counts interface {
	AddCounts(ctx context.Context, counts map[gate.CountKey]int64, refusals []gate.Refused) error
	UseOnce(ctx context.Context, number string, expires time.Time) (bool, error)
}

// sessions says whether a session of the console is in force.
type sessions interface {
	InForce(ctx context.Context, id uuid.UUID) (bool, error)
}

// A Counter counts decisions, and signs references and passes. It lives as long as the service, and is safe
// for concurrent use.
type Counter struct {
	store    counts
	sessions sessions
	log      *slog.Logger
	now      func() time.Time

	references, passes, links []byte // keys
	alive                     *lru.Cache[uuid.UUID, looked]

	// Observe is told of what was counted, once, every few seconds; nil for nobody.
	Observe func(k *gate.CountKey, n int64)

	mu       sync.Mutex
	told     map[gate.CountKey]int64 // how much of what waits Observe was told of
	waiting  map[gate.CountKey]int64
	refusals []gate.Refused
}

// looked says whether a session was in force when it was looked at, and how long that is believed.
type looked struct {
	inForce bool
	until   time.Time
}

// Bounds of what waits to be counted.
const (
	mostWaiting  = 20_000 // keys; beyond, paths and countries are not told apart
	mostRefusals = 500    // whose references are noted, in one round; all are counted
	flushEvery   = 2 * time.Second
	aliveFor     = time.Second // a session that was looked at is believed
	mostPasses   = 1000
	referenceFor = 10 * time.Minute
	linkFor      = 10 * time.Minute
	passFor      = 12 * time.Hour // at most; a session lasts no longer
)

// NewCounter makes a counter that signs with keys made of a secret.
func NewCounter(store counts, s sessions, secret []byte, log *slog.Logger, now func() time.Time) *Counter {
	alive, _ := lru.New[uuid.UUID, looked](mostPasses) // which fails for no size above 0
	return &Counter{
		store: store, sessions: s, log: log, now: now, waiting: map[gate.CountKey]int64{},
		references: signed.Key(secret, "gate reference"), passes: signed.Key(secret, "gate pass"), links: signed.Key(secret, "gate pass link"),
		alive: alive,
	}
}

// Count counts a decision, and gives the reference of one that refuses; "" for others.
func (k *Counter) Count(site, asked string, d *gate.Decision, status int, country, path string) (reference string) {
	now := k.now()
	key, ok := gate.KeyOf(site, asked, d, country, path, now)
	if !ok {
		return ""
	}
	var refused []gate.Refused
	if d.Outcome == gate.Refuse {
		code := newCode()
		reference = k.refer(site, d, code, status, country)
		refused = []gate.Refused{{Reference: code, Time: now.UTC(), Site: site, Gate: key.Gate, Rule: key.Rule, Reason: d.Reason, CountryCode: country, Path: key.Path}}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, known := k.waiting[key]; !known && len(k.waiting) >= mostWaiting {
		key.Path, key.CountryCode = "", ""
	}
	k.waiting[key]++
	if len(k.refusals) < mostRefusals {
		k.refusals = append(k.refusals, refused...)
	}
	return reference
}

// Refer gives the reference of a decision that is not counted.
func (k *Counter) Refer(site string, d *gate.Decision, status int, country string) string {
	return k.refer(site, d, newCode(), status, country)
}

func (k *Counter) refer(site string, d *gate.Decision, code string, status int, country string) string {
	return signed.Sign(gate.Reference{Site: site, Gate: plain.Value(d.Gate), CountryCode: country, Status: status, Code: code, At: k.now().Unix()}, k.references)
}

// newCode makes a reference that can be read aloud: 40 random bits in Crockford's letters.
func newCode() string {
	var b [5]byte
	_, _ = rand.Read(b[:]) // which never fails
	code := base32.NewEncoding("0123456789ABCDEFGHJKMNPQRSTVWXYZ").EncodeToString(b[:])
	return code[:4] + "-" + code[4:]
}

// Flush writes what was counted. Where the database does not answer it waits for the next time.
func (k *Counter) Flush(ctx context.Context) error {
	k.mu.Lock()
	waiting, refusals, told := k.waiting, k.refusals, k.told
	k.waiting, k.refusals, k.told = map[gate.CountKey]int64{}, nil, nil
	k.mu.Unlock()
	if len(waiting) == 0 {
		return nil
	}
	if k.Observe != nil {
		for key, n := range waiting {
			k.Observe(&key, n-told[key])
		}
	}
	err := k.store.AddCounts(ctx, waiting, refusals)
	if err != nil {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.told = waiting
		again := maps.Clone(waiting)
		for key, n := range k.waiting {
			again[key] += n
		}
		k.waiting = again
		k.refusals = append(refusals, k.refusals...)[:min(mostRefusals, len(refusals)+len(k.refusals))]
	}
	return err
}

// Run writes what was counted every few seconds until ctx ends, and then once more.
func (k *Counter) Run(ctx context.Context) error {
	err := lifecycle.Every(ctx, flushEvery, func() {
		if err := k.Flush(ctx); err != nil && ctx.Err() == nil {
			k.log.Warn("what the gates decided is not counted yet", "error", err)
		}
	})
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), flushEvery)
	defer cancel()
	return errors.Join(err, k.Flush(last))
}

// Errors of references and passes.
var (
	ErrReference = errors.New("the reference is not one of ours, or its time is over")
	ErrPass      = errors.New("the link is not one of ours, was used before, or its time is over")
)

// Reference reads the reference of a refusal of one site.
func (k *Counter) Reference(text string) (r gate.Reference, err error) {
	if signed.Open(text, k.references, &r) != nil || k.now().After(time.Unix(r.At, 0).Add(referenceFor)) {
		return r, ErrReference
	}
	return r, nil
}

// PassLink makes the secret of a link that is good once, for the pass of a session.
func (k *Counter) PassLink(site string, session uuid.UUID) string {
	return signed.Sign(gate.Pass{Site: site, Session: session, Number: rand.Text(), Expires: k.now().Add(linkFor).Unix()}, k.links)
}

// SpendLink gives the pass that a link is for, and how long a browser may keep it.
func (k *Counter) SpendLink(ctx context.Context, text string) (pass, site string, lasts time.Duration, err error) {
	var p gate.Pass
	if signed.Open(text, k.links, &p) != nil || k.now().Unix() >= p.Expires {
		return "", "", 0, ErrPass
	}
	if fresh, err := k.store.UseOnce(ctx, p.Number, time.Unix(p.Expires, 0)); err != nil || !fresh {
		return "", "", 0, errors.Join(ErrPass, err)
	}
	if alive, err := k.sessions.InForce(ctx, p.Session); err != nil || !alive {
		return "", "", 0, errors.Join(ErrPass, err)
	}
	return signed.Sign(gate.Pass{Site: p.Site, Session: p.Session, Expires: k.now().Add(passFor).Unix()}, k.passes), p.Site, passFor, nil
}

// Passes says whether a cookie is an owner's pass of a site, whose session is in force. Where the database
// does not answer it is none.
func (k *Counter) Passes(ctx context.Context, cookie, site string) bool {
	var p gate.Pass
	if cookie == "" || signed.Open(cookie, k.passes, &p) != nil || p.Site != site || k.now().Unix() >= p.Expires {
		return false
	}
	if last, known := k.alive.Get(p.Session); known && k.now().Before(last.until) {
		return last.inForce
	}
	alive, err := k.sessions.InForce(ctx, p.Session)
	if err != nil {
		return false
	}
	k.alive.Add(p.Session, looked{alive, k.now().Add(aliveFor)})
	return alive
}

// field makes an error of a finding.
func field(f gate.Finding) error { return invalid.Field(f.Field, f.Text, f.Hint) }

// Forget has every session asked for anew.
func (k *Counter) Forget() { k.alive.Purge() }
