package intake

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/tidwall/wal"
)

// Errors of spools.
var (
	ErrOwned = errors.New("another service owns the spool")
	// ErrDamaged means that an entry is not what was written: its checksum is
	// wrong. The entries around it are not touched.
	ErrDamaged = errors.New("an entry of the spool is damaged")
)

const (
	// segmentBytes is about how long a file of the spool is; whole files are
	// deleted when all in them is stored.
	segmentBytes = 8 << 20
	// emptied is how long stored entries may stay before a short spool is emptied,
	// since that costs a few syncs.
	emptied = time.Second
	sumSize = 4 // bytes of the CRC-32C in front of each entry, and of its weight
)

// frame is an entry as it stands in the files.
type frame struct{ bytes, weight int64 }

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// A Spool is a [Log] in a directory of this machine, which one process owns.
// Entries are on the disk when Append returns: the file is synced, and its
// directory when a file was added. What was not acknowledged, because the power
// went or the disk was full, is cut off. It is safe for concurrent use.
type Spool struct {
	dir  string
	lock *os.File

	mu      sync.Mutex
	log     *wal.Log // nil where it must be opened again
	frames  []frame  // of the entries from first on
	first   uint64
	acked   uint64    // the last entry that was acknowledged
	all     frame     // their sum
	whole   []byte    // the entry that was written last
	changed time.Time // of the directory
	dropped time.Time // when entries were last dropped
}

// OpenSpool opens the spool in dir, which it makes if need be, and cuts off what
// was not acknowledged. It wraps [ErrOwned] where another process has it.
func OpenSpool(dir string) (*Spool, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("%w: %s", ErrOwned, dir), lock.Close())
	}
	s := &Spool{dir: dir, lock: lock}
	if err := s.open(func(entries int, sound bool) bool { return sound }); err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	return s, nil
}

// open opens the log. What stands behind the last entry that keep accepts is cut
// off first.
func (s *Spool) open(keep func(nth int, sound bool) bool) error {
	log := filepath.Join(s.dir, "log")
	if err := cut(log, keep); err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	var err error
	s.log, err = wal.Open(log, &wal.Options{SegmentSize: segmentBytes, SegmentCacheSize: 2, NoCopy: true, AllowEmpty: true, DirPerms: 0o700, FilePerms: 0o600})
	if err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	if s.first, err = s.log.FirstIndex(); err != nil {
		return err
	}
	if s.acked, err = s.log.LastIndex(); err != nil {
		return err
	}
	if s.frames, err = scan(log, s.first, s.acked); err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	s.all = frame{}
	for _, f := range s.frames {
		s.all = frame{s.all.bytes + f.bytes, s.all.weight + f.weight}
	}
	return nil
}

// scan reads how long and how heavy the entries of a log are, and nothing else of them:
// however much waits, a start does not read it.
func scan(dir string, first, last uint64) ([]frame, error) {
	files, err := filepath.Glob(filepath.Join(dir, "[0-9]*"))
	if err != nil {
		return nil, err
	}
	var frames []frame
	for _, name := range files { // which Glob sorts, by their first entries
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		in := bufio.NewReaderSize(file, scanBuffer)
		for at := int64(0); ; {
			head, err := in.Peek(2*binary.MaxVarintLen64 + sumSize)
			if len(head) == 0 {
				break
			}
			size, n := binary.Uvarint(head)
			if n <= 0 {
				_ = file.Close()
				return nil, fmt.Errorf("%w: %s at byte %d: %w", ErrDamaged, filepath.Base(name), at, err)
			}
			weight := uint64(0)
			if rest := head[n:]; len(rest) > sumSize {
				weight, _ = binary.Uvarint(rest[sumSize:])
			}
			frames = append(frames, frame{int64(size), int64(weight)})
			at += int64(n) + int64(size)
			if whole := n + int(size); whole <= in.Buffered() {
				_, _ = in.Discard(whole)
			} else { // over what is not in the buffer
				if _, err := file.Seek(at, io.SeekStart); err != nil {
					_ = file.Close()
					return nil, err
				}
				in.Reset(file)
			}
		}
		if err := file.Close(); err != nil {
			return nil, err
		}
	}
	if want := int(last + 1 - first); len(frames) != want {
		return nil, fmt.Errorf("%w: its files have %d entries, and %d are expected", ErrDamaged, len(frames), want)
	}
	return frames, nil
}

const scanBuffer = 4 << 10

// cut shortens the last file of a log to its last entry that keep accepts, where
// keep is asked with how many entries came before in the file and whether the
// entry is sound. The files before it were complete when it was begun.
func cut(dir string, keep func(nth int, sound bool) bool) error {
	files, err := filepath.Glob(filepath.Join(dir, "[0-9]*"))
	if err != nil || len(files) == 0 {
		return err
	}
	last := files[len(files)-1] // which Glob sorts
	data, err := os.ReadFile(last)
	if err != nil {
		return err
	}
	end, pos := 0, 0
	for n := 0; pos < len(data); n++ {
		size, head := binary.Uvarint(data[pos:])
		if head <= 0 || size > uint64(len(data)-pos-head) {
			break
		}
		entry := data[pos+head : pos+head+int(size)]
		pos += head + int(size)
		if keep(n, isSound(entry)) {
			end = pos
		}
	}
	if end == len(data) {
		return nil
	}
	f, err := os.OpenFile(last, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(int64(end)), f.Sync(), f.Close())
}

