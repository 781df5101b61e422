package whole

import (
	"fmt"
	"io"
	"os"
)

// Open opens a file for reading. What is no file is refused at once, where to open it would wait for whoever writes to
// it: a named pipe, a device, a socket; and so is a directory.
func Open(path string) (*os.File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is %s, not a file", path, kind(info.Mode()))
	}
	return os.Open(path)
}

// Read reads a file that [Open] opens.
func Read(path string) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

func kind(mode os.FileMode) string {
	switch {
	case mode.IsDir():
		return "a directory"
	case mode&os.ModeNamedPipe != 0:
		return "a named pipe"
	case mode&os.ModeSocket != 0:
		return "a socket"
	}
	return "a device"
}
