// Package gather fetches the geofeeds that registries' objects and the owner name (RFC 9632),
// seldom and politely, and puts what they may say together into one geofeed.
package gather

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/rpki"
	"eastporch/internal/fetch"
	"eastporch/internal/files/whole"
)

// Bounds on what is fetched.
const (
	MaxFeeds     = 50_000          // named; of more the rest is left out, and said
	maxBytes     = 16 << 20        // of a feed
	maxTotal     = 4 << 30         // of all feeds in one run
	maxTime      = time.Minute     // for a feed
	maxRedirects = 5               //
	atOnce       = 16              // hosts
	politePause  = time.Second     // between two requests to one host
	saveEvery    = 5 * time.Second // what is known of feeds, while they are fetched
)

// A Gatherer keeps feeds in a directory. One Run may be under way at a time.
type Gatherer struct {
	Client fetch.Client
	Dir    string
	Plain  bool // feeds over http count, too
	Postal bool // keep postal codes, which RFC 8805 deprecates
	// RPKI has the certificates that signatures are checked against; nil is none, and they are not.
	RPKI *rpki.Directory
	// Now is the clock, Pause how long one host is left alone between two requests, and Within
	// how long a feed may take; nil and 0 are the usual.
	Now           func() time.Time
	Pause, Within time.Duration
	// Most is how many feeds are gathered, of more the rest is left out; 0 is [MaxFeeds].
	Most int
	// Progress, unless nil, is told what was done, now and then.
	Progress func(done, of int)
}

// A Feed is what is known of one feed.
type Feed struct {
	URL       string             `json:"url"`
	State     State              `json:"state"`
	Named     []geofeed.Referral `json:"named"`     // by whom, the first
	NamedBy   int                `json:"named_by"`  // how many ranges name it
	Entries   int                `json:"entries"`   // that count
	Outside   int                `json:"outside"`   // of ranges that do not name it
	Elsewhere int                `json:"elsewhere"` // for which a more specific range names another feed, wholly or in part
	Rejected  int                `json:"rejected"`
	Notes     []atlas.Note       `json:"notes"` // the first of what does not count
	Signature Signature          `json:"signature"`
	Failed    string             `json:"failed"`   // why the last try failed; "" where it did not
	Wrong     string             `json:"wrong"`    // why its signature does not hold; "" where it does, or was not checked
	Failures  int                `json:"failures"` // in a row
	Tried     *time.Time         `json:"tried"`
	Good      *time.Time         `json:"good"`  // when its content was last got or found unchanged
	Next      *time.Time         `json:"retry"` // when it is tried again; nil for never

	ETag     string `json:"etag"`
	Modified string `json:"modified"`
	Sum      string `json:"sum"`  // of the content
	Part     Part   `json:"part"` // of what is gathered
}

// A Part is where a feed's lines stand in the geofeed that all feeds make, and of what they are.
type Part struct {
	From  int    `json:"from"`
	To    int    `json:"to"`
	Sum   string `json:"sum"`
	State State  `json:"state"`
	CRC   uint32 `json:"crc32c"` // of the lines
}

// State is how a feed stands.
type State string

// The states of feeds.
const (
	Used    State = "used"    // its last try went well
	Failing State = "failing" // its last good content is used, for a while
	Lapsed  State = "lapsed"  // that was too long ago: nothing of it is used
	Refused State = "refused" // there is no content that counts
	Waiting State = "waiting" // it was not tried yet
)

// Signature is what is known of a feed's signature (RFC 9632, section 5).
type Signature string

// States are all of them.
var States = []State{Used, Failing, Lapsed, Refused, Waiting}

// What may be known of signatures.
const (
	Unsigned   Signature = "none"
	Unverified Signature = "present, not verified"
	Verified   Signature = "verified"
)

// Result is what a run found.
type Result struct {
	Path  string // of the geofeed that all feeds make
	Feeds []Feed // by URL
	// LeftOut counts the feeds that are named beyond those that are gathered.
	LeftOut int
}

// Run fetches the feeds that are due, and writes one geofeed of all that may be said. What a
// feed answers is no error: it stands in the Result. The error is that of the disk or of ctx.
func (g *Gatherer) Run(ctx context.Context, referrals []geofeed.Referral) (*Result, error) {
	if err := os.MkdirAll(g.Dir, 0o755); err != nil {
		return nil, err
	}
	kept, err := g.load()
	if err != nil {
		return nil, err
	}
	feeds, leftOut := g.named(referrals, kept)
	if err := g.fetch(ctx, feeds); err != nil {
		return nil, err
	}
	path := filepath.Join(g.Dir, "gathered.csv")
	if err := g.write(path, feeds, referrals); err != nil {
		return nil, err
	}
	list := byURL(feeds)
	if err := g.save(list); err != nil {
		return nil, err
	}
	g.tidy(feeds)
	result := &Result{Path: path, LeftOut: leftOut}
	for _, f := range list {
		result.Feeds = append(result.Feeds, *f)
	}
	return result, nil
}

