// Package editions keeps the editions of the atlas: it fetches sources, builds
// editions of them on a shelf, changes the one in use while requests run, and goes
// back.
package editions

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
)

// A SourceConfig says where range data comes from and how it is read.
type SourceConfig struct {
	atlas.About
	source.ParseOptions
	// Location is a file, an address of HTTP(S), or one of PostgreSQL, with Query.
	Location string
	Query    string
}

// A Fetcher gets sources. It is safe for concurrent use.
type Fetcher struct {
	// Cache is a directory for what was fetched over HTTP, so that it is not
	// fetched again where the server says that it has not changed (RFC 9110). "" keeps
	// nothing.
	Cache string
	// Inside allows fetching from addresses that are not public; InsideKey is the
	// configuration's key that says so, for the error.
	Inside    bool
	InsideKey string

	got *sync.Map // address -> path: what was fetched in this round; nil for none
}

// round gives a fetcher that fetches each address once.
func (f *Fetcher) round() *Fetcher {
	other := *f
	other.got = &sync.Map{}
	return &other
}

// A Print tells whether a source has changed: its size and time, or else its content. The
// zero Print is of one that nobody can tell of, as a database's.
type Print struct {
	Bytes    int64     `json:"bytes"`
	Modified time.Time `json:"modified"`
	Sum      string    `json:"sha256"` // "" where it was not read
}

// Same says whether a source has not changed between two prints.
func (p Print) Same(other Print) bool {
	return !p.Modified.IsZero() && p.Bytes == other.Bytes && (p.Modified.Equal(other.Modified) || p.Sum != "" && p.Sum == other.Sum)
}

// printOf gives the print of a file. Where last has its size and time, the file is not read.
func printOf(path string, last Print) (Print, error) {
	file, err := os.Open(path)
	if err != nil {
		return Print{}, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return Print{}, err
	}
	p := Print{Bytes: info.Size(), Modified: info.ModTime().UTC()}
	if p.Bytes == last.Bytes && p.Modified.Equal(last.Modified) {
		return last, nil
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return Print{}, err
	}
	p.Sum = hex.EncodeToString(sum.Sum(nil))
	return p, nil
}

// maxFetched bounds what is fetched over HTTP, in bytes.
const maxFetched = 8 << 30

// ErrSource is wrapped where a source cannot be got or read.
var ErrSource = errors.New("the source cannot be read")

// Read fetches a source and reads it, and gives its print.
func (f *Fetcher) Read(ctx context.Context, s SourceConfig) (read *atlas.Source, print Print, err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("%w: %w", ErrSource, err)
		}
	}()
	if isDatabase(s.Location) {
		read, err = readDatabase(ctx, s)
		return read, print, err
	}
	path := s.Location
	if isHTTP(path) {
		if path, err = f.fetch(ctx, s.Location); err != nil {
			return nil, print, fmt.Errorf("%s: %w", s.Name, err)
		}
		if f.Cache == "" {
			defer os.Remove(path)
		}
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, print, fmt.Errorf("%s: %w", s.Name, err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, print, err
	}
	type printed struct {
		Print
		error
	}
	beside := make(chan printed, 1)
	go func() {
		p, err := printOf(path, Print{})
		beside <- printed{p, err}
	}()
	defer func() {
		p := <-beside
		print, err = p.Print, errors.Join(err, p.error)
	}()
	if s.Dated == "" {
		s.Dated = info.ModTime().UTC().Format(time.DateOnly)
	}
	if s.Format == source.Parquet {
		read, err = readParquet(file, info.Size(), s.ParseOptions, s.About)
		return read, print, err
	}
	text, err := Unpack(stopping{ctx, file})
	if err != nil {
		return nil, print, fmt.Errorf("%s: %w", s.Name, err)
	}
	defer text.Close()
	read, err = source.Read(text, s.ParseOptions, s.About)
	return read, print, err
}

// Print gives the print of a source, which is not read where it is as old and as long as
// the last one; the zero Print where nothing can be told. Over HTTP it asks the server.
func (f *Fetcher) Print(ctx context.Context, s SourceConfig, last Print) (Print, error) {
	path := s.Location
	switch {
	case isDatabase(path):
		return Print{}, nil
	case isHTTP(path):
		var err error
		if path, err = f.fetch(ctx, path); err != nil {
			return Print{}, fmt.Errorf("%w: %s: %w", ErrSource, s.Name, err)
		}
	}
	p, err := printOf(path, last)
	if err != nil {
		return p, fmt.Errorf("%w: %s: %w", ErrSource, s.Name, err)
	}
	return p, nil
}

func isHTTP(s string) bool {
	return strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")
}

func isDatabase(s string) bool {
	return strings.HasPrefix(s, "postgres://") || strings.HasPrefix(s, "postgresql://")
}

// stopping ends a reading when its context does.
type stopping struct {
	ctx context.Context
	r   io.Reader
}

func (s stopping) Read(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.r.Read(b)
}

// kept is what is known of a file that was fetched.
type kept struct {
	URL      string `json:"url"`
	ETag     string `json:"etag"`
	Modified string `json:"last_modified"`
	Sum      string `json:"sha256"`
}

