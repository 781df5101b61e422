package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"eastporch/internal/core/visit"
)

// store stores what was taken in until ctx ends. Where the database is away it tries again,
// ever less often. Batches begin small and grow, so that a service that is stopped soon has
// stored something all the same.
func (in *Intake) store(ctx context.Context) {
	tidy := time.NewTicker(emptied)
	defer tidy.Stop()
	retry := retryFirst
	for ctx.Err() == nil {
		more, err := in.drain(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			in.noteAway(err)
			select {
			case <-ctx.Done():
			case <-time.After(retry):
			}
			retry = min(2*retry, retryMost)
			continue
		case more:
			in.noteAway(nil)
			retry = retryFirst
			continue
		}
		in.noteAway(nil)
		retry = retryFirst
		select {
		case <-ctx.Done():
		case <-in.fresh:
		case <-tidy.C:
			if err := in.Log.Drop(in.storedUpTo()); err != nil {
				in.Logger.Warn("the spool was not shortened", "error", err)
			}
		}
	}
}

func (in *Intake) storedUpTo() uint64 {
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.stored
}

// noteAway notes why nothing is stored, and logs when that changes.
func (in *Intake) noteAway(err error) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if (err == nil) != (in.away == nil) {
		if err != nil {
			in.Logger.Warn("visits wait in the spool", "waiting", in.rows.Load(), "error", err)
		} else {
			in.Logger.Info("visits are stored again", "waiting", in.rows.Load())
		}
	}
	in.away = err
}

// drain stores one batch; more says that there may be others.
func (in *Intake) drain(ctx context.Context) (more bool, err error) {
	_, last := in.Log.Bounds()
	next := in.storedUpTo() + 1
	if next > last {
		return false, nil
	}
	if len(in.parts) == 0 || in.parts[0].from != next {
		first, err := in.gather(next, last, in.batch)
		if err != nil {
			return false, err
		}
		in.parts = []*part{first}
	}
	now := in.parts[0]
	if len(in.parts) == 1 && now.through < last { // the next ones are read while these are stored
		coming := make(chan *part, 1)
		size := min(4*in.batch, batchRows)
		go func() {
			p, _ := in.gather(now.through+1, last, size) // what cannot be read is tried again in its turn
			coming <- p
		}()
		defer func() {
			if p := <-coming; p != nil {
				in.parts = append(in.parts, p)
			}
		}()
	}
	batch, apart, through := now.batch, now.apart, now.through
	rows := len(batch) + len(apart)
	if err := in.insert(ctx, batch, &apart); err != nil {
		return false, err
	}
	if len(apart) > 0 {
		if err := in.Sink.SetApart(ctx, apart); err != nil {
			return false, err
		}
		in.Logger.Warn("visits were set apart", "visits", len(apart), "reason", apart[0].Reason)
	}
	in.parts = slices.Clone(in.parts[1:]) // what was stored is let go
	in.batch = min(4*in.batch, batchRows)
	in.rows.Add(-int64(rows))
	in.mu.Lock()
	in.tally.Quarantine += int64(len(apart))
	in.stored = through
	close(in.moved)
	in.moved = make(chan struct{})
	in.mu.Unlock()
	if err := in.Log.Drop(through); err != nil {
		in.Logger.Warn("the spool was not shortened", "error", err)
	}
	return true, nil
}

// A part is entries of the log that are stored together.
type part struct {
	from, through uint64
	batch         []visit.QueuedVisit
	apart         []visit.SetApart // what is not a visit
}

// gather reads entries, up to last or as many visits as are stored together. The error
// means that the first cannot be read now.
func (in *Intake) gather(from, last uint64, rows int) (*part, error) {
	p := &part{from: from, through: from - 1}
	for i := from; i <= last && len(p.batch) < rows; i++ {
		visits, bad, err := in.visitsOf(i)
		if err != nil {
			if p.through < from {
				return nil, err
			}
			break // what was read can be stored
		}
		p.batch, p.apart, p.through = append(p.batch, visits...), append(p.apart, bad...), i
	}
	return p, nil
}

// visitsOf reads the visits of an entry. What is not a visit is set apart; an error
// means that the entry cannot be read now.
func (in *Intake) visitsOf(index uint64) ([]visit.QueuedVisit, []visit.SetApart, error) {
	g, err := in.read(index)
	if errors.Is(err, ErrDamaged) {
		raw, _ := in.Log.Read(index)
		return nil, []visit.SetApart{in.setApart(raw, err.Error())}, nil
	}
	if err != nil {
		return nil, nil, err
	}
	facts := make(map[uuid.UUID]json.RawMessage, len(g.Facts))
	for _, f := range g.Facts {
		facts[f.ID] = f.Text
	}
	list := make([]visit.QueuedVisit, 0, len(g.Rows))
	var bad []visit.SetApart
	for _, text := range g.Rows {
		var v visit.QueuedVisit
		err := decoding.Unmarshal(text, &v.Row)
		if v.Facts = facts[v.Row.FactsID]; err == nil && v.Facts == nil {
			err = fmt.Errorf("the edition facts %s are missing", v.Row.FactsID)
		}
		if err != nil {
			bad = append(bad, in.setApart(text, "it is not a visit: "+err.Error()))
			continue
		}
		list = append(list, v)
	}
	return list, bad, nil
}

// setApart names what is set apart by its content, so that setting it apart
// again, after a stop in between, adds nothing, and visits of one id stay apart.
func (in *Intake) setApart(record []byte, reason string) visit.SetApart {
	return visit.SetApart{ID: uuid.NewSHA1(uuid.Nil, record), Time: in.Now(), Reason: reason, Record: record}
}

// insert stores a batch. Where the database refuses it, halves are tried, until
// those that it refuses stand alone and are set apart.
func (in *Intake) insert(ctx context.Context, batch []visit.QueuedVisit, apart *[]visit.SetApart) error {
	if len(batch) == 0 {
		return nil
	}
	out, err := in.Sink.Insert(ctx, batch)
	switch {
	case err == nil:
		in.note(batch, out, apart)
		return nil
	case !errors.Is(err, visit.ErrRefused):
		return err
	case len(batch) == 1:
		record, err2 := json.Marshal(batch[0])
		if err2 != nil {
			return err2
		}
		*apart = append(*apart, in.setApart(record, err.Error()))
		return nil
	}
	half := len(batch) / 2
	if err := in.insert(ctx, batch[:half], apart); err != nil {
		return err
	}
	return in.insert(ctx, batch[half:], apart)
}

// note counts an outcome, and sets apart what was stored before with other
// content.
func (in *Intake) note(batch []visit.QueuedVisit, out visit.Outcome, apart *[]visit.SetApart) {
	in.count(func(t *visit.QueueTally) {
		t.Stored += int64(out.Stored)
		t.Duplicate += int64(out.Duplicate)
		t.Conflict += int64(len(out.Conflicts))
		t.Erased += int64(out.Erased)
		t.Expired += int64(out.Expired)
	})
	for _, i := range out.Conflicts {
		if record, err := json.Marshal(batch[i]); err == nil {
			*apart = append(*apart, in.setApart(record, "its id was stored before with other content"))
		}
	}
}
