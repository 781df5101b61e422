package editions

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"eastporch/internal/files/whole"
)

// joined reads files one after another as one text, with gap between. It stops when its context
// ends.
type joined struct {
	ctx   context.Context
	paths []string
	names []string // what they are called where they come from
	gap   string

	at   int // of paths
	file *os.File
	text io.ReadCloser
	rest string // of the gap, to be given before the next file

	lock   sync.Mutex
	begins []int // the lines on which the files begin, less one
	lines  int
}

func (j *joined) Read(b []byte) (int, error) {
	if err := j.ctx.Err(); err != nil {
		return 0, err
	}
	for {
		if j.rest != "" {
			n := copy(b, j.rest)
			j.rest = j.rest[n:]
			j.count(b[:n])
			return n, nil
		}
		if j.text == nil {
			if j.at == len(j.paths) {
				return 0, io.EOF
			}
			if err := j.open(); err != nil {
				return 0, err
			}
		}
		n, err := j.text.Read(b)
		if len(j.paths) > 1 {
			j.count(b[:n])
		}
		if !errors.Is(err, io.EOF) {
			return n, err
		}
		if err := j.Close(); err != nil {
			return n, err
		}
		if j.at++; j.at < len(j.paths) {
			j.rest = j.gap
		}
		if n > 0 {
			return n, nil
		}
	}
}

func (j *joined) open() (err error) {
	if j.file, err = whole.Open(j.paths[j.at]); err != nil {
		return err
	}
	if j.text, err = unpackAhead(j.file); err != nil {
		return errors.Join(err, j.file.Close())
	}
	j.lock.Lock()
	defer j.lock.Unlock()
	j.begins = append(j.begins, j.lines)
	return nil
}

func (j *joined) count(b []byte) {
	n := bytes.Count(b, []byte{'\n'})
	j.lock.Lock()
	defer j.lock.Unlock()
	j.lines += n
}

// Close closes the file that is open.
func (j *joined) Close() error {
	if j.text == nil {
		return nil
	}
	err := errors.Join(j.text.Close(), j.file.Close())
	j.text = nil
	return err
}

// where gives the file in which a line of the whole stands, and its number there.
func (j *joined) where(line int) (name string, in int) {
	j.lock.Lock()
	defer j.lock.Unlock()
	i, _ := slices.BinarySearch(j.begins, line) // the file behind it
	i = max(0, i-1)
	return filepath.Base(j.names[i]), line - j.begins[i]
}