// Feeds gives what the last run found, nil where there was none.
func Feeds(dir string) ([]Feed, error) {
	kept, err := (&Gatherer{Dir: dir}).load()
	list := []Feed{}
	for _, f := range byURL(kept) {
		list = append(list, *f)
	}
	return list, err
}

// byURL lists feeds in the order of their addresses.
func byURL(feeds map[string]*Feed) []*Feed {
	return slices.SortedFunc(maps.Values(feeds), func(a, b *Feed) int { return strings.Compare(a.URL, b.URL) })
}

// hostOf is the host of an address, "" where it has none.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

func (g *Gatherer) now() time.Time {
	if g.Now == nil {
		return time.Now().UTC()
	}
	return g.Now().UTC()
}

// namedMost is how many of the ranges that name a feed are kept with it.
const namedMost = 5

// named makes the list of the feeds that are named, with what is known of them, and counts those
// that are left out.
func (g *Gatherer) named(referrals []geofeed.Referral, kept map[string]*Feed) (feeds map[string]*Feed, leftOut int) {
	feeds = map[string]*Feed{}
	beyond := map[string]bool{}
	for _, r := range referrals {
		f := feeds[r.URL]
		if f == nil {
			if len(feeds) == cmp.Or(g.Most, MaxFeeds) {
				beyond[r.URL] = true
				continue
			}
			f = kept[r.URL]
			if f == nil {
				f = &Feed{URL: r.URL, State: Waiting, Signature: Unsigned}
			}
			f.Named, f.NamedBy = []geofeed.Referral{}, 0
			feeds[r.URL] = f
		}
		if f.NamedBy++; len(f.Named) < namedMost {
			f.Named = append(f.Named, r)
		}
	}
	return feeds, len(beyond)
}

// fetch asks for the feeds that are due: several hosts at once, of each one feed at a time.
func (g *Gatherer) fetch(ctx context.Context, feeds map[string]*Feed) error {
	now := g.now()
	hosts := map[string][]*Feed{}
	due := 0
	for _, f := range byURL(feeds) {
		if f.Next != nil && f.Next.After(now) {
			continue
		}
		host := hostOf(f.URL)
		hosts[host] = append(hosts[host], f)
		due++
	}
	if due == 0 {
		return ctx.Err()
	}
	installation, err := g.installation()
	if err != nil {
		return err
	}
	r := &round{g: g, installation: installation, feeds: feeds, due: due, left: maxTotal, saved: time.Now()}
	queue := make(chan []*Feed)
	var wait sync.WaitGroup
	for range min(atOnce, len(hosts)) {
		wait.Go(func() {
			for list := range queue {
				r.host(ctx, list)
			}
		})
	}
	for _, host := range slices.Sorted(maps.Keys(hosts)) {
		queue <- hosts[host]
	}
	close(queue)
	wait.Wait()
	return cmp.Or(r.failed, ctx.Err())
}

// installation is a number that this directory has of its own, so that no two ask at the same time of day.
func (g *Gatherer) installation() (string, error) {
	path := filepath.Join(g.Dir, "installation")
	text, err := os.ReadFile(path)
	if err == nil && len(text) > 0 {
		return string(text), nil
	}
	sum := sha256.Sum256(fmt.Append(nil, g.Dir, os.Getpid(), time.Now().UnixNano()))
	return hex.EncodeToString(sum[:8]), whole.Write(path, 0o600, []byte(hex.EncodeToString(sum[:8])))
}

// statePath is where what is known of feeds is kept.
func (g *Gatherer) statePath() string { return filepath.Join(g.Dir, "feeds.json") }

func (g *Gatherer) load() (map[string]*Feed, error) {
	kept := map[string]*Feed{}
	text, err := os.ReadFile(g.statePath())
	if os.IsNotExist(err) {
		return kept, nil
	}
	if err != nil {
		return nil, err
	}
	var list []*Feed
	if err := json.Unmarshal(text, &list); err != nil {
		return kept, nil // it was written by nobody: all is fetched anew
	}
	for _, f := range list {
		kept[f.URL] = f
	}
	return kept, nil
}

func (g *Gatherer) save(list []*Feed) error {
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return whole.Write(g.statePath(), 0o600, text)
}

// content is where the last good content of a feed is. New content has a place of its own, so that
// a process that is killed before it has noted it goes on with what was there.
func (g *Gatherer) content(f *Feed) string {
	sum := sha256.Sum256([]byte(f.URL + "\n" + f.Sum))
	return filepath.Join(g.Dir, hex.EncodeToString(sum[:10])+".feed")
}

// tidy removes contents that are of no feed any more.
func (g *Gatherer) tidy(feeds map[string]*Feed) {
	named := map[string]bool{}
	for _, f := range feeds {
		named[g.content(f)] = true
	}
	files, _ := filepath.Glob(filepath.Join(g.Dir, "*.feed"))
	left, _ := filepath.Glob(filepath.Join(g.Dir, whole.Left)) // where the process was killed
	for _, file := range append(files, left...) {
		if !named[file] {
			_ = os.Remove(file)
		}
	}
}
