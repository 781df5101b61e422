// Package lastknown keeps what the service last read of its database in a file, so that it can start while the
// database is away: keys as hashes, the secret that it signs with, and what owners have written down. Begin with
// [Open] and [Read].
package lastknown

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
	"time"

	"eastporch/internal/core/visit"
	"eastporch/internal/files/whole"
	"eastporch/internal/server/lifecycle"
)

// A Copy is what was last read, in memory and in its file. It is safe for concurrent use.
type Copy struct {
	file string
	now  func() time.Time

	mu      sync.Mutex
	held    held
	changed bool // since it was written
	// answered says that the database has answered since the start.
	answered bool
}

// held is the file.
type held struct {
	Database string                     `json:"database"` // which one, as a hash
	At       time.Time                  `json:"at"`       // when the database answered last
	Read     map[string]json.RawMessage `json:"read"`
}

// Open reads the file, which need not be there. One that is of another database, or cannot be read, is as if it were
// not there; the error says so where it cannot be read.
func Open(file, database string, now func() time.Time) (*Copy, error) {
	sum := sha256.Sum256([]byte(database))
	empty := held{Database: hex.EncodeToString(sum[:12]), Read: map[string]json.RawMessage{}}
	c := &Copy{file: file, now: now, held: empty}
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	var read held
	if err == nil {
		err = json.Unmarshal(text, &read)
	}
	if err != nil {
		return c, fmt.Errorf("%s is not used: %w", file, err)
	}
	if read.Database == empty.Database && read.Read != nil {
		c.held = read
	}
	return c, nil
}

// Known says whether there is a copy, and when the database answered last before it was written.
func (c *Copy) Known() (at time.Time, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.held.At, len(c.held.Read) > 0
}

// Standing says whether the service runs from the copy: the database has not answered since the start.
func (c *Copy) Standing() (since time.Time, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.held.At, !c.answered && len(c.held.Read) > 0
}

// Read reads something by its name. What the database answers is kept; where it is away and has not answered since the
// start, what was kept is given. The value goes through JSON. Errors are those of read.
func Read[T any](c *Copy, name string, read func() (T, error)) (T, error) {
	v, err := read()
	if err != nil {
		if !errors.Is(err, visit.ErrAway) {
			return v, err
		}
		var kept T
		if c.get(name, &kept) {
			return kept, nil
		}
		return v, err
	}
	c.keep(name, v)
	return v, nil
}

func (c *Copy) get(name string, into any) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	text, ok := c.held.Read[name]
	return ok && !c.answered && json.Unmarshal(text, into) == nil
}

func (c *Copy) keep(name string, v any) {
	text, err := json.Marshal(v)
	if err != nil {
		return // which what is stored as JSON never is
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.answered, c.held.At = true, c.now().UTC()
	if !bytes.Equal(c.held.Read[name], text) {
		c.held.Read[name], c.changed = text, true
	}
}

const (
	writeEvery = 2 * time.Second
	// agesEvery is how often the file is written although nothing has changed, so that it says how old it is.
	agesEvery = 10 * time.Minute
)

// Run writes the file whenever something has changed, until ctx ends, and then once more. failed is told where that is
// not possible.
func (c *Copy) Run(ctx context.Context, failed func(error)) error {
	last := c.now()
	write := func() {
		c.mu.Lock()
		if !c.changed && !(c.answered && c.now().Sub(last) >= agesEvery) {
			c.mu.Unlock()
			return
		}
		text, err := json.Marshal(c.held)
		c.changed = false
		c.mu.Unlock()
		last = c.now()
		if err = errors.Join(err, whole.Write(c.file, 0o600, text)); err != nil {
			failed(err)
			c.mu.Lock()
			c.changed = true
			c.mu.Unlock()
		}
	}
	err := lifecycle.Every(ctx, writeEvery, write)
	write()
	return err
}
