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
}

// Build reads sources, several at a time, and makes an edition of them.
// prints are by name of source. The error wraps [ErrSource], or is that of
// ctx.
func Build(ctx context.Context, sources []SourceConfig, opt BuildOptions) (a *atlas.Atlas, report *BuildReport, prints map[string]Print, err error) {
	begin := time.Now()
	if opt.Progress == nil {
		opt.Progress = func(string, string, int64, int) {}
	}
	report = &BuildReport{Sources: make([]SourceReport, len(sources)), Rejects: opt.Rejects, Warnings: []string{}}
	var rejects io.Writer = io.Discard
	if opt.Rejects != "" {
		f, err := os.Create(opt.Rejects)
		if err != nil {
			return nil, nil, nil, err
		}
		defer f.Close()
		rejects = f
	}
	read, errs, printed := make([]*atlas.Source, len(sources)), make([]error, len(sources)), make([]Print, len(sources))
	var wait sync.WaitGroup
	var lock sync.Mutex
	tokens := make(chan struct{}, 3)
	for i, s := range sources {
		wait.Go(func() {
			tokens <- struct{}{}
			defer func() { <-tokens }()
			start := time.Now()
			opt.Progress(s.Name, "reading", 0, 0)
			tally := &reasons{name: s.Name, to: rejects, lock: &lock}
			s.Rejected = tally
			s.ParseOptions.Progress = func(bytes int64, lines int) { opt.Progress(s.Name, "reading", bytes, lines) }
			read[i], printed[i], errs[i] = opt.Fetcher.Read(ctx, s)
			if errs[i] == nil {
				report.Sources[i] = sourceReport(read[i], tally, time.Since(start))
				opt.Progress(s.Name, "read", 0, read[i].Rows)
			}
		})
	}
	wait.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, nil, nil, err
	}
	prints = map[string]Print{}
	for i, s := range sources {
		prints[s.Name] = printed[i]
	}
	a = atlas.New(read...)
	report.Edition = a.Name()
	if len(read) > 1 {
		opt.Progress("", "comparing the sources", 0, 0)
		report.Overlaps = compare.Overlaps(a)
	}
	if report.Overlaps == nil {
		report.Overlaps = []compare.Overlap{}
	}
	slices.SortStableFunc(report.Sources, func(x, y SourceReport) int { return x.Rank - y.Rank })
	report.Seconds = time.Since(begin).Seconds()
	report.PeakMB = peakMB()
	return a, report, prints, nil
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

// shrunk says which sources have less than half of what they had in another
// edition.
func shrunk(now, then *atlas.Atlas) (warnings []string) {
	warnings = []string{}
	for _, s := range then.Sources() {
		for _, old := range now.Sources() {
			if old.Name == s.Name && s.Accepted*2 < old.Accepted {
				warnings = append(warnings, fmt.Sprintf("%s shrank from %d to %d accepted rows", s.Name, old.Accepted, s.Accepted))
			}
		}
	}
	return warnings
}
