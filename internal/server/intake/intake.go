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
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
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
	// ErrFull means that the queue is full; there is room again once the database stores
	// what is in it.
	ErrFull = errors.New("the queue of visits is full")
	// ErrDisk means that the disk did not take visits, as one that is full.
	ErrDisk = errors.New("the disk takes nothing")
	// ErrStopped means that the service stops.
	ErrStopped = errors.New("no more visits are taken in")
)

// A Log keeps entries in order, numbered one after the other, until they are
// dropped. What Append has acknowledged survives the process and the machine.
type Log interface {
	// It is told how many visits are in an entry; Weight sums that up. The entry is not kept.
	Append(entry []byte, visits int) (index uint64, err error)
	// Read gives an entry. Where it wraps [ErrDamaged] it gives what there is of it.
	Read(index uint64) ([]byte, error)
	Bounds() (first, last uint64)
	Bytes() int64
	Weight() int64
	// Writable says why nothing can be appended now, where an append has failed.
	Writable() error
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
	text    bytes.Buffer  // of an entry that is written, and
	packed  []byte        // the entry
	encoder *zstd.Encoder
	decoder *zstd.Decoder

	fresh chan struct{} // something was appended
	parts []*part       // were read and are to be stored, at most two; only [Intake.Run] uses them
	batch int           // how many are stored in one transaction; only [Intake.Run] uses it
	rows  atomic.Int64  // that wait
	// failing says that the last append failed.
	failing atomic.Bool

	mu     sync.Mutex
	stored uint64        // entries up to it stand in the database
	moved  chan struct{} // closed and made anew when stored moves
	away   error         // why the database takes nothing now

	tally visit.QueueTally // under mu
}

const (
	groupRows = 4096   // that are written as one entry at the most
	batchRows = 10_000 // that are stored in one transaction at the most, give or take an entry
	firstRows = 250    // that are stored in the first; each may have four times as many as the one before
	queueSize = 1024   // calls that wait to be written

	// mostYields is how often others are let run before a group is written.
	mostYields = 8

	maxEntry  = 256 << 20
	keepText  = 8 << 20 // a longer buffer is given back
	groupRoom = 32      // bytes, of the heads of a group, and of facts
)

// group is an entry of the log, in CBOR (RFC 8949): rows, and the edition facts that they share.
type group struct {
	Facts []sharedFacts     `cbor:"1,keyasint"`
	Rows  []cbor.RawMessage `cbor:"2,keyasint"`
}

// writeGroup writes a [group] of what calls brought, whose rows are CBOR already.
func writeGroup(b *bytes.Buffer, calls []*call) (rows int, err error) {
	var facts []sharedFacts
	known := map[uuid.UUID]bool{}
	room := groupRoom
	for _, c := range calls {
		rows += len(c.visits)
		room += c.rows.Len()
		for i := range c.visits {
			if id := c.visits[i].Row.FactsID; !known[id] {
				known[id] = true
				facts = append(facts, sharedFacts{ID: id, Text: c.visits[i].Facts})
				room += groupRoom + len(c.visits[i].Facts)
			}
		}
	}
	b.Grow(room)
	b.Write([]byte{0xa2, 1}) // a map of two, and its first key
	if err := encoding.MarshalToBuffer(facts, b); err != nil {
		return rows, err
	}
	b.Write([]byte{2, 0x9a}) // the second, and a list of as many as four bytes say
	b.Write(binary.BigEndian.AppendUint32(b.AvailableBuffer(), uint32(rows)))
	for _, c := range calls {
		b.Write(c.rows.Bytes())
	}
	return rows, nil
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
	visits []visit.QueuedVisit
	rows   *bytes.Buffer // their rows, in CBOR
	done   chan result
}

// rowBuffers are where the rows of calls are written, until they are in an entry.
var rowBuffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

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
// Otherwise none is acknowledged, and the error wraps [ErrFull] where the queue
// is full. The index is for [Intake.Wait]. The visits must not be changed, not even afterwards.
func (in *Intake) Accept(ctx context.Context, visits []visit.QueuedVisit) (index uint64, err error) {
	if in.Log.Bytes() >= in.MaxBytes {
		in.count(func(t *visit.QueueTally) { t.Full += int64(len(visits)) })
		return 0, ErrFull
	}
	room := 0
	for i := range visits {
		room += visits[i].Row.RoomCBOR()
	}
	c := &call{visits: visits, rows: rowBuffers.Get().(*bytes.Buffer), done: make(chan result, 1)}
	c.rows.Reset()
	c.rows.Grow(room)
	for i := range visits {
		c.rows.Write(visits[i].Row.AppendCBOR(c.rows.AvailableBuffer()))
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
		rows := len(calls[0].visits)
		for yields := 0; yields < mostYields && rows < groupRows; {
			select {
			case c := <-in.queue:
				calls = append(calls, c)
				rows += len(c.visits)
			default: // others may be about to come: to sync the disk costs more than to let them
				runtime.Gosched()
				yields++
			}
		}
		in.append(calls)
	}
}

func (in *Intake) append(calls []*call) {
	index := uint64(0)
	in.text.Reset()
	rows, err := writeGroup(&in.text, calls)
	if err == nil {
		in.packed = in.encoder.EncodeAll(in.text.Bytes(), in.packed[:0])
		index, err = in.Log.Append(in.packed, rows)
	}
	if in.text.Cap() > keepText {
		in.text, in.packed = bytes.Buffer{}, nil
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
		err = fmt.Errorf("%w: %w", ErrDisk, err)
	}
	in.failing.Store(err != nil)
	for _, c := range calls {
		rowBuffers.Put(c.rows)
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

// Room says whether visits can be accepted: the queue is not full, and the disk takes what is written.
func (in *Intake) Room() bool {
	if in.failing.Load() && in.Log.Writable() == nil {
		in.failing.Store(false)
	}
	return in.Log.Bytes() < in.MaxBytes && !in.failing.Load()
}

// Close gives the log up; what waits stays there. Run has returned, or was never called.
func (in *Intake) Close() error {
	in.decoder.Close()
	return errors.Join(in.encoder.Close(), in.Log.Close())
}
