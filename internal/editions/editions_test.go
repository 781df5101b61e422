package editions

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/fetch"
	"eastporch/internal/testkit/db"
)

func TestMain(m *testing.M) { os.Exit(db.Run(m, db.Model{})) }

const feed = "198.18.3.0/26,PT,PT-11,Lisbon,\n198.18.7.0/24,ES,ES-VC,Valencia,\n"

func fromFeed(location string) SourceConfig {
	return SourceConfig{
		About:        atlas.About{Name: "feed", Rank: 1, Dated: "2026-11-01"},
		ParseOptions: source.ParseOptions{Format: source.Geofeed},
		Locations:    []string{location},
	}
}

func town(a *atlas.Atlas, ip string) string {
	if city := a.Lookup(netip.MustParseAddr(ip)).Location.City; city != nil {
		return *city
	}
	return ""
}

func write(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
}

// at sets the time that a file was written, so that a change is seen.
func at(t *testing.T, path string, minute int) {
	t.Helper()
	when := time.Date(2026, 11, 1, 6, minute, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(path, when, when))
}

func TestUnpack(t *testing.T) {
	var gz, zs bytes.Buffer
	z := gzip.NewWriter(&gz)
	_, _ = z.Write([]byte(feed))
	require.NoError(t, z.Close())
	w, err := zstd.NewWriter(&zs)
	require.NoError(t, err)
	_, _ = w.Write([]byte(feed))
	require.NoError(t, w.Close())
	for name, b := range map[string][]byte{"plain": []byte(feed), "gzip": gz.Bytes(), "zstd": zs.Bytes()} {
		r, err := Unpack(bytes.NewReader(b))
		require.NoError(t, err, name)
		text, err := io.ReadAll(r)
		require.NoError(t, err, name)
		assert.Equal(t, feed, string(text), name)
		require.NoError(t, r.Close())
		if name != "plain" {
			r, err = Unpack(bytes.NewReader(b[:len(b)-4]))
			if err == nil {
				_, err = io.ReadAll(r)
			}
			require.Error(t, err, "%s cut short", name)
		}
	}
}

// zeros never ends.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = '\n'
	}
	return len(b), nil
}

func TestABombIsNotUnpacked(t *testing.T) {
	var packed bytes.Buffer
	z, err := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
	require.NoError(t, err)
	_, err = io.CopyN(z, zeros{}, 2*freely)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.Less(t, packed.Len(), freely/maxGrowth)
	file := filepath.Join(t.TempDir(), "bomb.gz")
	write(t, file, packed.String())
	_, _, err = (&Fetcher{}).Read(t.Context(), fromFeed(file))
	require.ErrorIs(t, err, ErrTooLarge)
	require.ErrorIs(t, err, ErrSource)
}

func TestFetchOverHTTP(t *testing.T) {
	var full, unchanged atomic.Int32
	text := atomic.Value{}
	text.Store(feed)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		now, _ := text.Load().(string)
		tag := fmt.Sprintf(`"%d"`, len(now))
		w.Header().Set("ETag", tag)
		switch {
		case r.URL.Path == "/away":
			w.WriteHeader(http.StatusNotFound)
		case r.URL.Path == "/moved":
			http.Redirect(w, r, "/feed.csv", http.StatusFound)
		case r.URL.Path == "/short":
			w.Header().Set("Content-Length", "1000")
			_, _ = w.Write([]byte(now))
		case r.Header.Get("If-None-Match") == tag:
			unchanged.Add(1)
			w.WriteHeader(http.StatusNotModified)
		default:
			full.Add(1)
			_, _ = w.Write([]byte(now))
		}
	}))
	defer server.Close()
	f := &Fetcher{fetch.Client{Cache: t.TempDir(), Inside: true}}
	s := fromFeed(server.URL + "/feed.csv")
	read, first, err := f.Read(t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, 2, read.Accepted)
	again, err := f.Print(t.Context(), s, first)
	require.NoError(t, err)
	assert.True(t, first.Same(again))
	assert.Equal(t, int32(1), full.Load())
	assert.Equal(t, int32(1), unchanged.Load())
	text.Store(feed + "198.18.8.0/24,ES,,,\n")
	changed, err := f.Print(t.Context(), s, first)
	require.NoError(t, err)
	assert.False(t, first.Same(changed))

	for path, says := range map[string]string{"/away": "404", "/short": "unexpected EOF"} {
		_, _, err = f.Read(t.Context(), fromFeed(server.URL+path))
		require.ErrorContains(t, err, says)
	}
	_, _, err = f.Read(t.Context(), fromFeed(server.URL+"/moved"))
	require.NoError(t, err)
	_, _, err = (&Fetcher{}).Read(t.Context(), s)
	require.ErrorContains(t, err, "is not public", "an inside address is refused when it is dialled")
}

