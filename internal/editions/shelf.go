package editions

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"eastporch/api"
	"eastporch/internal/core/atlas"
	"eastporch/internal/files/edition"
	"eastporch/internal/files/whole"
)

// Errors of a [Shelf].
var (
	ErrNoEdition = errors.New("there is no such edition")
	ErrNoBack    = errors.New("there is no edition to go back to")
	ErrBusy      = errors.New("an edition is being built already")
	ErrShrunk    = errors.New("a source has less than half of the rows that it had")
)

// keep is how many editions stay on the shelf beside the one in use.
const keep = 6

// extension of edition files.
const extension = ".edition"

// A Shelf is a directory of editions, one of them in use. It is safe for
// concurrent use by one process.
type Shelf struct {
	dir     string
	fetcher *Fetcher
	now     func() time.Time

	current  atomic.Pointer[atlas.Atlas] // with the owner's corrections
	lock     sync.Mutex                  // of all below
	inUse    *atlas.Atlas
	first    *atlas.Source // the owner's corrections
	state    state
	job      Job
	building bool
}

// What the shelf tells, as the contract has it.
type (
	Edition       = api.Edition
	Use           = api.Use
	Job           = api.Job
	SourceRunning = api.SourceRunning
	BuildReport   = api.BuildReport
	SourceReport  = api.SourceReport
	Reason        = api.Reason
)

// state is what the shelf remembers in its directory.
type state struct {
	Uses   []Use             `json:"uses"`   // the last is in use
	Inputs map[string]inputs `json:"inputs"` // by edition
}

// inputs are what an edition was made of, and how.
type inputs struct {
	Configs map[string]string `json:"configs"` // of the sources, by their names
	Prints  map[string]Print  `json:"prints"`
	Report  *BuildReport      `json:"report"`
	At      time.Time         `json:"at"`
}

// OpenShelf opens a directory of editions, making it where it is not there. What
// a build that was killed left behind is removed. An edition in use that cannot
// be opened is no error: then there is none.
func OpenShelf(dir string, fetcher *Fetcher, now func() time.Time) (*Shelf, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("directory of the editions: %w", err)
	}
	s := &Shelf{dir: dir, fetcher: fetcher, now: now, state: state{Inputs: map[string]inputs{}}, job: Job{Sources: []SourceRunning{}}}
	left, _ := filepath.Glob(filepath.Join(dir, whole.Left))
	for _, path := range left {
		_ = os.Remove(path)
	}
	text, err := os.ReadFile(s.statePath())
	if err == nil {
		err = json.Unmarshal(text, &s.state)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w: remove it to begin again with the sources", s.statePath(), err)
	}
	if s.state.Inputs == nil {
		s.state.Inputs = map[string]inputs{}
	}
	s.put(atlas.New())
	if n := len(s.state.Uses); n > 0 {
		if a, err := edition.Open(s.path(s.state.Uses[n-1].Edition)); err == nil {
			s.put(a)
		} else {
			s.state.Uses = s.state.Uses[:n-1]
		}
	}
	return s, nil
}

func (s *Shelf) statePath() string { return filepath.Join(s.dir, "state.json") }

func (s *Shelf) path(name string) string { return filepath.Join(s.dir, name+extension) }

// put takes an edition into use, in memory. The lock is held, or nobody else
// knows the shelf yet.
func (s *Shelf) put(a *atlas.Atlas) {
	s.inUse = a
	s.current.Store(a.With(s.first))
}

// Unread has addresses say that sources are configured and none could be read, until one is.
func (s *Shelf) Unread() {
	s.lock.Lock()
	defer s.lock.Unlock()
	if len(s.inUse.Sources()) == 0 {
		s.inUse = s.inUse.Because(atlas.Unread)
		s.current.Store(s.inUse.With(s.first))
	}
}

// Current is the edition in use, with the owner's corrections: one snapshot,
// which stays as it is while another is activated.
func (s *Shelf) Current() *atlas.Atlas { return s.current.Load() }

// Correct sets the owner's corrections, which rank before all sources.
func (s *Shelf) Correct(first *atlas.Source) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.first = first
	s.put(s.inUse)
}

