// Package intake takes visits in: it keeps them in a durable queue and brings
// them into the database in batches.
//
// A visit that [Intake.Accept] has acknowledged is on the disk, and stays there
// until it stands in the database. Callers that come at the same time share one
// sync of the disk. The queue is a [Log]: a [Spool] on this machine, or whatever
// stands in its place where many machines write.
package intake

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"

	"eastporch/internal/core/visit"
)

// Errors of taking in.
var (
	// ErrFull means that the queue has no buffer; it has once the database stores
	// what is in it.
	ErrFull = errors.New("the queue of visits is full")
	// ErrStopped means that the service stops.
	ErrStopped = errors.New("no more visits are taken in")
)

// A Log keeps entries in order, numbered one after the other, until they are
// dropped. What Append has acknowledged survives the process and the machine.
type Log interface {
	// It is told how many visits are in an entry; Weight sums that up.
	Append(entry []byte, visits int) (index uint64, err error)
	// Read gives an entry. Where it wraps [ErrDamaged] it gives what there is of it.
	Read(index uint64) ([]byte, error)
	Bounds() (first, last uint64)
	Bytes() int64
	Weight() int64
	// Drop forgets the entries up to one, at once or later.
	Drop(through uint64) error
	Close() error
}

// A Sink stores visits, each once. Errors that wrap [visit.ErrRefused] are the
// fault of one of the visits, all others pass.
type Sink interface {
	Insert(ctx context.Context, batch []visit.QueuedVisit) (visit.Outcome, error)
	SetApart(ctx context.Context, list []visit.SetApart) error
}

// Options says what an intake is made of; all are required.
type Options struct {
	Log      Log
	Sink     Sink
	MaxBytes int64 // how much may wait
	Logger   *slog.Logger
	Now      func() time.Time
}

// An Intake takes visits in. It is safe for concurrent use.
type Intake struct {
	Options
	queue   chan *call
	stopped chan struct{} // closed when nothing more is taken in
	written chan struct{} // closed when the last entry is written
	text    bytes.Buffer  // of an entry that is written
	encoder *zstd.Encoder
	decoder *zstd.Decoder

	fresh chan struct{} // something was appended
	parts []*part       // were read and are to be stored, at most two; only [Intake.Run] uses them
	batch int           // how many are stored in one transaction; only [Intake.Run] uses it
	rows  atomic.Int64  // that wait

	mu     sync.Mutex
	stored uint64        // entries up to it stand in the database
	moved  chan struct{} // closed and made anew when stored moves
	away   error         // why the database takes nothing now

	tally visit.QueueTally // under mu
}

const (
	groupRows = 4096   // that are written as one entry at the most
	batchRows = 10_000 // that are stored in one transaction at the most, give or take an entry
	firstRows = 250    // that are stored in the first; each may have twice as many as the one before
	queueSize = 1024   // calls that wait to be written

	// mostYields is how often others are let run before a group is written.
	mostYields = 8

	maxEntry = 256 << 20
	keepText = 8 << 20 // buffer beyond that is given back
)

// group is an entry of the log, in CBOR (RFC 8949): rows, and the edition facts that they share.
type group struct {
	Facts []sharedFacts     `cbor:"1,keyasint"`
	Rows  []cbor.RawMessage `cbor:"2,keyasint"`
}

type sharedFacts struct {
	_    struct{} `cbor:",toarray"`
	ID   uuid.UUID
	Text []byte // JSON
}

// Kinds of addresses are written as words, so that a queue may outlive a list of them.
var (
	encoding = must(cbor.EncOptions{TextMarshaler: cbor.TextMarshalerTextString}.UserBufferEncMode())
	decoding = must(cbor.DecOptions{TextUnmarshaler: cbor.TextUnmarshalerTextString}.DecMode())
)

func must[T any](mode T, err error) T {
	if err != nil { // the options contradict each other
		panic(err)
	}
	return mode
}

type call struct {
	rows  []cbor.RawMessage
	facts []sharedFacts
	done  chan result
}

type result struct {
	index uint64
	err   error
}

// New makes an intake, which takes visits in once it runs.
func New(opt Options) (*Intake, error) {
	encoder, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	decoder, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxEntry))
	if err != nil {
		return nil, err
	}
	first, _ := opt.Log.Bounds()
	in := &Intake{
		Options: opt, queue: make(chan *call, queueSize), stopped: make(chan struct{}), encoder: encoder, decoder: decoder,
		fresh: make(chan struct{}, 1), written: make(chan struct{}), stored: first - 1, moved: make(chan struct{}), batch: firstRows,
	}
	in.rows.Store(opt.Log.Weight()) // what waits from before
	return in, nil
}

// Accept takes visits in: when it returns nil they are on the disk, all of them.
// Otherwise none is acknowledged, and the error wraps [ErrFull] where there is no
// buffer. The index is for [Intake.Wait].
func (in *Intake) Accept(ctx context.Context, visits []visit.QueuedVisit) (index uint64, err error) {
	if in.Log.Bytes() >= in.MaxBytes {
		in.count(func(t *visit.QueueTally) { t.Full += int64(len(visits)) })
		return 0, ErrFull
	}
	c := &call{done: make(chan result, 1)}
	for i := range visits {
		v := &visits[i]
		row, err := encoding.Marshal(&v.Row)
		if err != nil {
			return 0, err
		}
		c.rows, c.facts = append(c.rows, row), append(c.facts, sharedFacts{ID: v.Row.FactsID, Text: v.Facts})
	}
	select {
	case in.queue <- c:
	case <-in.stopped:
		return 0, ErrStopped
	case <-ctx.Done():
		return 0, ctx.Err()
	}
	select { // it will be written, whether the caller waits or not
	case r := <-c.done:
		return r.index, r.err
	case <-ctx.Done():
		return 0, ctx.Err()
	case <-in.written:
		select {
		case r := <-c.done:
			return r.index, r.err
		default:
			return 0, ErrStopped
		}
	}
}

