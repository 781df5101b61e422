package editions

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/files/edition"
)

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
	s.lock.Lock()
	isEmpty := len(s.state.Uses) == 0
	before := maps.Clone(s.state.Inputs)
	s.lock.Unlock()
	options := BuildOptions{Fetcher: s.fetcher.round(), Rejects: filepath.Join(s.dir, "rejects.jsonl"), Progress: s.progress, Again: always}
	options.Have, options.Before = s.had(sources, before)
	built, err := Build(ctx, sources, options)
	if err != nil {
		return false, err
	}
	a, report := built.Atlas, built.Report
	kept := errors.Join(built.Kept...)
	if _, there := before[a.Name()]; there && !isEmpty && (kept != nil || !always && built.Read == 0) {
		return false, kept // it is made
	}
	s.progress("", "writing", 0, 0)
	if there, err := edition.Open(s.path(a.Name())); err == nil && there.Checksum() != a.Checksum() {
		return false, fmt.Errorf("another edition is called %s already: its checksum is %s, that of this one %s; change the date of a source", a.Name(), there.Checksum(), a.Checksum())
	}
	if err := edition.Write(a, s.path(a.Name())); err != nil {
		return false, err
	}
	if info, err := os.Stat(s.path(a.Name())); err == nil {
		report.Bytes = info.Size()
	}
	opened, err := edition.Open(s.path(a.Name())) // so that memory holds it once
	if err != nil {
		return false, err
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	smaller := shrank(s.inUse, opened)
	shrunk := len(smaller) > 0
	report.Warnings = append(smaller, report.Warnings...)
	for _, err := range built.Kept {
		report.Warnings = append(report.Warnings, err.Error()+"; it stays as it was")
	}
	s.job.Edition = a.Name()
	configs := map[string]string{}
	for _, source := range sources {
		configs[source.Name] = configOf(source)
	}
	s.state.Inputs[a.Name()] = inputs{configs, built.Prints, report, s.now().UTC()}
	s.tidy()
	if err := s.save(); err != nil {
		return true, err
	}
	if shrunk && !isEmpty {
		return true, fmt.Errorf("%w: %s; edition %s is ready, and is used when you say so", ErrShrunk, strings.Join(report.Warnings, ", "), a.Name())
	}
	if auto || isEmpty {
		return true, errors.Join(s.use(opened), kept)
	}
	return true, kept
}

// had gives, for each source, what the newest edition has that was made of it as it is
// configured now, and the report of the newest edition of which that is.
func (s *Shelf) had(sources []SourceConfig, made map[string]inputs) (have map[string]Made, newest *BuildReport) {
	names := slices.SortedFunc(maps.Keys(made), func(a, b string) int { return made[b].At.Compare(made[a].At) })
	have = map[string]Made{}
	for _, name := range names {
		in := made[name]
		var opened *atlas.Atlas
		for _, source := range sources {
			if _, ok := have[source.Name]; ok || in.Configs[source.Name] != configOf(source) || in.Report == nil {
				continue
			}
			if opened == nil {
				var err error
				if opened, err = edition.Open(s.path(name)); err != nil {
					break
				}
			}
			i := slices.IndexFunc(opened.Sources(), func(of *atlas.Source) bool { return of.Name == source.Name })
			j := slices.IndexFunc(in.Report.Sources, func(of SourceReport) bool { return of.Name == source.Name })
			if i >= 0 && j >= 0 {
				have[source.Name] = Made{opened.Sources()[i], in.Report.Sources[j], in.Prints[source.Name], in.Configs[source.Name], name}
				if newest == nil {
					newest = in.Report
				}
			}
		}
	}
	return have, newest
}

// configOf writes down how a source is configured.
func configOf(s SourceConfig) string {
	text, _ := json.Marshal(struct { // texts and numbers always marshal
		atlas.About
		Locations, Names []string
		Query, Label     string
		Format           source.Format
		Columns          map[string]string
		Postal           bool
		Documentation    bool
		Gather           *Gather
	}{s.About, s.Locations, s.Names, s.Query, s.Label, s.Format, s.Columns, s.Postal, s.Documentation, s.Gather})
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