// Fetch gets a file over HTTP into the cache, unless that has it as it is, and gives
// its path. Where that fails, kept says whether an older one stands at the path.
func (f *Fetcher) Fetch(ctx context.Context, address string) (path string, kept bool, err error) {
	path, err = f.fetch(ctx, address)
	if err == nil {
		return path, true, nil
	}
	path = f.place(address)
	_, missing := os.Stat(path)
	return path, missing == nil, err
}

// place is where the cache keeps what stands at an address.
func (f *Fetcher) place(address string) string {
	sum := sha256.Sum256([]byte(address))
	return filepath.Join(f.Cache, hex.EncodeToString(sum[:8]))
}

// fetch gets a file over HTTP unless the cache has it as it is, and gives its
// path.
func (f *Fetcher) fetch(ctx context.Context, address string) (path string, err error) {
	if f.got != nil {
		if path, ok := f.got.Load(address); ok {
			return path.(string), nil
		}
		defer func() {
			if err == nil {
				f.got.Store(address, path)
			}
		}()
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	dir := f.Cache
	if dir == "" {
		dir = os.TempDir()
	} else if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	path = filepath.Join(dir, filepath.Base(f.place(address)))
	var last kept
	if text, err := os.ReadFile(path + ".json"); err == nil && f.Cache != "" && json.Unmarshal(text, &last) == nil && last.URL == address {
		if _, err := os.Stat(path); err == nil {
			setIf(request.Header, "If-None-Match", last.ETag)
			setIf(request.Header, "If-Modified-Since", last.Modified)
		}
	}
	answer, err := f.client().Do(request)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	switch answer.StatusCode {
	case http.StatusNotModified:
		return path, nil
	case http.StatusOK:
	default:
		return "", fmt.Errorf("%s answered %s", u.Host, answer.Status)
	}
	file, err := os.CreateTemp(dir, "fetching-*")
	if err != nil {
		return "", err
	}
	defer os.Remove(file.Name()) // is gone already where all went well
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(file, sum), io.LimitReader(answer.Body, maxFetched+1))
	if err = errors.Join(err, file.Close()); err != nil {
		return "", err
	}
	if n > maxFetched {
		return "", fmt.Errorf("%w: more than %d MB", ErrTooLarge, maxFetched>>20)
	}
	if answer.ContentLength >= 0 && n != answer.ContentLength {
		return "", fmt.Errorf("%s sent %d bytes of %d", u.Host, n, answer.ContentLength)
	}
	now := kept{address, answer.Header.Get("ETag"), answer.Header.Get("Last-Modified"), hex.EncodeToString(sum.Sum(nil))}
	text, _ := json.Marshal(now)
	if _, err := os.Stat(path); err == nil && last.Sum == now.Sum { // the same again: the file stays as old as it is
		return path, os.WriteFile(path+".json", text, 0o644)
	}
	if err := os.Rename(file.Name(), path); err != nil {
		return "", err
	}
	if modified, err := http.ParseTime(answer.Header.Get("Last-Modified")); err == nil {
		_ = os.Chtimes(path, modified, modified) // so that the source is as old as the server says
	}
	return path, os.WriteFile(path+".json", text, 0o644)
}

func setIf(h http.Header, name, value string) {
	if value != "" {
		h.Set(name, value)
	}
}

// client makes an HTTP client that reaches public addresses only, unless told
// otherwise: every address is looked at when it is dialled, after names were
// resolved, on redirects too.
func (f *Fetcher) client() *http.Client {
	dialer := &net.Dialer{Timeout: 15 * time.Second}
	if !f.Inside {
		dialer.Control = func(_, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err == nil && addr.KindOf(addr.Canonical(at.Addr())) != addr.Public {
				err = fmt.Errorf("%s is not public: %s allows it", at.Addr(), cmp.Or(f.InsideKey, "atlas.fetch_inside"))
			}
			return err
		}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext, transport.Proxy, transport.DisableCompression = dialer.DialContext, nil, true
	return &http.Client{Transport: transport, Timeout: time.Hour}
}

// readDatabase reads the rows of a query as a table.
func readDatabase(ctx context.Context, s SourceConfig) (*atlas.Source, error) {
	conn, err := pgx.Connect(ctx, s.Location)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	rows, err := tx.Query(ctx, s.Query, pgx.QueryExecModeSimpleProtocol) // all values come as text
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	defer rows.Close()
	var head []string
	for _, field := range rows.FieldDescriptions() {
		head = append(head, field.Name)
	}
	if s.Dated == "" {
		s.Dated = time.Now().UTC().Format(time.DateOnly)
	}
	return source.ReadRows(head, textRows(rows), s.ParseOptions, s.About)
}

func textRows(rows pgx.Rows) iter.Seq2[[]string, error] {
	return func(yield func([]string, error) bool) {
		fields := make([]string, len(rows.FieldDescriptions()))
		for rows.Next() {
			for i, raw := range rows.RawValues() {
				fields[i] = string(raw)
			}
			if !yield(fields, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(nil, err)
		}
	}
}
