package intake

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func openSpool(t *testing.T, dir string) *Spool {
	t.Helper()
	s, err := OpenSpool(dir)
	require.NoError(t, err)
	return s
}

// entries reads all that a spool has.
func entries(t *testing.T, s *Spool) (list []string) {
	t.Helper()
	first, last := s.Bounds()
	for i := first; i <= last; i++ {
		entry, err := s.Read(i)
		require.NoError(t, err)
		list = append(list, string(entry))
	}
	return list
}

func lastFile(t *testing.T, dir string) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "log", "[0-9]*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	return files[len(files)-1]
}

func TestASpoolKeepsWhatItAcknowledged(t *testing.T) {
	dir := t.TempDir()
	s := openSpool(t, dir)
	var want []string
	for i := range 20 {
		want = append(want, fmt.Sprintf("entry %d", i))
		n, err := s.Append([]byte(want[i]), 1)
		require.NoError(t, err)
		assert.Equal(t, uint64(i+1), n)
	}
	assert.Equal(t, want, entries(t, s))
	require.NoError(t, s.Close())
	s = openSpool(t, dir)
	defer s.Close()
	assert.Equal(t, want, entries(t, s))
	_, err := s.Read(21)
	assert.Error(t, err)
}

func TestOneProcessOwnsASpool(t *testing.T) {
	dir := t.TempDir()
	s := openSpool(t, dir)
	_, err := OpenSpool(dir)
	require.ErrorIs(t, err, ErrOwned)
	require.NoError(t, s.Close())
	require.NoError(t, openSpool(t, dir).Close())
}

// Wherever the last write was cut, or with whatever it was filled, the entries
// before it are there, and the spool goes on behind them.
func TestATornTailIsCutOff(t *testing.T) {
	whole := t.TempDir()
	s := openSpool(t, whole)
	for i := range 3 {
		_, err := s.Append(bytes.Repeat([]byte{byte('a' + i)}, 40), 1)
		require.NoError(t, err)
	}
	require.NoError(t, s.Close())
	data, err := os.ReadFile(lastFile(t, whole))
	require.NoError(t, err)
	last := len(data) - 45 // where the third entry begins
	check := func(name string, data []byte, want int) {
		dir := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "log"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "log", filepath.Base(lastFile(t, whole))), data, 0o600))
		s := openSpool(t, dir)
		require.Len(t, entries(t, s), want, name)
		n, err := s.Append([]byte("after"), 1)
		require.NoError(t, err)
		require.Equal(t, uint64(want+1), n, name)
		require.Equal(t, "after", entries(t, s)[want], name)
		require.NoError(t, s.Close())
		s = openSpool(t, dir)
		require.Len(t, entries(t, s), want+1, name)
		require.NoError(t, s.Close())
	}
	for cut := last; cut < len(data); cut++ {
		check(fmt.Sprintf("cut at %d", cut), data[:cut], 2)
	}
	check("whole", data, 3)
	for _, at := range []int{last + 1, last + 5, last + 20, len(data) - 1} {
		bad := bytes.Clone(data)
		bad[at] ^= 0x10
		check(fmt.Sprintf("a bit at %d", at), bad, 2)
	}
	check("zeros of a file that grew", append(bytes.Clone(data), make([]byte, 4096)...), 3)
}

func TestADamagedEntryInTheMiddleIsSaidAndTheRestIsThere(t *testing.T) {
	dir := t.TempDir()
	s := openSpool(t, dir)
	for i := range 3 {
		_, err := s.Append(bytes.Repeat([]byte{byte('a' + i)}, 40), 1)
		require.NoError(t, err)
	}
	require.NoError(t, s.Close())
	data, err := os.ReadFile(lastFile(t, dir))
	require.NoError(t, err)
	data[60] ^= 1
	require.NoError(t, os.WriteFile(lastFile(t, dir), data, 0o600))
	s = openSpool(t, dir)
	defer s.Close()
	_, err = s.Read(1)
	require.NoError(t, err)
	raw, err := s.Read(2)
	require.ErrorIs(t, err, ErrDamaged)
	assert.NotEmpty(t, raw, "for whoever sets it apart")
	third, err := s.Read(3)
	require.NoError(t, err)
	assert.Equal(t, byte('c'), third[0])
}