func TestReadFromADatabase(t *testing.T) {
	url := db.New(t)
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), `CREATE TABLE net (block cidr, cc text, town text, asn bigint);
		INSERT INTO net VALUES ('198.18.3.0/26', 'PT', 'Lisbon', 64500), ('198.18.7.0/24', 'UK', NULL, NULL), ('2001:db8::/32', 'NO', 'Oslo', NULL)`)
	require.NoError(t, err)
	s := fromFeed(url)
	s.Query, s.Columns = "SELECT block, cc, town, asn FROM net ORDER BY block", map[string]string{"range": "block", "country_code": "cc", "city": "town", "as_number": "asn"}
	read, print, err := (&Fetcher{}).Read(t.Context(), s)
	require.NoError(t, err)
	assert.False(t, print.Same(print), "nobody knows whether a table has changed")
	assert.Equal(t, 2, read.Accepted)
	assert.Contains(t, read.Rejects()[0].Reason, "did you mean GB?")
	assert.Equal(t, "Oslo", town(atlas.New(read), "2001:db8::1"))
	s.Query = "DELETE FROM net"
	_, _, err = (&Fetcher{}).Read(t.Context(), s)
	require.ErrorContains(t, err, "read-only", "a query only reads")
}

func TestParquet(t *testing.T) {
	type row struct {
		Net  string   `parquet:"net"`
		CC   string   `parquet:"cc,optional"`
		Lat  *float64 `parquet:"lat,optional"`
		Lon  *float64 `parquet:"lon,optional"`
		ASN  int64    `parquet:"asn,optional"`
		Tags []string `parquet:"tags,list"`
	}
	lat, lon := 38.72, -9.14
	file := filepath.Join(t.TempDir(), "x.parquet")
	require.NoError(t, parquet.WriteFile(file, []row{
		{Net: "198.18.3.0/26", CC: "PT", Lat: &lat, Lon: &lon, ASN: 64500, Tags: []string{"a", "b"}}, {Net: "198.18.3.1/24", CC: "PT"}, {Net: "198.18.9.0/24", CC: "ES"},
	}))
	d, err := Describe(file)
	require.NoError(t, err)
	assert.Equal(t, source.Parquet, d.Format)
	assert.Equal(t, "net", d.Mapping["range"])
	assert.Equal(t, "lat", d.Mapping["latitude"])
	s := fromFeed(file)
	s.Format, s.Columns = source.Parquet, d.Mapping
	read, _, err := (&Fetcher{}).Read(t.Context(), s)
	require.NoError(t, err)
	assert.Equal(t, 2, read.Accepted)
	assert.Equal(t, 2, read.Rejects()[0].Line)
	assert.InDelta(t, lat, *atlas.New(read).Lookup(netip.MustParseAddr("198.18.3.1")).Location.Latitude, 1e-9)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	for i := 4; i < len(text); i += 7 { // damaged anywhere: an error, or rejects, but no panic
		b := bytes.Clone(text)
		b[i] ^= 0xff
		write(t, file, string(b))
		_, _, _ = (&Fetcher{}).Read(t.Context(), s)
		_, _ = Describe(file)
	}
}

