package editions

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"sync"
	"syscall"
	"time"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compare"
)

// reasonNotes is how many lines of a reason are kept.
const reasonNotes = 3

// BuildOptions say how editions are built.
type BuildOptions struct {
	Fetcher *Fetcher
	// Rejects, unless "", is the file that gets all rejects and remarks, as lines of
	// JSON.
	Rejects string
	// Progress, unless nil, is told what is being done: of a source, or of the
	// edition where source is "". It may be called from several goroutines at once.
	Progress func(source, doing string, bytes int64, lines int)
	// Have are sources that were read before, by name: where their files are as they were, they
	// are not read again, and where they can be got no more they stay as they were.
	Have map[string]Made
	// Again has all be read, also what has not changed.
	Again bool
	// Before, unless nil, is the report of the newest edition that Have is of.
	Before *BuildReport
}

// Made is a source that was read before.
type Made struct {
	Source *atlas.Source
	Report SourceReport
	Print  Print
	Config string // how it was configured
	Of     string // the edition that it was of; "" where it was read now
}

// A Built is an edition, and what it was made of.
type Built struct {
	*atlas.Atlas
	Report *BuildReport
	Prints map[string]Print // by name of source
	// Read is how many of the sources were read, and not had already; Kept are those that could
	// not be got, and stay as they were.
	Read int
	Kept []error
}

// Build reads sources, several at a time, and makes an edition of them; what is gathered from
// geofeeds comes after the sources that name those. The error wraps [ErrSource], or is that of ctx.
func Build(ctx context.Context, sources []SourceConfig, opt BuildOptions) (*Built, error) {
	begin := time.Now()
	if opt.Progress == nil {
		opt.Progress = func(string, string, int64, int) {}
	}
	b := &build{BuildOptions: opt, sources: sources, made: make([]Made, len(sources)), errs: make([]error, len(sources)), rejects: io.Discard}
	if opt.Rejects != "" {
		f, err := os.Create(opt.Rejects)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		b.rejects = f
	}
	var failed, kept []error
	for _, gathers := range []bool{false, true} { // which follows from the others, also from those that stay
		b.each(gathers, func(i int) {
			if gathers {
				b.gathered(ctx, i)
			} else {
				b.one(ctx, i, sources[i])
			}
		})
		for i, err := range b.errs {
			switch had, ok := b.Have[sources[i].Name]; {
			case err == nil:
			case ok && ctx.Err() == nil && had.Config == configOf(sources[i]):
				b.made[i], b.errs[i] = had, nil
				kept = append(kept, err)
			default:
				failed = append(failed, err)
			}
		}
		if len(failed) > 0 {
			return nil, errors.Join(failed...)
		}
	}
	built := &Built{Report: &BuildReport{Sources: []SourceReport{}, Rejects: opt.Rejects, Warnings: append([]string{}, b.warnings...), Overlaps: []compare.Overlap{}}, Prints: map[string]Print{}, Read: b.read, Kept: kept}
	var read []*atlas.Source
	for i, m := range b.made {
		read = append(read, m.Source)
		built.Prints[sources[i].Name] = m.Print
		built.Report.Sources = append(built.Report.Sources, m.Report)
	}
	built.Atlas = atlas.New(read...)
	built.Report.Edition = built.Name()
	if len(read) > 1 && (b.read > 0 || len(opt.Have) == 0) {
		opt.Progress("", "comparing the sources", 0, 0)
		built.Report.Overlaps = append(built.Report.Overlaps, compare.Overlaps(built.Atlas, b.known())...)
	}
	slices.SortStableFunc(built.Report.Sources, func(x, y SourceReport) int { return x.Rank - y.Rank })
	built.Report.Seconds = time.Since(begin).Seconds()
	built.Report.PeakMB = peakMB()
	return built, nil
}

// build is one build under way.
type build struct {
	BuildOptions
	sources []SourceConfig
	made    []Made  // by index of the source
	errs    []error // the same
	rejects io.Writer

	lock     sync.Mutex // of what follows, and of rejects
	read     int
	warnings []string
}

// known are the overlaps of sources that were not read again, of the one edition that has them.
func (b *build) known() compare.Known {
	if b.Before == nil {
		return compare.Known{}
	}
	return compare.Known{Overlaps: b.Before.Overlaps, Same: func(name string) bool {
		i := slices.IndexFunc(b.sources, func(s SourceConfig) bool { return s.Name == name })
		return i >= 0 && b.made[i].Of == b.Before.Edition
	}}
}

