// Package access settles who may ask what: keys and their scopes, the console's
// sessions, limits, and the log of what was done with them.
//
// A secret is 256 random bits, shown once and kept as its SHA-256. Keys are
// checked against a copy in memory that is renewed whenever one has changed, so
// that a check asks no database and a revocation is felt within a second.
package access

import (
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"eastporch/internal/core/keys"
)

// Errors that outsiders see.
var (
	ErrNoKey      = errors.New("no key was given")
	ErrBadKey     = errors.New("the key is not known, or was revoked")
	ErrBadSession = errors.New("the session has ended")
	ErrBadLink    = errors.New("the link was used before, has expired or was never given")
	ErrNoSuch     = errors.New("there is none with this id")
)

// What keys, sessions and events are stands in package keys.
type (
	Scope   = keys.Scope
	Key     = keys.Key
	Maker   = keys.Maker
	Made    = keys.Made
	Session = keys.Session
	Event   = keys.Event
)

// The scopes.
const (
	Nobody = keys.Nobody
	Page   = keys.Page
	Server = keys.Server
	Admin  = keys.Admin
)

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
