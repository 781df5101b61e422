// Package editions keeps the editions of the atlas: it fetches sources, builds
// editions of them on a shelf, swaps the one in use while requests run, and goes
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
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
)

// A Source says where range data comes from and how it is read.
type Source struct {
	atlas.About
	atlas.Reading
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
}

// maxFetched bounds what is fetched over HTTP, in bytes.
const maxFetched = 8 << 30

// ErrSource is wrapped where a source cannot be got or read.
var ErrSource = errors.New("the source cannot be read")

// Read fetches a source and reads it. fingerprint is the same where it has not
// changed since another Read; "" says that nobody knows.
func (f *Fetcher) Read(ctx context.Context, s Source) (read *atlas.Source, fingerprint string, err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("%w: %w", ErrSource, err)
		}
	}()
	if isDatabase(s.Location) {
		read, err = readDatabase(ctx, s)
		return read, "", err
	}
	path := s.Location
	if isHTTP(path) {
		if path, err = f.fetch(ctx, s.Location); err != nil {
			return nil, "", fmt.Errorf("%s: %w", s.Name, err)
		}
		if f.Cache == "" {
			defer os.Remove(path)
		}
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", s.Name, err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, "", err
	}
	fingerprint = fmt.Sprintf("%d bytes of %s", info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano))
	if s.Dated == "" {
		s.Dated = info.ModTime().UTC().Format(time.DateOnly)
	}
	if s.Format == atlas.Parquet {
		read, err = readParquet(file, info.Size(), s.Reading, s.About)
		return read, fingerprint, err
	}
	text, err := Unpack(stopping{ctx, file})
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", s.Name, err)
	}
	defer text.Close()
	read, err = atlas.Read(text, s.Reading, s.About)
	return read, fingerprint, err
}

// Fingerprint tells without reading whether a source has changed; "" where that
// cannot be told. Over HTTP it asks the server.
func (f *Fetcher) Fingerprint(ctx context.Context, s Source) (string, error) {
	path := s.Location
	switch {
	case isDatabase(path):
		return "", nil
	case isHTTP(path):
		var err error
		if path, err = f.fetch(ctx, path); err != nil {
			return "", fmt.Errorf("%w: %s: %w", ErrSource, s.Name, err)
		}
	}
	info, err := os.Stat(path)
	if err != nil {
		return "", fmt.Errorf("%w: %s: %w", ErrSource, s.Name, err)
	}
	return fmt.Sprintf("%d bytes of %s", info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano)), nil
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
	n, err := io.Copy(file, io.LimitReader(answer.Body, maxFetched+1))
	if err = errors.Join(err, file.Close()); err != nil {
		return "", err
	}
	if n > maxFetched {
		return "", fmt.Errorf("%w: more than %d MB", ErrTooLarge, maxFetched>>20)
	}
	if answer.ContentLength >= 0 && n != answer.ContentLength {
		return "", fmt.Errorf("%s sent %d bytes of %d", u.Host, n, answer.ContentLength)
	}
	if err := os.Rename(file.Name(), path); err != nil {
		return "", err
	}
	if modified, err := http.ParseTime(answer.Header.Get("Last-Modified")); err == nil {
		_ = os.Chtimes(path, modified, modified) // so that the source is as old as the server says
	}
	text, _ := json.Marshal(kept{address, answer.Header.Get("ETag"), answer.Header.Get("Last-Modified")})
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
func readDatabase(ctx context.Context, s Source) (*atlas.Source, error) {
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
	return atlas.ReadRows(head, textRows(rows), s.Reading, s.About)
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