// each does sources, some at a time: those that gather, or the others.
func (b *build) each(gather bool, do func(i int)) {
	var wait sync.WaitGroup
	tokens := make(chan struct{}, 3)
	for i := range b.sources {
		if (b.sources[i].Gather != nil) == gather {
			wait.Go(func() {
				tokens <- struct{}{}
				defer func() { <-tokens }()
				do(i)
			})
		}
	}
	wait.Wait()
}

// one has a source, or reads it.
func (b *build) one(ctx context.Context, i int, s SourceConfig) {
	start := time.Now()
	b.Progress(s.Name, "reading", 0, 0)
	if had, ok := b.Have[s.Name]; ok && !b.Again && had.Config == configOf(b.sources[i]) {
		now, err := b.Fetcher.Print(ctx, s, had.Print)
		if err == nil && now.Same(had.Print) {
			had.Print = now
			b.made[i] = had
			b.Progress(s.Name, "read", 0, had.Report.Rows)
			return
		}
	}
	tally := &reasons{name: s.Name, to: b.rejects, lock: &b.lock}
	s.Rejected = tally
	s.ParseOptions.Progress = func(bytes int64, lines int) { b.Progress(s.Name, "reading", bytes, lines) }
	read, print, err := b.Fetcher.Read(ctx, s)
	if b.errs[i] = err; err != nil {
		return
	}
	b.made[i] = Made{Source: read, Report: sourceReport(read, tally, time.Since(start)), Print: print, Config: configOf(b.sources[i])}
	b.lock.Lock()
	b.read++
	b.lock.Unlock()
	b.Progress(s.Name, "read", 0, read.Rows)
}

func peakMB() int64 {
	var usage syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &usage)
	return usage.Maxrss >> 10 // it is given in KB
}

func sourceReport(s *atlas.Source, tally *reasons, took time.Duration) SourceReport {
	r := SourceReport{
		Name: s.Name, Rank: s.Rank, Dated: s.Dated, Licence: s.Licence, Credit: s.Credit, Basis: string(s.Basis),
		Rows: s.Rows, Accepted: s.Accepted, Rejected: s.Rejected, Remarked: s.Remarked, Nested: s.Nested, Ranges4: s.Ranges4, Ranges6: s.Ranges6,
		Covered: s.Coverage().Total(), Seconds: took.Seconds(), RejectReasons: []Reason{}, RemarkReasons: []Reason{},
	}
	for _, k := range tally.list {
		if k.reject {
			r.RejectReasons = append(r.RejectReasons, k.Reason)
		} else {
			r.RemarkReasons = append(r.RemarkReasons, k.Reason)
		}
	}
	return r
}

// reasons gathers notes, and hands them on with the name of their source.
type reasons struct {
	name string
	to   io.Writer
	lock *sync.Mutex // of to
	list []kindOfReason
}

type kindOfReason struct {
	Reason
	reject bool
}

// particular matches what differs from line to line in one kind of reason.
var particular = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|[0-9a-fA-F:.]*[0-9][0-9a-fA-F:./-]*`)

func (r *reasons) Write(line []byte) (int, error) {
	var n struct {
		Kind   string `json:"kind"`
		Source string `json:"source"`
		atlas.Note
	}
	if err := json.Unmarshal(line, &n); err != nil {
		return 0, err
	}
	n.Source = r.name
	name, reject := particular.ReplaceAllString(n.Reason, "…"), n.Kind == "reject"
	i := slices.IndexFunc(r.list, func(k kindOfReason) bool { return k.Reason.Reason == name && k.reject == reject })
	if i < 0 && len(r.list) < 100 {
		i = len(r.list)
		r.list = append(r.list, kindOfReason{Reason{Reason: name}, reject})
	}
	if i >= 0 {
		k := &r.list[i]
		if k.Count++; len(k.First) < reasonNotes {
			k.First = append(k.First, n.Note)
		}
	}
	text, _ := json.Marshal(n)
	r.lock.Lock()
	defer r.lock.Unlock()
	if _, err := r.to.Write(append(text, '\n')); err != nil {
		return 0, err
	}
	return len(line), nil
}

// shrank says which sources have less than half as many rows in the next edition as in the one in
// use.
func shrank(inUse, next *atlas.Atlas) (warnings []string) {
	warnings = []string{}
	for _, s := range next.Sources() {
		for _, old := range inUse.Sources() {
			if old.Name == s.Name && s.Accepted*2 < old.Accepted {
				warnings = append(warnings, fmt.Sprintf("%s shrank from %d to %d accepted rows", s.Name, old.Accepted, s.Accepted))
			}
		}
	}
	return warnings
}
