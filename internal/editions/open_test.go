package editions

import (
	"compress/gzip"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/mrt"
	"eastporch/internal/fetch"
)

// publishers serve files, and count what is asked for.
type publishers struct {
	*httptest.Server
	lock  sync.Mutex
	files map[string]string
	asked map[string]int
}

func newPublishers(t *testing.T) *publishers {
	p := &publishers{files: map[string]string{}, asked: map[string]int{}}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.lock.Lock()
		p.asked[r.URL.Path]++
		text, ok := p.files[r.URL.Path]
		p.lock.Unlock()
		if !ok {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("ETag", `"`+strings.ToLower(http.DetectContentType([]byte(text)))[:4]+time.Duration(len(text)).String()+`"`)
		http.ServeContent(w, r, "", time.Time{}, strings.NewReader(text))
	}))
	t.Cleanup(p.Close)
	return p
}

func (p *publishers) put(path, text string) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.files[path] = text
}

func zipped(text string) string {
	var b strings.Builder
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(text))
	_ = z.Close()
	return b.String()
}

// openWeb publishes two files of objects, a routing table with names, and a feed.
func openWeb(t *testing.T, dir string) (*publishers, []SourceConfig) {
	p := newPublishers(t)
	p.put("/a.gz", zipped("inetnum: 198.18.0.0 - 198.18.255.255\ncountry: PT\nnetname: HARBOUR-NET\ngeofeed: "+p.URL+"/feed.csv\n\ninetnum: 198.18.8.0 - 198.18.8.9\ncountry: XX\n\n"))
	p.put("/b.gz", zipped("inet6num: 2001:db8::/32\ncountry: NO\n\ninet6num: 2001:db8::/32\ncountry: SE\n\n"))
	p.put("/feed.csv", "198.18.3.0/24,PT,PT-11,Lisbon,\n198.51.100.0/24,FR,,,\n")
	w := &mrt.Writer{}
	w.Peers(2)
	w.Route(netip.MustParsePrefix("198.18.0.0/16"), false, mrt.Path{AS: []uint32{3000}}, mrt.Path{Peer: 1, AS: []uint32{3000}})
	w.Route(netip.MustParsePrefix("198.51.100.0/24"), false, mrt.Path{AS: []uint32{3001}}, mrt.Path{Peer: 1, AS: []uint32{3001}})
	p.put("/rib", string(w.Buffer))
	p.put("/names", "as_number,operator\n3000,Harbour Net (invented)\nAS3000,Other\n")
	p.put("/numbers", "aut-num: AS3001\nas-name: ATTIC\ndescr: Attic Wave (invented)\n\naut-num: AS3000\ndescr: third\n")
	about := func(name string, rank int) atlas.About { return atlas.About{Name: name, Rank: rank} }
	return p, []SourceConfig{
		{About: about("feeds", 1), ParseOptions: source.ParseOptions{Format: source.Geofeed}, Gather: &Gather{Dir: filepath.Join(dir, "feeds"), Plain: true, Pause: time.Microsecond}},
		{About: about("routes", 2), ParseOptions: source.ParseOptions{Format: source.MRT}, Locations: []string{p.URL + "/rib"}, Names: []string{p.URL + "/names", p.URL + "/numbers"}},
		{About: about("objects", 3), ParseOptions: source.ParseOptions{Format: source.RPSL}, Locations: []string{p.URL + "/a.gz", p.URL + "/b.gz"}},
	}
}

func openShelf(t *testing.T, dir string) *Shelf {
	s, err := OpenShelf(filepath.Join(dir, "atlas"), &Fetcher{Client: fetch.Client{Cache: filepath.Join(dir, "fetched"), Inside: true}}, time.Now)
	require.NoError(t, err)
	return s
}

