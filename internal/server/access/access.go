// Package access settles who may ask what: keys and their scopes, the console's
// sessions, limits, and the log of what was done with them.
//
// A secret is 256 random bits, shown once and kept as its SHA-256. Keys are
// checked against a copy in memory that is renewed every second, so that a
// check asks no database and a revocation is felt within two.
package access

import (
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Errors that outsiders see.
var (
	ErrNoKey      = errors.New("no key was given")
	ErrBadKey     = errors.New("the key is not known, or was revoked")
	ErrBadSession = errors.New("the session has ended")
	ErrBadLink    = errors.New("the link was used before, has expired or was never given")
	ErrNoSuch     = errors.New("there is none with this id")
)

// A Scope says what a key may do; each includes those before it.
type Scope string

// The scopes.
const (
	Nobody Scope = ""       // may do nothing that wants a key
	Page   Scope = "page"   // record a visit, read one's own card
	Server Scope = "server" // report and look up for others, give ids
	Admin  Scope = "admin"  // everything
)

var ladder = []Scope{Nobody, Page, Server, Admin}

// Includes says whether s may do what wants asks for.
func (s Scope) Includes(wants Scope) bool {
	return slices.Index(ladder, s) >= slices.Index(ladder, wants)
}

// Valid says whether s is a scope that a key can have.
func (s Scope) Valid() bool { return s == Page || s == Server || s == Admin }

// A Key is one that the owner made; its secret is not kept.
type Key struct {
	ID       uuid.UUID  `json:"id"`
	Name     string     `json:"name"`
	Scope    Scope      `json:"scope"`
	Start    string     `json:"start"`   // how its secret begins, to recognise it by
	Sites    []string   `json:"sites"`   // hosts it is bound to; none for all
	Origins  []string   `json:"origins"` // pages that may use it in a browser
	Created  time.Time  `json:"created"`
	LastUsed *time.Time `json:"last_used"`
	Uses     int64      `json:"uses"`
	Revoked  *time.Time `json:"revoked"`
	Maker    Maker      `json:"made_by"`

	Hash [sha256.Size]byte `json:"-"`
}

// MayUse says whether the key may be used for a site.
func (k *Key) MayUse(site string) bool {
	return len(k.Sites) == 0 || slices.Contains(k.Sites, site)
}

// Allows says whether a page of an origin may use the key.
func (k *Key) Allows(origin string) bool { return slices.Contains(k.Origins, origin) }

// A Maker is who made a key.
type Maker struct {
	Name string `json:"name"` // such as "key the tests"
	// Key was used, or had opened the session that was; nil for a session by a one-time
	// link, and for the service itself. Session is nil where a key was used directly.
	Key     *uuid.UUID `json:"key_id"`
	Session *uuid.UUID `json:"session_id"`
}

// Made is what is in force and was made with a key, directly or by way of others.
type Made struct {
	Keys     []Key     `json:"keys"`
	Sessions []Session `json:"sessions"`
}

// A Session is a signed-in console.
type Session struct {
	ID        uuid.UUID `json:"id"`
	Created   time.Time `json:"created"`
	LastSeen  time.Time `json:"last_seen"`
	Expires   time.Time `json:"expires"`
	How       string    `json:"how"`        // the key that opened it, or the link and who made that
	UserAgent string    `json:"user_agent"` // the browser
	// Key is the one that opened it, with which it ends; nil for a link's.
	Key *uuid.UUID `json:"key_id"`
}

// An Event is a line of the audit log.
type Event struct {
	ID     uuid.UUID `json:"id"` // version 7
	Time   time.Time `json:"time"`
	What   string    `json:"what"`   // such as "key created"
	Actor  string    `json:"actor"`  // who did it
	Detail string    `json:"detail"` // to what
}

// Bounds of names and lists.
const (
	MaxName = 80
	MaxList = 50 // sites or origins of a key
	maxKeys = 10_000
)

// secretStart begins every secret of ours, so that one that leaked is found.
const secretStart = "porch_"

// newSecret makes a secret of 256 bits with a recognisable start.
func newSecret(kind string) (secret string, hash [sha256.Size]byte) {
	secret = secretStart + kind + "_" + strings.ToLower(rand.Text()+rand.Text()) // 2 x 130 bits
	return secret, sha256.Sum256([]byte(secret))
}

// startOf is how a secret is recognised in lists: its kind and four letters.
func startOf(secret string) string {
	i := strings.LastIndexByte(secret, '_') + 1
	return secret[:min(len(secret), i+4)]
}

// CheckOrigin says what is wrong with an origin such as https://heronlake.example.
func CheckOrigin(origin string) error {
	u, err := url.Parse(origin)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.Scheme+"://"+u.Host != strings.ToLower(origin) {
		return fmt.Errorf("%.80q is not an origin: write it like https://heronlake.example, in small letters and without a path", origin)
	}
	return nil
}
