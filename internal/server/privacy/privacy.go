// Package privacy applies a site's privacy mode to visits before anything of
// them is written down, with keys that are destroyed in time.
//
// Keys live in a directory outside the database, one file each: one a site and
// day to tell visitors apart, and one a site and period for the hashes that stand
// for addresses. Once a key is destroyed, nobody can tell any more whether two
// visits, or a visit and an address, belong together.
package privacy

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/maphash"
	"io/fs"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"eastporch/internal/core/visit"
)

const (
	day = 24 * time.Hour
	// late is how long after its day the key that tells visitors apart is kept,
	// for visits that are reported late.
	late = 2 * day
	// keySize is in bytes.
	keySize = 32
)

// Keys keep visits as private as their sites want. It is safe for
// concurrent use; several services may share its directory.
type Keys struct {
	dir      string
	rotation time.Duration // of the keys of hashes
	mu       sync.Mutex
	keys     map[string]*secret  // by file name
	visitors map[siteDay]*secret // those of keys that tell visitors apart
}

type siteDay struct {
	site string
	day  int64 // since 1970
}

// Open opens the keys in dir, which it makes if need be. Keys of hashes serve
// for rotation.
func Open(dir string, rotation time.Duration) (*Keys, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("keys of privacy: %w", err)
	}
	return &Keys{dir: dir, rotation: rotation, keys: map[string]*secret{}, visitors: map[siteDay]*secret{}}, nil
}

// Keep leaves of a visit what mode lets be written down. A visitor who asked not to
// be tracked (Sec-GPC) leaves neither an address nor attributes.
func (k *Keys) Keep(v *visit.Visit, mode visit.Mode, private bool) error {
	if private {
		v.Attributes, v.Marks = nil, append(v.Marks, visit.MarkPrivate)
		mode = visit.Nothing
	}
	hash := ""
	if whole := v.Card.Address.Text; mode == visit.Hashed && whole.IsValid() && v.Card.Address.Placeholder == nil {
		key, err := k.key(hashFile(v.Site, k.period(v.Time)))
		if err != nil {
			return err
		}
		hash = hashWord(key, whole.Addr)
	}
	v.Keep(mode, hash)
	kept := hash
	switch of := v.Card.Address; {
	case kept != "" || of.Obtained == "": // who was not found is nobody
	case of.Text.IsValid():
		kept = of.Text.String()
	case of.Placeholder != nil:
		kept = *of.Placeholder
	}
	if mode == visit.Nothing || kept == "" {
		return nil
	}
	key, err := k.visitorKey(v.Site, v.Time)
	if err != nil {
		return err
	}
	agent := ""
	if v.UserAgent != nil {
		agent = *v.UserAgent
	}
	v.VisitorHash = key.visitor(kept, agent)
	return nil
}

// Hashes gives what may stand for an address of a site under the keys that are
// still there.
func (k *Keys) Hashes(site string, a netip.Addr) ([]string, error) {
	files, err := filepath.Glob(filepath.Join(k.dir, "hash *.key"))
	if err != nil {
		return nil, err
	}
	var words []string
	for _, file := range files {
		name := filepath.Base(file)
		if !strings.HasPrefix(name, "hash "+url.PathEscape(site)+" ") {
			continue
		}
		key, err := k.key(name)
		if err != nil {
			return nil, err
		}
		words = append(words, hashWord(key, a))
	}
	return words, nil
}