func TestAnAtlasOfOpenData(t *testing.T) {
	dir := t.TempDir()
	p, sources := openWeb(t, dir)
	s := openShelf(t, dir)
	made, err := s.Refresh(t.Context(), sources, false, true)
	require.NoError(t, err)
	require.True(t, made)
	found := s.Current().Lookup(netip.MustParseAddr("198.18.3.40"))
	assert.Equal(t, "Lisbon", *found.Location.City)
	assert.Equal(t, []any{uint32(3000), "Harbour Net (invented)"}, []any{*found.Network.ASNumber, *found.Network.Operator})
	var bases []atlas.Basis
	for _, e := range found.Evidence {
		bases = append(bases, e.Basis)
	}
	assert.Equal(t, []atlas.Basis{atlas.SelfPublished, atlas.Derived, atlas.Registration, atlas.Routed}, bases)
	attic := s.Current().Lookup(netip.MustParseAddr("198.51.100.9"))
	assert.Equal(t, atlas.None, attic.Location.Level, "a feed says nothing of ranges that do not name it, nor does a routing table")
	assert.Equal(t, "Attic Wave (invented)", *attic.Network.Operator)
	assert.Equal(t, "NO", *s.Current().Lookup(netip.MustParseAddr("2001:db8::9")).Location.CountryCode)

	objects := s.Current().Sources()[slices.IndexFunc(s.Current().Sources(), func(of *atlas.Source) bool { return of.Name == "objects" })]
	require.Len(t, objects.Rejects(), 1)
	assert.Equal(t, atlas.Note{Line: 4, Text: "2001:db8::/32", Reason: "the prefix 2001:db8::/32 stands on line 1 of b.gz already, in b.gz"}, objects.Rejects()[0])
	require.Len(t, objects.Remarks(), 1)
	assert.Equal(t, 6, objects.Remarks()[0].Line)
	assert.Contains(t, objects.Remarks()[0].Reason, "in a.gz")
	assert.Equal(t, "inetnum: 198.18.8.0 - 198.18.8.9", objects.Remarks()[0].Text)

	// Nothing has changed: nothing is made.
	made, err = s.Refresh(t.Context(), sources, false, true)
	require.NoError(t, err)
	assert.False(t, made)

	// One file has: the others are not read again, and stay the same bytes.
	before := s.Current()
	p.put("/rib", p.files["/rib"][:len(p.files["/rib"])-1])
	made, err = s.Refresh(t.Context(), sources, false, true)
	require.NoError(t, err)
	require.True(t, made)
	assert.NotEqual(t, before.Name(), s.Current().Name())
	require.NoError(t, s.Current().Verify())
	assert.Equal(t, atlas.None, s.Current().Lookup(netip.MustParseAddr("198.51.100.9")).Location.Level)
	assert.Nil(t, s.Current().Lookup(netip.MustParseAddr("198.51.100.9")).Network.Operator, "the record that is cut does not count")
	assert.Equal(t, 1, p.asked["/feed.csv"], "never twice within a day")
}

// A source that cannot be got, or is damaged, stays as it was, and the others are built.
func TestASourceThatFailsStays(t *testing.T) {
	whole := zipped(strings.Repeat("inetnum: 203.0.113.0 - 203.0.113.255\ncountry: FR\nremarks: x\n", 5000) + "\n")
	for name, text := range map[string]string{"gone": "", "cut": whole[:len(whole)/2], "damaged": strings.Replace(whole, whole[60:64], "!!!!", 1), "html": "<html>\n<p>We moved\n"} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			p, sources := openWeb(t, dir)
			s := openShelf(t, dir)
			_, err := s.Refresh(t.Context(), sources, false, true)
			require.NoError(t, err)
			before := s.Current().Name()
			p.put("/a.gz", text)
			if text == "" {
				delete(p.files, "/a.gz")
			}
			made, err := s.Refresh(t.Context(), sources, false, true)
			require.ErrorIs(t, err, ErrSource)
			assert.Contains(t, err.Error(), "objects")
			assert.False(t, made, "nothing else has changed")
			assert.Equal(t, before, s.Current().Name())

			p.put("/names", "as_number,operator\n3000,Renamed (invented)\n")
			made, err = s.Refresh(t.Context(), sources, false, true)
			require.ErrorIs(t, err, ErrSource)
			assert.True(t, made)
			found := s.Current().Lookup(netip.MustParseAddr("198.18.3.40"))
			assert.Equal(t, []string{"Lisbon", "Renamed (invented)"}, []string{*found.Location.City, *found.Network.Operator})
			_, err = s.Refresh(t.Context(), sources, true, true)
			require.ErrorIs(t, err, ErrSource, "by hand, too")
			assert.Equal(t, "Lisbon", *s.Current().Lookup(netip.MustParseAddr("198.18.3.40")).Location.City)
			editions, err := s.List()
			require.NoError(t, err)
			i := slices.IndexFunc(editions, func(e Edition) bool { return e.Name == s.Current().Name() })
			assert.Contains(t, strings.Join(editions[i].Report.Warnings, " "), "it stays as it was")
		})
	}
}

// An edition that was damaged on the disk is not passed on into the next.
func TestDamagedSourcesAreNotTakenOver(t *testing.T) {
	dir := t.TempDir()
	p, sources := openWeb(t, dir)
	s := openShelf(t, dir)
	_, err := s.Refresh(t.Context(), sources, false, true)
	require.NoError(t, err)
	path := s.path(s.Current().Name())
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	b[len(b)-200] ^= 1
	require.NoError(t, os.WriteFile(path+".new", b, 0o644))
	require.NoError(t, os.Rename(path+".new", path))
	p.put("/names", "as_number,operator\n3000,Renamed (invented)\n")
	_, err = s.Refresh(t.Context(), sources, false, true)
	require.ErrorIs(t, err, atlas.ErrEdition)
	made, err := s.Refresh(t.Context(), sources, true, true)
	require.NoError(t, err)
	assert.True(t, made, "a refresh by hand reads all of it")
}