func isSound(entry []byte) bool {
	return len(entry) > sumSize && binary.LittleEndian.Uint32(entry) == crc32.Checksum(entry[sumSize:], castagnoli)
}

// Append writes an entry, and how much is in it; it is on the disk when nil is returned.
// After an error it is not in the log, and later ones may be.
func (s *Spool) Append(entry []byte, weight int) (uint64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.reopen(); err != nil {
		return 0, err
	}
	whole := append(s.whole[:0], make([]byte, sumSize)...)
	whole = append(binary.AppendUvarint(whole, uint64(weight)), entry...)
	if s.whole = whole; cap(whole) > keepText {
		s.whole = nil
	}
	binary.LittleEndian.PutUint32(whole, crc32.Checksum(whole[sumSize:], castagnoli))
	err := s.log.Write(s.acked+1, whole)
	if err == nil {
		err = s.syncDir()
	}
	if err != nil {
		_ = s.log.Close() // what it holds in memory is no longer what is on the disk
		s.log = nil
		return 0, fmt.Errorf("spool: %w", err)
	}
	s.acked++
	f := frame{int64(len(whole)), int64(weight)}
	s.frames = append(s.frames, f)
	s.all = frame{s.all.bytes + f.bytes, s.all.weight + f.weight}
	return s.acked, nil
}

// reopen opens a log that failed, without what was not acknowledged.
func (s *Spool) reopen() error {
	if s.log != nil {
		return nil
	}
	files, err := filepath.Glob(filepath.Join(s.dir, "log", "[0-9]*"))
	if err != nil || len(files) == 0 {
		return fmt.Errorf("spool: its files are gone: %w", fs.ErrNotExist)
	}
	var begins uint64
	if _, err := fmt.Sscanf(filepath.Base(files[len(files)-1]), "%d", &begins); err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	acked := s.acked
	if err := s.open(func(nth int, _ bool) bool { return begins+uint64(nth) <= acked }); err != nil {
		return err
	}
	if s.acked != acked {
		return fmt.Errorf("spool: %w: it ends at entry %d, and %d was acknowledged", ErrDamaged, s.acked, acked)
	}
	return nil
}

// probeBytes is about what a group of visits takes.
const probeBytes = 64 << 10

// Writable tries whether the disk takes what an append would write.
func (s *Spool) Writable() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.reopen(); err != nil {
		return err
	}
	name := filepath.Join(s.dir, "probe")
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(make([]byte, probeBytes))
	return errors.Join(err, f.Sync(), f.Close(), os.Remove(name))
}

// syncDir syncs the directory where its entries have changed.
func (s *Spool) syncDir() error {
	dir := filepath.Join(s.dir, "log")
	info, err := os.Stat(dir)
	if err != nil || info.ModTime().Equal(s.changed) {
		return err
	}
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	s.changed = info.ModTime()
	return nil
}

// Read gives an entry; the caller must not change it. It wraps [ErrDamaged]
// where the entry is not what was written, and gives what is there instead.
func (s *Spool) Read(index uint64) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.reopen(); err != nil {
		return nil, err
	}
	entry, err := s.log.Read(index)
	if err != nil {
		return nil, fmt.Errorf("spool: entry %d: %w", index, err)
	}
	if !isSound(entry) {
		return entry, fmt.Errorf("%w: %d", ErrDamaged, index)
	}
	_, n := binary.Uvarint(entry[sumSize:])
	return entry[sumSize+max(n, 0):], nil
}

// Bounds gives the first and the last entry; the last is one less than the first
// where there is none.
func (s *Spool) Bounds() (first, last uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.first, s.acked
}

// Bytes is how much the entries take on the disk.
func (s *Spool) Bytes() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all.bytes
}

// Weight is how much is in the entries.
func (s *Spool) Weight() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all.weight
}

// Drop forgets the entries up to one. They may stay for a while, until it is
// worth the effort.
func (s *Spool) Drop(through uint64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if through < s.first {
		return nil
	}
	var stored frame
	for _, f := range s.frames[:through-s.first+1] {
		stored = frame{stored.bytes + f.bytes, stored.weight + f.weight}
	}
	if stored.bytes < segmentBytes && (through < s.acked || time.Since(s.dropped) < emptied) {
		return nil
	}
	if err := s.reopen(); err != nil {
		return err
	}
	s.dropped = time.Now()
	if err := s.log.TruncateFront(through + 1); err != nil {
		_ = s.log.Close()
		s.log = nil
		return fmt.Errorf("spool: %w", err)
	}
	s.frames = append([]frame{}, s.frames[through-s.first+1:]...)
	s.first, s.all = through+1, frame{s.all.bytes - stored.bytes, s.all.weight - stored.weight}
	return nil
}

// Close gives the spool up; its entries stay.
func (s *Spool) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	if s.log != nil {
		err = s.log.Close()
		s.log = nil
	}
	return errors.Join(err, s.lock.Close())
}