// Maintain destroys the keys whose time is over.
func (k *Keys) Maintain(now time.Time) error {
	files, err := filepath.Glob(filepath.Join(k.dir, "*.key"))
	if err != nil {
		return err
	}
	for _, file := range files {
		name := filepath.Base(file)
		parts := strings.Fields(strings.TrimSuffix(name, ".key"))
		if len(parts) != 3 {
			continue
		}
		begins, err := time.Parse(time.DateOnly, parts[2])
		made, err2 := os.Stat(file)
		if err != nil || err2 != nil {
			continue
		}
		// A key that was made late, for visits of long ago, has its time as well.
		ends := later(begins, made.ModTime()).Add(day + late)
		if parts[0] == "hash" {
			ends = begins.Add(k.rotation + day)
		}
		if now.Before(ends) {
			continue
		}
		k.mu.Lock()
		delete(k.keys, name)
		clear(k.visitors)
		err = os.Remove(file)
		k.mu.Unlock()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("a key of privacy: %w", err)
		}
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// NextKey says when the next key of hashes comes into use.
func (k *Keys) NextKey(now time.Time) time.Time { return k.period(now).Add(k.rotation) }

// period is when the period of hashes that t is in began.
func (k *Keys) period(t time.Time) time.Time { return t.UTC().Truncate(k.rotation) }

func hashFile(site string, period time.Time) string {
	return fmt.Sprintf("hash %s %s.key", url.PathEscape(site), period.Format(time.DateOnly))
}

func visitorFile(site string, at time.Time) string {
	name := append(make([]byte, 0, 64), "visitors "...)
	name = append(append(name, url.PathEscape(site)...), ' ')
	return string(append(at.UTC().AppendFormat(name, time.DateOnly), ".key"...))
}

// visitorKey is the key that tells visitors of a site and day apart.
func (k *Keys) visitorKey(site string, at time.Time) (*secret, error) {
	of := siteDay{site, at.Unix() / int64(day/time.Second)}
	k.mu.Lock()
	key := k.visitors[of]
	k.mu.Unlock()
	if key != nil {
		return key, nil
	}
	name := visitorFile(site, at)
	key, err := k.key(name)
	if err != nil {
		return nil, err
	}
	k.mu.Lock()
	if k.keys[name] == key { // and was not destroyed meanwhile
		k.visitors[of] = key
	}
	k.mu.Unlock()
	return key, nil
}

// key reads a key, or makes it where nobody has.
func (k *Keys) key(name string) (*secret, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if key, ok := k.keys[name]; ok {
		return key, nil
	}
	file := filepath.Join(k.dir, name)
	key, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if err := k.make(file); err != nil {
			return nil, err
		}
		key, err = os.ReadFile(file) // which another service may have made first
	}
	if err == nil && len(key) != keySize {
		err = fmt.Errorf("%s has %d bytes, %d are meant; remove it", file, len(key), keySize)
	}
	if err != nil {
		return nil, fmt.Errorf("a key of privacy: %w", err)
	}
	s := &secret{key: key}
	k.keys[name] = s
	return s, nil
}

// make writes a new key under its name at once, unless there is one.
func (k *Keys) make(file string) error {
	key := make([]byte, keySize)
	_, _ = rand.Read(key) // which never fails
	temp, err := os.CreateTemp(k.dir, "new")
	if err != nil {
		return fmt.Errorf("a key of privacy: %w", err)
	}
	defer os.Remove(temp.Name())
	_, err = temp.Write(key)
	if err = errors.Join(err, temp.Sync(), temp.Close()); err != nil {
		return fmt.Errorf("a key of privacy: %w", err)
	}
	if err := os.Link(temp.Name(), file); err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("a key of privacy: %w", err)
	}
	return nil
}

// A secret is a key, and HMACs (RFC 2104) with it that are ready.
type secret struct {
	key  []byte
	macs sync.Pool // of *mac
	last [64]atomic.Pointer[lastVisitor]
}

// lastVisitor is what was kept last of a visitor, of all who share a place by chance, and the hash of it:
// many visits come from one visitor.
type lastVisitor struct {
	kept, agent string
	hash        int64
}

var lastSeed = maphash.MakeSeed()

// visitor gives the hash that tells a visitor apart by what is kept.
func (s *secret) visitor(kept, agent string) int64 {
	at := &s.last[maphash.String(lastSeed, kept)%uint64(len(s.last))]
	if last := at.Load(); last != nil && last.kept == kept && last.agent == agent {
		return last.hash
	}
	hash := int64(s.digest(kept, "\n", agent))
	at.Store(&lastVisitor{kept, agent, hash})
	return hash
}

// mac is an HMAC with room for what it is made of, and for what is made.
type mac struct {
	hash      hash.Hash
	text, sum []byte
}

// digest gives the first eight bytes of the HMAC of texts, one behind the other.
func (s *secret) digest(texts ...string) uint64 {
	m, ok := s.macs.Get().(*mac)
	if !ok {
		m = &mac{hash: hmac.New(sha256.New, s.key)}
	}
	m.text = m.text[:0]
	for _, text := range texts {
		m.text = append(m.text, text...)
	}
	m.hash.Reset()
	_, _ = m.hash.Write(m.text) // which never fails
	m.sum = m.hash.Sum(m.sum[:0])
	first := binary.BigEndian.Uint64(m.sum)
	s.macs.Put(m)
	return first
}

func hashWord(s *secret, a netip.Addr) string {
	return fmt.Sprintf("hash %016x", s.digest(a.String()))
}

// Lasting gives a key that is made once and kept, for something that is signed.
func (k *Keys) Lasting(name string) ([]byte, error) {
	s, err := k.key(name + ".key")
	if err != nil {
		return nil, err
	}
	return s.key, nil
}
