// Package store keeps visits in PostgreSQL. All SQL of the service is here.
package store

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"

	"eastporch/internal/core/visit"
)

//go:embed migrations/*.sql
var migrations embed.FS

// A Store reads and writes through a pool of connections. It is safe for
// concurrent use.
type Store struct {
	pool      *pgxpool.Pool
	retention time.Duration // 0 keeps all
	weeks     sync.Map      // time.Time -> true: weeks whose partition is there
}

// Open connects to a database and brings its tables up to date, one service at
// a time. Visits are kept for retention, to the week; 0 keeps all. The error wraps
// [visit.ErrAway] where the database cannot be reached.
func Open(ctx context.Context, url string, retention time.Duration) (*Store, error) {
	pool, err := pgxpool.New(ctx, url)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("%w: %w", visit.ErrAway, err)
	}
	if err := migrate(ctx, pool); err != nil {
		pool.Close()
		return nil, fmt.Errorf("migrations: %w", err)
	}
	return &Store{pool: pool, retention: retention}, nil
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close waits for running queries and closes the connections.
func (s *Store) Close() { s.pool.Close() }

// Ping says whether the database answers; the error wraps [visit.ErrAway].
func (s *Store) Ping(ctx context.Context) error {
	if err := s.pool.Ping(ctx); err != nil {
		return fmt.Errorf("%w: %w", visit.ErrAway, err)
	}
	return nil
}