// write groups the calls that wait and appends them, until nothing more is taken in.
func (in *Intake) write() {
	defer close(in.written)
	for {
		var calls []*call
		select {
		case c := <-in.queue:
			calls = append(calls, c)
		case <-in.stopped:
			for { // those that were let in before
				select {
				case c := <-in.queue:
					in.append([]*call{c})
				default:
					return
				}
			}
		}
		rows := len(calls[0].rows)
		for yields := 0; yields < mostYields && rows < groupRows; {
			select {
			case c := <-in.queue:
				calls = append(calls, c)
				rows += len(c.rows)
			default: // others may be about to come: to sync the disk costs more than to let them
				runtime.Gosched()
				yields++
			}
		}
		in.append(calls)
	}
}

func (in *Intake) append(calls []*call) {
	var g group
	known := map[uuid.UUID]bool{}
	for _, c := range calls {
		for _, f := range c.facts {
			if !known[f.ID] {
				known[f.ID] = true
				g.Facts = append(g.Facts, f)
			}
		}
		g.Rows = append(g.Rows, c.rows...)
	}
	index, rows := uint64(0), len(g.Rows)
	in.text.Reset()
	err := encoding.MarshalToBuffer(&g, &in.text)
	if err == nil {
		index, err = in.Log.Append(in.encoder.EncodeAll(in.text.Bytes(), nil), rows)
	}
	if in.text.Cap() > keepText {
		in.text = bytes.Buffer{}
	}
	if err == nil {
		in.rows.Add(int64(rows))
		in.count(func(t *visit.QueueTally) { t.Accepted += int64(rows) })
		select {
		case in.fresh <- struct{}{}:
		default:
		}
	} else {
		in.Logger.Error("visits were not taken in", "visits", rows, "error", err)
	}
	for _, c := range calls {
		c.done <- result{index, err}
	}
}

func (in *Intake) count(add func(*visit.QueueTally)) {
	in.mu.Lock()
	defer in.mu.Unlock()
	add(&in.tally)
}

// read reads an entry of the log.
func (in *Intake) read(index uint64) (group, error) {
	entry, err := in.Log.Read(index)
	if err != nil {
		return group{}, err
	}
	text, err := in.decoder.DecodeAll(entry, nil)
	if err != nil {
		return group{}, fmt.Errorf("%w: %d: %w", ErrDamaged, index, err)
	}
	var g group
	if err := decoding.Unmarshal(text, &g); err != nil {
		return group{}, fmt.Errorf("%w: %d: %w", ErrDamaged, index, err)
	}
	return g, nil
}

const (
	retryFirst = 50 * time.Millisecond
	retryMost  = 5 * time.Second
)

// Run takes visits in and stores them, in their order, until ctx ends: then what was let in is
// written, and waits in the log. It may run once.
func (in *Intake) Run(ctx context.Context) error {
	go in.write()
	in.store(ctx)
	close(in.stopped)
	<-in.written
	return nil
}

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
		size := min(2*in.batch, batchRows)
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
	in.batch = min(2*in.batch, batchRows)
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

// Wait waits until what Accept gave an index for stands in the database, or ctx
// ends.
func (in *Intake) Wait(ctx context.Context, index uint64) error {
	for {
		in.mu.Lock()
		stored, moved := in.stored, in.moved
		in.mu.Unlock()
		if stored >= index {
			return nil
		}
		select {
		case <-moved:
		case <-in.stopped:
			return ErrStopped
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// settleMost is how many visits may wait for a question to wait for them.
const settleMost = 20_000

// Settle waits for what was accepted so far, as long as ctx lasts, so that
// whoever has sent a visit finds it. It does not wait for a long queue, nor for a
// database that is away.
func (in *Intake) Settle(ctx context.Context) {
	_, last := in.Log.Bounds()
	in.mu.Lock()
	away := in.away != nil
	in.mu.Unlock()
	if !away && in.rows.Load() < settleMost {
		_ = in.Wait(ctx, last) // a question is answered in any case
	}
}

// State says how the intake stands.
func (in *Intake) State() visit.Queue {
	bytes := in.Log.Bytes()
	in.mu.Lock()
	defer in.mu.Unlock()
	s := visit.Queue{Waiting: in.rows.Load(), Bytes: bytes, Most: in.MaxBytes, Since: in.tally}
	if in.away != nil {
		text := in.away.Error()
		s.Away = &text
	}
	return s
}

// Room says whether visits can be accepted.
func (in *Intake) Room() bool { return in.Log.Bytes() < in.MaxBytes }

// Close gives the log up; what waits stays there. Run has returned, or was never called.
func (in *Intake) Close() error {
	in.decoder.Close()
	return errors.Join(in.encoder.Close(), in.Log.Close())
}
