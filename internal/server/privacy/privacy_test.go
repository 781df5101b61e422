package privacy

import (
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/visit"
)

var noon = time.Date(2026, 11, 14, 12, 0, 0, 0, time.UTC)

func open(t *testing.T, dir string) *Keys {
	t.Helper()
	k, err := Open(dir, 7*day)
	require.NoError(t, err)
	return k
}

func of(ip string, at time.Time, site string) visit.Visit {
	agent := "Firefox"
	v := visit.Visit{Site: site, Time: at, UserAgent: &agent, Attributes: []byte(`{"a":1}`)}
	v.Card.Address.Obtained = "given"
	v.Card.Address.Text = addr.Optional{Addr: netip.MustParseAddr(ip)}
	return v
}

func keep(t *testing.T, k *Keys, v visit.Visit, mode visit.Mode) visit.Visit {
	t.Helper()
	require.NoError(t, k.Keep(&v, mode, false))
	return v
}

func TestVisitorsAreToldApartForASiteAndDay(t *testing.T) {
	k := open(t, t.TempDir())
	one := keep(t, k, of("198.18.3.40", noon, "a.example"), visit.Whole).VisitorHash
	assert.NotZero(t, one)
	assert.Equal(t, one, keep(t, k, of("198.18.3.40", noon.Add(time.Hour), "a.example"), visit.Whole).VisitorHash)
	for name, v := range map[string]visit.Visit{
		"another address": of("198.18.3.41", noon, "a.example"), "another day": of("198.18.3.40", noon.Add(day), "a.example"), "another site": of("198.18.3.40", noon, "b.example"),
	} {
		assert.NotEqual(t, one, keep(t, k, v, visit.Whole).VisitorHash, name)
	}
	cut := keep(t, k, of("198.18.3.40", noon, "a.example"), visit.Truncated)
	assert.Equal(t, cut.VisitorHash, keep(t, k, of("198.18.3.41", noon, "a.example"), visit.Truncated).VisitorHash, "no finer than what is kept")
	assert.Equal(t, "198.18.3.0", cut.Card.Address.Text.String())
	assert.Zero(t, keep(t, k, of("198.18.3.40", noon, "a.example"), visit.Nothing).VisitorHash)
}

func TestWhoWasNotFoundIsNoVisitor(t *testing.T) {
	k := open(t, t.TempDir())
	word, other := "behind the proxies", "office"
	for _, mode := range []visit.Mode{visit.Whole, visit.Truncated, visit.Hashed, visit.Nothing} {
		v := of("198.18.3.40", noon, "a.example")
		v.Card.Address.Text, v.Card.Address.Obtained = addr.Optional{}, ""
		assert.Zero(t, keep(t, k, v, mode).VisitorHash, "%s, without a word", mode)
		v.Card.Address.Placeholder = &word
		assert.Zero(t, keep(t, k, v, mode).VisitorHash, "%s, with the owner's word", mode)
	}
	skipped := func(word *string) int64 {
		v := of("10.0.0.1", noon, "a.example")
		v.Card.Address.Placeholder = word
		return keep(t, k, v, visit.Whole).VisitorHash
	}
	assert.NotZero(t, skipped(&word), "who was found and is called so is one")
	assert.Equal(t, skipped(&word), skipped(&word))
	assert.NotEqual(t, skipped(&word), skipped(&other), "another word is another visitor")
}

func TestWhoAsksNotToBeTrackedLeavesNothing(t *testing.T) {
	k := open(t, t.TempDir())
	v := of("198.18.3.40", noon, "a.example")
	require.NoError(t, k.Keep(&v, visit.Whole, true))
	assert.Nil(t, v.Attributes)
	assert.False(t, v.Card.Address.Text.IsValid())
	assert.Zero(t, v.VisitorHash)
	assert.Equal(t, []string{visit.MarkPrivate}, v.Marks)
}

func TestHashesLastAsLongAsTheirKey(t *testing.T) {
	dir := t.TempDir()
	k := open(t, dir)
	word := *keep(t, k, of("198.18.3.40", noon, "a.example"), visit.Hashed).Card.Address.Placeholder
	assert.Equal(t, word, *keep(t, open(t, dir), of("198.18.3.40", noon.Add(time.Minute), "a.example"), visit.Hashed).Card.Address.Placeholder, "after a restart too")
	found, err := k.Hashes("a.example", netip.MustParseAddr("198.18.3.40"))
	require.NoError(t, err)
	assert.Equal(t, []string{word}, found)

	require.NoError(t, k.Maintain(k.NextKey(noon).Add(day-time.Second)))
	found, err = k.Hashes("a.example", netip.MustParseAddr("198.18.3.40"))
	require.NoError(t, err)
	assert.Equal(t, []string{word}, found)
	require.NoError(t, k.Maintain(k.NextKey(noon).Add(day)))
	found, err = k.Hashes("a.example", netip.MustParseAddr("198.18.3.40"))
	require.NoError(t, err)
	assert.Empty(t, found, "nobody can tell any more")
	assert.NotEqual(t, word, *keep(t, k, of("198.18.3.40", noon, "a.example"), visit.Hashed).Card.Address.Placeholder)
}

func TestKeysAreDestroyedAfterTheirDay(t *testing.T) {
	dir := t.TempDir()
	k := open(t, dir)
	keep(t, k, of("198.18.3.40", noon, "a.example/x y"), visit.Whole)
	files, err := filepath.Glob(filepath.Join(dir, "*.key"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	require.NoError(t, os.Chtimes(files[0], noon, noon))
	info, err := os.Stat(files[0])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, k.Maintain(noon.Add(2*day)))
	assert.FileExists(t, files[0])
	require.NoError(t, k.Maintain(noon.Add(4*day)))
	assert.NoFileExists(t, files[0])
}

func TestServicesThatShareADirectoryShareKeys(t *testing.T) {
	dir := t.TempDir()
	var mu sync.Mutex
	seen := map[int64]bool{}
	var group sync.WaitGroup
	for range 8 {
		k := open(t, dir)
		group.Go(func() {
			v := of("198.18.3.40", noon, "a.example")
			assert.NoError(t, k.Keep(&v, visit.Whole, false))
			mu.Lock()
			seen[v.VisitorHash] = true
			mu.Unlock()
		})
	}
	group.Wait()
	assert.Len(t, seen, 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, visitorFile("a.example", noon)), []byte("short"), 0o600))
	v := of("198.18.3.40", noon, "a.example")
	assert.ErrorContains(t, open(t, dir).Keep(&v, visit.Whole, false), "has 5 bytes")
}