func TestBuildReportsReasonsAndOverlaps(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a"), feed+"198.18.9.1/24,PT,,,\n198.18.9.2/24,PT,,,\n198.18.10.0/24,UK,,,\n198.18.11.0/24,PT,,,\n198.18.12.0/24,PT,,,\n")
	write(t, filepath.Join(dir, "b"), "198.18.0.0/21,ES,,,\n")
	one, two := fromFeed(filepath.Join(dir, "a")), fromFeed(filepath.Join(dir, "b"))
	two.Name, two.Rank = "wide", 2
	rejects := filepath.Join(dir, "rejects.jsonl")
	a, err := Build(t.Context(), []SourceConfig{two, one}, BuildOptions{Fetcher: &Fetcher{}, Rejects: rejects})
	require.NoError(t, err)
	assert.Equal(t, a.Name(), a.Report.Edition)
	require.Len(t, a.Report.Sources, 2)
	assert.Equal(t, "feed", a.Report.Sources[0].Name, "by rank")
	require.Len(t, a.Report.Sources[0].RejectReasons, 2)
	assert.Equal(t, 2, a.Report.Sources[0].RejectReasons[0].Count)
	assert.Contains(t, a.Report.Sources[0].RejectReasons[0].Reason, "has host bits set")
	text, err := os.ReadFile(rejects)
	require.NoError(t, err)
	assert.Len(t, strings.Split(strings.TrimSpace(string(text)), "\n"), 3)
	require.Len(t, a.Report.Overlaps, 1)
	assert.InDelta(t, 64+256, a.Report.Overlaps[0].IPv4, 0)
	assert.InDelta(t, 256.0/320, *a.Report.Overlaps[0].Agree, 1e-9)
	_, err = Build(t.Context(), []SourceConfig{fromFeed(filepath.Join(dir, "none"))}, BuildOptions{Fetcher: &Fetcher{}})
	require.ErrorIs(t, err, ErrSource)
}

func TestShelf(t *testing.T) {
	dir, file := t.TempDir(), filepath.Join(t.TempDir(), "feed.csv")
	write(t, file, feed)
	at(t, file, 1)
	write(t, filepath.Join(dir, ".writing-left"), "of a build that was killed")
	now := func() time.Time { return time.Date(2026, 11, 14, 6, 42, 8, 0, time.UTC) }
	s, err := OpenShelf(dir, &Fetcher{}, now)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(dir, ".writing-left"))
	_, err = s.Back()
	require.ErrorIs(t, err, ErrNoBack)
	sources := []SourceConfig{fromFeed(file)}
	made, err := s.Refresh(t.Context(), sources, false, false)
	require.NoError(t, err)
	assert.True(t, made, "the first edition is used, whatever the setting")
	first := s.Current()
	assert.Equal(t, "Lisbon", town(first, "198.18.3.1"))

	made, err = s.Refresh(t.Context(), sources, false, true)
	require.NoError(t, err)
	assert.False(t, made, "nothing has changed")
	write(t, file, strings.Replace(feed, "PT-11,Lisbon", "PT-13,Porto", 1))
	at(t, file, 2)
	made, err = s.Refresh(t.Context(), sources, false, false)
	require.NoError(t, err)
	assert.True(t, made)
	assert.Equal(t, "Lisbon", town(s.Current(), "198.18.3.1"), "it waits")
	ready := s.Job().Edition
	require.NoError(t, s.Use(ready))
	assert.Equal(t, "Porto", town(s.Current(), "198.18.3.1"))
	assert.Equal(t, "Lisbon", town(first, "198.18.3.1"), "who holds the old one goes on with it")

	// Another process goes on where this one was, and back.
	s, err = OpenShelf(dir, &Fetcher{}, now)
	require.NoError(t, err)
	assert.Equal(t, ready, s.Current().Name())
	back, err := s.Back()
	require.NoError(t, err)
	assert.Equal(t, first.Name(), back)

	country := "FR"
	corrected, err := source.Corrected([]source.Correction{{Range: "198.18.3.0/24", CountryCode: &country}})
	require.NoError(t, err)
	s.Correct(corrected)
	assert.Equal(t, "FR", *s.Current().Lookup(netip.MustParseAddr("198.18.3.1")).Location.CountryCode)
	require.NoError(t, s.Use(ready))
	assert.Equal(t, "FR", *s.Current().Lookup(netip.MustParseAddr("198.18.3.1")).Location.CountryCode, "corrections outlive a swap")
	assert.Equal(t, ready, s.Current().Name(), "and are no part of its name")

	// A source that shrank, is gone or is nonsense changes nothing.
	write(t, file, "198.18.7.0/24,ES,ES-VC,Valencia,\n"+strings.Repeat("# ", 100))
	for n := range 5 {
		write(t, file, feed+fmt.Sprintf("198.18.%d.0/24,ES,,,\n198.18.%d.0/24,ES,,,\n", 20+2*n, 21+2*n))
	}
	at(t, file, 3)
	_, err = s.Refresh(t.Context(), sources, false, true)
	require.NoError(t, err)
	large := s.Current().Name()
	write(t, file, "198.18.7.0/24,ES,ES-VC,Valencia,\n")
	at(t, file, 4)
	_, err = s.Refresh(t.Context(), sources, false, true)
	require.ErrorIs(t, err, ErrShrunk)
	assert.Equal(t, large, s.Current().Name())
	require.NoError(t, os.Remove(file))
	_, err = s.Refresh(t.Context(), sources, false, true)
	require.ErrorIs(t, err, ErrSource)
	assert.Equal(t, large, s.Current().Name())
	assert.Contains(t, s.Job().Failed, "no such file")
	for _, name := range []string{"", "nope", "../" + large, ".edition"} {
		require.ErrorIs(t, s.Use(name), ErrNoEdition)
	}
}

