package visits

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"github.com/google/uuid"

	"eastporch/api"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/visit"
	visitfile "eastporch/internal/files/visits"
)

// exportPage is how many visits are read at once.
const exportPage = 1000

// Export writes visits as a file, the oldest first. It begins with the first bytes only when
// the first visits could be read; goOn is asked before each thousand, and its error ends the
// writing. A file whose writing ended in an error is not whole.
func (s *Visits) Export(ctx context.Context, f visit.Filter, to func() (visitfile.Writer, error), goOn func() error) error {
	page, err := s.Store.VisitsFrom(ctx, f, uuid.Nil, exportPage)
	if err != nil {
		return err
	}
	w, err := to()
	for err == nil && len(page) > 0 {
		if err = goOn(); err != nil {
			break
		}
		for _, v := range page {
			if err = w.Write(v); err != nil {
				return err
			}
		}
		page, err = s.Store.VisitsFrom(ctx, f, page[len(page)-1].ID, exportPage)
	}
	if err != nil {
		return err
	}
	return w.Close()
}

const (
	importBatch   = 2000
	importBytes   = 8 << 20 // of visits that wait to be stored
	importRejects = 100     // that are spelled out
)

// An imports is a file on its way into the database.
type imports struct {
	*Visits
	done  api.Imported
	batch []visit.QueuedVisit
	lines []int
	size  int
}

// Import stores the visits of a file that an export has written. They are kept as the site's
// mode says now. What was done until an error is given with it.
func (s *Visits) Import(ctx context.Context, body io.Reader, format string) (api.Imported, error) {
	in := &imports{Visits: s, done: api.Imported{Rejects: []api.ImportReject{}}}
	if format == "parquet" { // whose end is read first
		file, err := os.CreateTemp("", "eastporch-import-")
		if err != nil {
			return in.done, err
		}
		defer os.Remove(file.Name())
		defer file.Close()
		if _, err = io.Copy(file, body); err != nil {
			return in.done, err
		}
		body = file
	}
	err := visitfile.Read(body, format, func(line int, v visit.Visit, err error) error {
		in.done.Read++
		var queued visit.QueuedVisit
		if err == nil {
			queued, err = s.readmit(v)
		}
		if err != nil {
			in.reject(line, err.Error())
			return nil
		}
		in.batch, in.lines = append(in.batch, queued), append(in.lines, line)
		in.size += len(queued.Facts) + len(queued.Row.Card) + len(queued.Row.Trail)
		if len(in.batch) < importBatch && in.size < importBytes {
			return nil
		}
		return in.flush(ctx)
	})
	if err == nil {
		err = in.flush(ctx)
	}
	return in.done, err
}

func (in *imports) reject(line int, reason string) {
	in.done.Rejected++
	if len(in.done.Rejects) < importRejects {
		in.done.Rejects = append(in.done.Rejects, api.ImportReject{Line: line, Reason: reason})
	}
}

func (in *imports) flush(ctx context.Context) error {
	err := in.insert(ctx, in.batch, in.lines)
	clear(in.batch) // so that what was stored is let go
	in.batch, in.lines, in.size = in.batch[:0], in.lines[:0], 0
	return err
}

// insert stores visits; where the database refuses one, the others are
// stored all the same.
func (in *imports) insert(ctx context.Context, batch []visit.QueuedVisit, lines []int) error {
	if len(batch) == 0 {
		return nil
	}
	out, err := in.Store.Insert(ctx, batch)
	switch {
	case err == nil:
		done := &in.done
		done.Stored, done.Duplicate = done.Stored+out.Stored, done.Duplicate+out.Duplicate
		done.Expired, done.Erased = done.Expired+out.Expired, done.Erased+out.Erased
		return nil
	case !errors.Is(err, visit.ErrRefused):
		return err
	case len(batch) == 1:
		in.reject(lines[0], err.Error())
		return nil
	}
	half := len(batch) / 2
	if err := in.insert(ctx, batch[:half], lines[:half]); err != nil {
		return err
	}
	return in.insert(ctx, batch[half:], lines[half:])
}

// readmit checks a visit from outside, and leaves of it what its site keeps.
func (s *Visits) readmit(v visit.Visit) (visit.QueuedVisit, error) {
	site, err := s.Sites.Find(v.Site)
	if err != nil {
		return visit.QueuedVisit{}, err
	}
	if v.Time.After(s.now().Add(ahead)) {
		return visit.QueuedVisit{}, invalid.Field("id", "its time lies more than 5 minutes ahead", "Check the clock of the machine that made it.")
	}
	if err := checkTexts(&v); err != nil {
		return visit.QueuedVisit{}, err
	}
	if v.Attributes, err = visit.CheckAttributes(v.Attributes); err != nil {
		return visit.QueuedVisit{}, fmt.Errorf("attributes: %w", err)
	}
	for _, m := range v.Marks {
		if !slices.Contains(visit.MarkWords, m) {
			return visit.QueuedVisit{}, fmt.Errorf("marks: %.20q is not a mark", m)
		}
	}
	private := slices.Contains(v.Marks, visit.MarkPrivate)
	v.Marks = slices.DeleteFunc(v.Marks, func(m string) bool { return m == visit.MarkPrivate })
	if err = s.Privacy.Keep(&v, site.Privacy, private); err != nil {
		return visit.QueuedVisit{}, err
	}
	return s.facts.Queued(&v)
}
