package editions

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/klauspost/readahead"
)

// ErrTooLarge is wrapped where a source unpacks to more than it may.
var ErrTooLarge = errors.New("the unpacked text is too large")

var errCut = errors.New("the packed file ends too early: get it again")

// Limits on what compressed text may become.
const (
	// MaxUnpacked bounds the text of one source, in bytes.
	MaxUnpacked = 16 << 30
	// A small file may grow a lot; beyond freely bytes, by maxGrowth at most.
	freely    = 256 << 20
	maxGrowth = 200
)

// Unpack gives the text of r, which may be compressed with gzip, bzip2 or zstd: its
// first bytes tell. Text that is a bomb ends with an error that wraps
// [ErrTooLarge].
func Unpack(r io.Reader) (io.ReadCloser, error) {
	packed := &counter{r: r}
	buffered := bufio.NewReaderSize(packed, 64<<10)
	first, err := buffered.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case bytes.HasPrefix(first, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(buffered)
		if err != nil {
			return nil, fmt.Errorf("gzip: %w", err)
		}
		return &unpacked{r: z, packed: packed, close: z.Close}, nil
	case bytes.HasPrefix(first, []byte("BZh")):
		return &unpacked{r: bzip2.NewReader(buffered), packed: packed, close: func() error { return nil }}, nil
	case bytes.Equal(first, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(buffered, zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return nil, fmt.Errorf("zstd: %w", err)
		}
		return &unpacked{r: z, packed: packed, close: func() error { z.Close(); return nil }}, nil
	}
	return io.NopCloser(buffered), nil
}

// unpackAhead is [Unpack], which unpacks in another goroutine, some megabytes ahead of who reads.
func unpackAhead(r io.Reader) (io.ReadCloser, error) {
	text, err := Unpack(r)
	if _, packed := text.(*unpacked); !packed || err != nil {
		return text, err
	}
	ahead, err := readahead.NewReadCloserSize(text, 4, 1<<20)
	if err != nil {
		return nil, errors.Join(err, text.Close())
	}
	return ahead, nil
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

type unpacked struct {
	r      io.Reader
	packed *counter
	n      int64
	close  func() error
}

func (u *unpacked) Read(b []byte) (int, error) {
	n, err := u.r.Read(b)
	if errors.Is(err, io.ErrUnexpectedEOF) { // which readers take for the end of a text
		err = errCut
	}
	u.n += int64(n)
	if u.n > MaxUnpacked || u.n > freely && u.n > maxGrowth*u.packed.n {
		return 0, fmt.Errorf("%w: %d MB from %d MB and more to come", ErrTooLarge, u.n>>20, u.packed.n>>20)
	}
	return n, err
}

func (u *unpacked) Close() error { return u.close() }