func TestTheShelfKeepsAFewEditions(t *testing.T) {
	dir, file := t.TempDir(), filepath.Join(t.TempDir(), "feed.csv")
	s, err := OpenShelf(dir, &Fetcher{}, time.Now)
	require.NoError(t, err)
	for n := range keep + 5 {
		write(t, file, feed+fmt.Sprintf("198.18.%d.0/24,ES,,,\n", 20+n))
		at(t, file, n)
		_, err := s.Refresh(t.Context(), []SourceConfig{fromFeed(file)}, false, true)
		require.NoError(t, err)
	}
	list, err := s.List()
	require.NoError(t, err)
	assert.LessOrEqual(t, len(list), keep+2)
	states := map[string]int{}
	for _, e := range list {
		states[e.State]++
	}
	assert.Equal(t, 1, states["in use"])
}

// A refresh fetches each source once, and builds nothing where the bytes are the same,
// however new the file or the answer looks.
func TestARefreshFetchesOnceAndComparesBytes(t *testing.T) {
	var asked atomic.Int32
	text := atomic.Value{}
	text.Store(feed)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1) // no ETag, and a date of now: everything looks new
		w.Header().Set("Last-Modified", time.Now().UTC().Format(http.TimeFormat))
		_, _ = io.WriteString(w, text.Load().(string))
	}))
	defer server.Close()
	local := filepath.Join(t.TempDir(), "local.csv")
	write(t, local, feed)
	one, two := fromFeed(server.URL), fromFeed(local)
	one.Name, two.Name, two.Rank = "one", "two", 2
	s, err := OpenShelf(t.TempDir(), &Fetcher{fetch.Client{Cache: t.TempDir(), Inside: true}}, time.Now)
	require.NoError(t, err)
	refresh := func(want bool, requests int32) {
		t.Helper()
		before := asked.Load()
		made, err := s.Refresh(t.Context(), []SourceConfig{one, two}, false, true)
		require.NoError(t, err)
		assert.Equal(t, want, made)
		assert.Equal(t, requests, asked.Load()-before)
	}
	refresh(true, 1)
	refresh(false, 1)
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(local, later, later))
	refresh(false, 1)
	text.Store(feed + "198.18.8.0/24,ES,,,\n")
	refresh(true, 1)
	write(t, local, strings.Replace(feed, "PT", "ES", 1)) // of the same length
	require.NoError(t, os.Chtimes(local, later.Add(time.Second), later.Add(time.Second)))
	refresh(true, 1)
	made, err := s.Refresh(t.Context(), []SourceConfig{one, two}, true, true)
	require.NoError(t, err)
	assert.True(t, made, "when it is asked for, it is built")
}
