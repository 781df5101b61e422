package whole

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever reads while others write, and some of them fail, has one text or another, whole.
func TestAFileIsAlwaysWhole(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "file")
	require.NoError(t, Write(path, 0o640, bytes.Repeat([]byte{'a'}, 100_000)))
	broken := errors.New("broken")
	var writers sync.WaitGroup
	for n := range 4 {
		writers.Go(func() {
			for i := range 50 {
				text := bytes.Repeat([]byte{byte('b' + n)}, 1000*(i+1))
				if n == 3 {
					assert.ErrorIs(t, WriteFrom(path, 0o640, func(w io.Writer) error {
						_, err := w.Write(text)
						return errors.Join(err, broken)
					}), broken)
					continue
				}
				assert.NoError(t, Write(path, 0o640, text))
			}
		})
	}
	done := make(chan struct{})
	go func() { writers.Wait(); close(done) }()
	for reading := true; reading; {
		select {
		case <-done:
			reading = false
		default:
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NotEmpty(t, text)
		require.NotEqual(t, byte('e'), text[0], "of one that failed")
		require.Len(t, bytes.Trim(text, string(text[:1])), 0)
	}
	left, err := filepath.Glob(filepath.Join(dir, Left))
	require.NoError(t, err)
	assert.Empty(t, left)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode())
	assert.Error(t, Write(filepath.Join(dir, "none", "file"), 0o640, nil))
}

// What is no file is refused at once, and not waited for.
func TestWhatIsNoFileIsRefused(t *testing.T) {
	dir := t.TempDir()
	pipe, file := filepath.Join(dir, "pipe"), filepath.Join(dir, "file")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.WriteFile(file, []byte("text"), 0o600))
	require.NoError(t, os.Symlink(file, filepath.Join(dir, "link")))
	for path, says := range map[string]string{pipe: "is a named pipe, not a file", dir: "is a directory, not a file", "/dev/null": "is a device, not a file", filepath.Join(dir, "gone"): "no such file"} {
		_, err := Read(path)
		assert.ErrorContains(t, err, says)
	}
	text, err := Read(filepath.Join(dir, "link"))
	require.NoError(t, err)
	assert.Equal(t, "text", string(text))
}
