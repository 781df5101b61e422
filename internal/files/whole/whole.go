// Package whole writes files of which others see all or nothing.
package whole

import (
	"errors"
	"io"
	"os"
	"path/filepath"
)

// Left is the pattern of what stays beside a file where the process was killed while it wrote: to
// be removed by whoever has the directory to themselves.
const Left = ".writing-*"

// Write puts text in the place of the file at path, as [WriteFrom] does.
func Write(path string, mode os.FileMode, text []byte) error {
	return WriteFrom(path, mode, func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	})
}

// WriteFrom puts what write writes in the place of the file at path, which need not be there: beside
// it first, and then in its place when it is on the disk. Where that fails, or write does, path is
// as it was. Of two that write at once the last has the place. The directory must be there.
func WriteFrom(path string, mode os.FileMode, write func(io.Writer) error) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), Left)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}()
	if err = write(f); err != nil {
		return err
	}
	if err = errors.Join(f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err = os.Rename(f.Name(), path); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
