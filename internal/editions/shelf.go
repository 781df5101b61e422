package editions

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
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
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/editionfile"
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
	Sources string           `json:"sources"` // as they are configured
	Prints  map[string]Print `json:"prints"`  // by their names
	Report  *BuildReport     `json:"report"`
}

// OpenShelf opens a directory of editions, making it where it is not there. What
// a build that was killed left behind is removed. An edition in use that cannot
// be opened is no error: then there is none.
func OpenShelf(dir string, fetcher *Fetcher, now func() time.Time) (*Shelf, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("directory of the editions: %w", err)
	}
	s := &Shelf{dir: dir, fetcher: fetcher, now: now, state: state{Inputs: map[string]inputs{}}, job: Job{Sources: []SourceRunning{}}}
	left, _ := filepath.Glob(filepath.Join(dir, ".edition-*"))
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
		if a, err := editionfile.Open(s.path(s.state.Uses[n-1].Edition)); err == nil {
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
	f, err := os.CreateTemp(s.dir, ".edition-*")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), s.statePath())
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
	a, err := editionfile.Open(s.path(name))
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
			if a, err = editionfile.Open(path); err != nil {
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

// Refresh builds an edition where a source has changed, or always, and takes it
// into use where auto says so and its sources have not shrunk: then the error
// wraps [ErrShrunk], and the edition stays ready to be used by hand. made is false
// where nothing had changed. A build that fails changes nothing.
func (s *Shelf) Refresh(ctx context.Context, sources []SourceConfig, always, auto bool) (made bool, err error) {
	build, err := s.Begin(sources)
	if err != nil {
		return false, err
	}
	return build(ctx, always, auto)
}

// Begin is [Shelf.Refresh] in two steps: when it returns, [Shelf.Job] says that a build runs,
// and build, which must be called, makes it. The error is [ErrBusy] while another runs.
func (s *Shelf) Begin(sources []SourceConfig) (build func(ctx context.Context, always, auto bool) (made bool, err error), err error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.building {
		return nil, ErrBusy
	}
	s.building = true
	began := s.now().UTC()
	last := s.job
	s.job = Job{Running: true, Began: &began, Doing: "looking for changes", Sources: []SourceRunning{}}
	for _, source := range sources {
		s.job.Sources = append(s.job.Sources, SourceRunning{Name: source.Name, Doing: "waiting"})
	}
	return func(ctx context.Context, always, auto bool) (bool, error) {
		return s.build(ctx, sources, last, always, auto)
	}, nil
}

// build makes the edition that Begin has begun; last is the job before.
func (s *Shelf) build(ctx context.Context, sources []SourceConfig, last Job, always, auto bool) (made bool, err error) {
	defer func() {
		s.lock.Lock()
		defer s.lock.Unlock()
		s.building = false
		if !made && err == nil {
			s.job = last // nothing was to be done
			return
		}
		ended := s.now().UTC()
		s.job.Running, s.job.Ended, s.job.Doing = false, &ended, ""
		if err != nil {
			s.job.Failed = err.Error()
		}
	}()
	fetcher := s.fetcher.round()
	configured := named(sources)
	s.lock.Lock()
	isEmpty := len(s.state.Uses) == 0
	before := maps.Clone(s.state.Inputs)
	s.lock.Unlock()
	if !always && !isEmpty {
		same, err := s.isMade(ctx, fetcher, sources, configured, before)
		if err != nil || same {
			return false, err
		}
	}
	a, report, prints, err := Build(ctx, sources, BuildOptions{Fetcher: fetcher, Rejects: filepath.Join(s.dir, "rejects.jsonl"), Progress: s.progress})
	if err != nil {
		return false, err
	}
	s.progress("", "writing", 0, 0)
	if there, err := editionfile.Open(s.path(a.Name())); err == nil && there.Checksum() != a.Checksum() {
		return false, fmt.Errorf("another edition is called %s already: its checksum is %s, that of this one %s; change the date of a source", a.Name(), there.Checksum(), a.Checksum())
	}
	if err := editionfile.Write(a, s.path(a.Name())); err != nil {
		return false, err
	}
	if info, err := os.Stat(s.path(a.Name())); err == nil {
		report.Bytes = info.Size()
	}
	opened, err := editionfile.Open(s.path(a.Name())) // so that memory holds it once
	if err != nil {
		return false, err
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	report.Warnings = shrunk(s.inUse, opened)
	s.job.Edition = a.Name()
	s.state.Inputs[a.Name()] = inputs{configured, prints, report}
	s.tidy()
	if err := s.save(); err != nil {
		return true, err
	}
	if len(report.Warnings) > 0 && !isEmpty {
		return true, fmt.Errorf("%w: %s; edition %s is ready, and is used when you say so", ErrShrunk, strings.Join(report.Warnings, ", "), a.Name())
	}
	if auto || isEmpty {
		return true, s.use(opened)
	}
	return true, nil
}

// isMade says whether an edition stands on the shelf that was made of the sources as they
// are now.
func (s *Shelf) isMade(ctx context.Context, fetcher *Fetcher, sources []SourceConfig, configured string, made map[string]inputs) (bool, error) {
	for name, in := range made {
		if _, err := os.Stat(s.path(name)); err != nil || in.Sources != configured {
			continue
		}
		same := true
		for _, source := range sources {
			last := in.Prints[source.Name]
			now, err := fetcher.Print(ctx, source, last)
			if err != nil {
				return false, err
			}
			same = same && now.Same(last)
		}
		if same {
			return true, nil
		}
	}
	return false, nil
}

// named writes down sources and how they are read.
func named(sources []SourceConfig) string {
	var list []any
	for _, s := range sources {
		list = append(list, struct {
			atlas.About
			Location, Query, Label string
			Format                 source.Format
			Columns                map[string]string
			Postal                 bool
		}{s.About, s.Location, s.Query, s.Label, s.Format, s.Columns, s.Postal})
	}
	text, _ := json.Marshal(list) // texts and numbers always marshal
	return string(text)
}

func (s *Shelf) progress(source, doing string, bytes int64, lines int) {
	s.lock.Lock()
	defer s.lock.Unlock()
	if source == "" {
		s.job.Doing = doing
		return
	}
	s.job.Doing = "reading"
	for i := range s.job.Sources {
		if s.job.Sources[i].Name == source {
			s.job.Sources[i] = SourceRunning{Name: source, Doing: doing, Bytes: max(bytes, s.job.Sources[i].Bytes), Lines: lines}
		}
	}
}

// tidy removes the oldest editions that were not used lately. The lock is held.
func (s *Shelf) tidy() {
	files, _ := filepath.Glob(filepath.Join(s.dir, "*"+extension))
	type file struct {
		name string
		at   time.Time
	}
	var old []file
	for _, path := range files {
		name := strings.TrimSuffix(filepath.Base(path), extension)
		if info, err := os.Stat(path); err == nil && name != s.inUse.Name() && name != s.job.Edition {
			at := info.ModTime()
			for _, u := range s.state.Uses {
				if u.Edition == name && u.Until != nil && u.Until.After(at) {
					at = *u.Until
				}
			}
			old = append(old, file{name, at})
		}
	}
	slices.SortFunc(old, func(a, b file) int { return b.at.Compare(a.at) })
	for _, f := range old[min(len(old), keep):] {
		_ = os.Remove(s.path(f.name))
	}
	for name := range s.state.Inputs {
		if _, err := os.Stat(s.path(name)); err != nil {
			delete(s.state.Inputs, name)
		}
	}
	if n := len(s.state.Uses); n > 50 {
		s.state.Uses = slices.Clone(s.state.Uses[n-50:])
	}
}
