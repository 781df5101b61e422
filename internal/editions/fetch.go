// Package editions keeps the editions of the atlas: it fetches sources, builds
// editions of them on a shelf, changes the one in use while requests run, and goes
// back.
package editions

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/jackc/pgx/v5"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/fetch"
	"eastporch/internal/files/whole"
)

// A SourceConfig says where range data comes from and how it is read.
type SourceConfig struct {
	atlas.About
	source.ParseOptions
	// Locations are files or addresses of HTTP(S), which are read one after another as one; or one
	// address of PostgreSQL, with Query.
	Locations []string
	Query     string
	// Names are tables or RPSL files that name the AS numbers of routing tables.
	Names []string
	// Gather, unless nil, has the source made of the geofeeds that other sources name.
	Gather *Gather
}

// IsRemote says whether anything of a source comes from elsewhere.
func (s SourceConfig) IsRemote() bool {
	return s.Gather != nil || slices.ContainsFunc(slices.Concat(s.Locations, s.Names), isHTTP)
}

// A Fetcher gets sources. It is safe for concurrent use.
type Fetcher struct{ fetch.Client }

// round gives a fetcher that fetches each address once.
func (f *Fetcher) round() *Fetcher { return &Fetcher{f.Client.Round()} }

// A Print tells whether a source has changed: the sizes and times of its files, or else their
// contents. The zero Print is of one that nobody can tell of, as a database's.
type Print struct {
	Stamp string `json:"stamp"` // sizes and times
	Sum   string `json:"sum"`   // xxHash of the contents; "" where they were not read
}

// Same says whether a source has not changed between two prints.
func (p Print) Same(other Print) bool {
	return p.Stamp != "" && (p.Stamp == other.Stamp || p.Sum != "" && p.Sum == other.Sum)
}

// printOf gives the print of files. Where last has their sizes and times, they are not read.
func printOf(paths []string, last Print) (p Print, err error) {
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil {
			return Print{}, err
		}
		p.Stamp += fmt.Sprintf("%d %s;", info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano))
	}
	if p.Stamp == last.Stamp {
		return last, nil
	}
	sum := xxhash.New() // which is faster than files are unpacked
	for _, path := range paths {
		file, err := whole.Open(path)
		if err != nil {
			return Print{}, err
		}
		n, err := io.Copy(sum, file)
		file.Close()
		if err != nil {
			return Print{}, err
		}
		fmt.Fprintf(sum, ";%d;", n)
	}
	p.Sum = fmt.Sprintf("%016x", sum.Sum64())
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
	if s.isDatabase() {
		read, err = readDatabase(ctx, s)
		return read, print, err
	}
	paths, err := f.files(ctx, s.Locations)
	if err != nil {
		return nil, print, fmt.Errorf("%s: %w", s.Name, err)
	}
	named, err := f.files(ctx, s.Names)
	if err != nil {
		return nil, print, fmt.Errorf("%s: %w", s.Name, err)
	}
	all := slices.Concat(paths, named)
	if f.Cache == "" {
		defer f.drop(all, slices.Concat(s.Locations, s.Names))
	}
	if s.Dated == "" {
		if s.Dated, err = newest(paths); err != nil {
			return nil, print, fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	type printed struct {
		Print
		error
	}
	beside := make(chan printed, 1)
	go func() {
		p, err := printOf(all, Print{})
		beside <- printed{p, err}
	}()
	defer func() {
		p := <-beside
		print, err = p.Print, errors.Join(err, p.error)
	}()
	read, err = readFiles(ctx, s, paths, named)
	return read, print, err
}

// readFiles reads a source that is there.
func readFiles(ctx context.Context, s SourceConfig, paths, named []string) (*atlas.Source, error) {
	switch s.Format {
	case source.Parquet:
		file, err := whole.Open(paths[0])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			return nil, err
		}
		return readParquet(file, info.Size(), s.ParseOptions, s.About)
	case source.MRT:
		names, err := operators(ctx, named)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
		s.Operators = names
	}
	text := &joined{ctx: ctx, paths: paths, names: s.Locations}
	defer text.Close()
	switch s.Format {
	case source.RPSL:
		text.gap = "\n\n"
	case source.MRT:
	default:
		text.gap = "\n"
	}
	if len(paths) > 1 {
		s.Where = text.where
	}
	return source.Read(text, s.ParseOptions, s.About)
}

// newest is the date of the newest of files.
func newest(paths []string) (string, error) {
	var at time.Time
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil {
			return "", err
		}
		if info.ModTime().After(at) {
			at = info.ModTime()
		}
	}
	return at.UTC().Format(time.DateOnly), nil
}

// files gives the paths of locations, having fetched those of HTTP.
func (f *Fetcher) files(ctx context.Context, locations []string) ([]string, error) {
	paths := make([]string, len(locations))
	for i, at := range locations {
		paths[i] = at
		if isHTTP(at) {
			path, err := f.Get(ctx, at)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", at, err)
			}
			paths[i] = path
		}
	}
	return paths, nil
}

// drop removes what was fetched for one reading.
func (f *Fetcher) drop(paths, locations []string) {
	for i, path := range paths {
		if isHTTP(locations[i]) {
			_ = os.Remove(path)
		}
	}
}

// Print gives the print of a source, which is not read where its files are as old and as long as
// those of the last one; the zero Print where nothing can be told. Over HTTP it asks the server.
func (f *Fetcher) Print(ctx context.Context, s SourceConfig, last Print) (Print, error) {
	if s.isDatabase() {
		return Print{}, nil
	}
	paths, err := f.files(ctx, slices.Concat(s.Locations, s.Names))
	if err != nil {
		return Print{}, fmt.Errorf("%w: %s: %w", ErrSource, s.Name, err)
	}
	p, err := printOf(paths, last)
	if err != nil {
		return p, fmt.Errorf("%w: %s: %w", ErrSource, s.Name, err)
	}
	return p, nil
}

func isHTTP(s string) bool {
	return strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://")
}

func (s *SourceConfig) isDatabase() bool {
	return len(s.Locations) == 1 && (strings.HasPrefix(s.Locations[0], "postgres://") || strings.HasPrefix(s.Locations[0], "postgresql://"))
}

// readDatabase reads the rows of a query as a table.
func readDatabase(ctx context.Context, s SourceConfig) (*atlas.Source, error) {
	conn, err := pgx.Connect(ctx, s.Locations[0])
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
