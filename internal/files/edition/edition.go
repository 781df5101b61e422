// Package edition keeps an edition of the atlas in a file: it is written
// whole or not at all, and used in place, mapped into memory.
package edition

import (
	"fmt"
	"math"
	"os"
	"runtime"
	"syscall"

	"eastporch/internal/core/atlas"
	"eastporch/internal/files/whole"
)

// Write writes an edition to a file, all of it or nothing: beside it first,
// and then in its place when it is on the disk.
func Write(a *atlas.Atlas, path string) error { return whole.WriteFrom(path, 0o644, a.Write) }

// mapping is a file that is mapped into memory until nothing refers to it.
type mapping struct{ bytes []byte }

// Open maps an edition file into memory, as [atlas.OpenBytes] opens it. The file
// must not be changed while it is open; replace it by renaming another over it. It
// is unmapped when the atlas is no longer used. The error wraps
// [atlas.ErrEdition], or is that of opening the file.
func Open(path string) (*atlas.Atlas, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() == 0 || info.Size() > math.MaxInt {
		return nil, fmt.Errorf("%s: %w: it is empty", path, atlas.ErrEdition)
	}
	b, err := syscall.Mmap(int(f.Fd()), 0, int(info.Size()), syscall.PROT_READ, syscall.MAP_SHARED)
	if err != nil {
		return nil, fmt.Errorf("%s: mapping it into memory: %w", path, err)
	}
	m := &mapping{bytes: b}
	runtime.AddCleanup(m, func(b []byte) { _ = syscall.Munmap(b) }, b)
	a, err := atlas.OpenBytes(b, m)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return a, nil
}