// save writes the state beside the editions, all of it or nothing.
func (s *Shelf) save() error {
	text, err := json.MarshalIndent(s.state, "", "  ")
	if err != nil {
		return err
	}
	return whole.Write(s.statePath(), 0o600, text)
}

// Open opens an edition of the shelf, with the owner's corrections. The error
// wraps [ErrNoEdition].
func (s *Shelf) Open(name string) (*atlas.Atlas, error) {
	a, err := s.open(name)
	if err != nil {
		return nil, err
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	return a.With(s.first), nil
}

// editionName is how an edition may be called, which is the name of its file too.
var editionName = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z._-]{0,99}$`)

func (s *Shelf) open(name string) (*atlas.Atlas, error) {
	if !editionName.MatchString(name) {
		return nil, fmt.Errorf("%w: %.80q", ErrNoEdition, name)
	}
	a, err := edition.Open(s.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %.80q", ErrNoEdition, name)
	}
	return a, err
}

// Use takes an edition into use, after its checksums were compared, while
// requests run: each answers from the edition that it began with.
func (s *Shelf) Use(name string) error {
	a, err := s.open(name)
	if err != nil {
		return err
	}
	if err := a.Verify(); err != nil {
		return err
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.use(a)
}

// use takes an edition into use. The lock is held.
func (s *Shelf) use(a *atlas.Atlas) error {
	if n := len(s.state.Uses); n > 0 {
		if s.state.Uses[n-1].Edition == a.Name() {
			s.put(a)
			return nil
		}
		until := s.now().UTC()
		s.state.Uses[n-1].Until = &until
	}
	s.state.Uses = append(s.state.Uses, Use{Edition: a.Name(), Since: s.now().UTC()})
	if err := s.save(); err != nil {
		return err
	}
	s.put(a)
	return nil
}

// Back takes the edition into use that was in use before. The error wraps
// [ErrNoBack] where there is none.
func (s *Shelf) Back() (name string, err error) {
	s.lock.Lock()
	uses := slices.Clone(s.state.Uses)
	s.lock.Unlock()
	for i := len(uses) - 2; i >= 0; i-- {
		name := uses[i].Edition
		if name == uses[len(uses)-1].Edition {
			continue
		}
		if err := s.Use(name); !errors.Is(err, ErrNoEdition) {
			return name, err
		}
	}
	return "", ErrNoBack
}

// List gives the editions of the shelf, the newest first.
func (s *Shelf) List() ([]Edition, error) {
	files, err := filepath.Glob(filepath.Join(s.dir, "*"+extension))
	if err != nil {
		return nil, err
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	list := []Edition{}
	for _, path := range files {
		name := strings.TrimSuffix(filepath.Base(path), extension)
		e := Edition{Name: name, State: "kept", Uses: []Use{}, Report: s.state.Inputs[name].Report}
		if info, err := os.Stat(path); err == nil {
			e.Bytes, e.Built = info.Size(), info.ModTime().UTC()
		}
		a := s.inUse
		if name != a.Name() {
			if a, err = edition.Open(path); err != nil {
				e.Unusable = err.Error()
				list = append(list, e)
				continue
			}
		}
		e.Built = a.Built()
		for _, source := range a.Sources() {
			e.Ranges4 += source.Ranges4
			e.Ranges6 += source.Ranges6
		}
		for _, u := range s.state.Uses {
			if u.Edition == name {
				e.Uses = append(e.Uses, u)
			}
		}
		switch {
		case name == s.inUse.Name():
			e.State = "in use"
		case len(e.Uses) == 0 && !e.Built.Before(s.inUse.Built()):
			e.State = "ready"
		}
		list = append(list, e)
	}
	slices.SortStableFunc(list, func(a, b Edition) int { return cmp.Or(b.Built.Compare(a.Built), cmp.Compare(b.Name, a.Name)) })
	return list, nil
}

// Job says what is being built, or how the last build ended.
func (s *Shelf) Job() Job {
	s.lock.Lock()
	defer s.lock.Unlock()
	job := s.job
	job.Sources = slices.Clone(job.Sources)
	return job
}
