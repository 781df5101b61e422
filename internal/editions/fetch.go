// Package editions keeps the editions of the atlas: it fetches sources, builds
// editions of them on a shelf, changes the one in use while requests run, and goes
// back.
package editions

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/fetch"
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
type Fetcher struct{ fetch.Client }

// round gives a fetcher that fetches each address once.
func (f *Fetcher) round() *Fetcher { return &Fetcher{f.Client.Round()} }

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
		if path, err = f.Get(ctx, s.Location); err != nil {
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
		if path, err = f.Get(ctx, path); err != nil {
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