// A write that fails half way, as on a full disk, is not acknowledged, harms
// nothing before it, and the next one works.
func TestAFailedWriteLeavesNoTrace(t *testing.T) {
	dir := t.TempDir()
	s := openSpool(t, dir)
	defer s.Close()
	_, err := s.Append([]byte("first"), 1)
	require.NoError(t, err)
	require.NoError(t, s.log.Close()) // so that the next write fails
	_, err = s.Append([]byte("lost"), 1)
	require.Error(t, err)
	file, err := os.OpenFile(lastFile(t, dir), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.Write([]byte{200, 1, 'h', 'a', 'l', 'f'}) // what may have reached the disk of it
	require.NoError(t, err)
	require.NoError(t, file.Close())
	n, err := s.Append([]byte("second"), 1)
	require.NoError(t, err)
	assert.Equal(t, uint64(2), n)
	assert.Equal(t, []string{"first", "second"}, entries(t, s))
}

func TestWhatWasDroppedIsGoneAndTheRestStays(t *testing.T) {
	dir := t.TempDir()
	s := openSpool(t, dir)
	r := rand.New(rand.NewPCG(1, 1))
	entry := func(i int) []byte { return fmt.Appendf(bytes.Repeat([]byte("x"), 300_000), "%d", i) }
	next, dropped := 1, uint64(0)
	for range 60 {
		for range r.IntN(5) {
			_, err := s.Append(entry(next), 1)
			require.NoError(t, err)
			next++
		}
		if _, last := s.Bounds(); last > dropped {
			dropped += uint64(r.IntN(int(last-dropped) + 1))
			require.NoError(t, s.Drop(dropped))
		}
		if r.IntN(8) == 0 {
			require.NoError(t, s.Close())
			s = openSpool(t, dir)
		}
		first, last := s.Bounds()
		require.LessOrEqual(t, first, dropped+1, "what was not dropped stays")
		require.Equal(t, uint64(next-1), last)
		if last >= first {
			got, err := s.Read(last)
			require.NoError(t, err)
			require.Equal(t, entry(int(last)), got)
		}
	}
	_, last := s.Bounds()
	s.dropped = s.dropped.Add(-emptied)
	require.NoError(t, s.Drop(last))
	assert.Zero(t, s.Bytes(), "nothing is left when all is stored")
	require.NoError(t, s.Close())
	s = openSpool(t, dir)
	defer s.Close()
	n, err := s.Append([]byte("more"), 1)
	require.NoError(t, err)
	assert.Equal(t, last+1, n, "numbers go on")
}

// However it is filled and shortened, a spool that is opened again knows what is in it
// without reading it.
func TestAReopenedSpoolKnowsItsWeight(t *testing.T) {
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(3, 13))
	s := openSpool(t, dir)
	for range 60 {
		for range r.IntN(8) {
			_, err := s.Append(bytes.Repeat([]byte{'x'}, r.IntN([]int{10, 5000, 3 << 20}[r.IntN(3)])), r.IntN(5000))
			require.NoError(t, err)
		}
		if first, last := s.Bounds(); r.IntN(3) == 0 && last >= first {
			s.dropped = time.Time{}
			require.NoError(t, s.Drop(first+uint64(r.IntN(int(last-first+1)))))
		}
		first, last := s.Bounds()
		bytes, weight := s.Bytes(), s.Weight()
		require.NoError(t, s.Close())
		s = openSpool(t, dir)
		again, end := s.Bounds()
		require.Equal(t, []uint64{first, last}, []uint64{again, end})
		require.Equal(t, []int64{bytes, weight}, []int64{s.Bytes(), s.Weight()})
	}
	require.NoError(t, s.Close())
}
