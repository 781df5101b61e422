// Package store keeps visits in PostgreSQL. All SQL of the service is here.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	pgxuuid "github.com/vgarvardt/pgx-google-uuid/v5"

	"eastporch/internal/core/visit"
	"eastporch/internal/server/store/companionrows"
	"eastporch/internal/server/store/gaterows"
	"eastporch/internal/server/store/linkrows"
	"eastporch/internal/server/store/noticerows"
)

//go:embed migrations/*.sql
var migrations embed.FS

// A Store reads and writes through a pool of connections. It is safe for
// concurrent use.
type Store struct {
	pool      *pgxpool.Pool
	retention time.Duration // 0 keeps all
	weeks     sync.Map      // time.Time -> true: weeks whose partition is there
	// facts are the columns of edition facts that were stored lately, by their ids.
	facts      sync.Map // uuid.UUID -> columnFacts
	factsCount atomic.Int64

	url      string
	prepared atomic.Bool // its tables are up to date
}

// Open is [New] and [Store.Prepare] in one.
func Open(ctx context.Context, url string, retention time.Duration) (*Store, error) {
	s, err := New(ctx, url, retention)
	if err != nil {
		return nil, err
	}
	if err := s.Prepare(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// New makes a Store of a database, whose tables nobody reads before [Store.Prepare] has brought them up to date: until
// then every question finds the database away. Visits are kept for retention, to the week; 0 keeps all.
func New(ctx context.Context, url string, retention time.Duration) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	// A connection that only listens is known to be lost within ten seconds.
	config.ConnConfig.DialFunc = (&net.Dialer{KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: 4 * time.Second, Interval: time.Second, Count: 4}}).DialContext
	config.AfterConnect = func(_ context.Context, conn *pgx.Conn) error {
		pgxuuid.Register(conn.TypeMap()) // else each id is written only after all else was tried
		return nil
	}
	s := &Store{retention: retention, url: url}
	config.BeforeConnect = func(context.Context, *pgx.ConnConfig) error {
		if !s.prepared.Load() {
			return fmt.Errorf("%w: its tables are not up to date yet", visit.ErrAway)
		}
		return nil
	}
	if s.pool, err = pgxpool.NewWithConfig(ctx, config); err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	return s, nil
}

// Prepare brings the tables up to date, one service at a time. The error wraps [visit.ErrAway] where the
// database cannot be reached.
func (s *Store) Prepare(ctx context.Context) error {
	config, err := pgxpool.ParseConfig(s.url)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	config.MaxConns = 2
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	defer pool.Close()
	if err := pool.Ping(ctx); err != nil {
		var says *pgconn.PgError
		if errors.As(err, &says) && says.Code[:2] != "57" && says.Code[:2] != insufficientResources { // it is there, and lets nobody in
			return fmt.Errorf("database.url: %w", err)
		}
		return fmt.Errorf("%w: %w", visit.ErrAway, err)
	}
	if err := checkServer(ctx, pool); err != nil {
		return away(err)
	}
	if err := migrate(ctx, pool); err != nil {
		return away(fmt.Errorf("migrations: %w", err))
	}
	s.prepared.Store(true)
	return nil
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	provider, err := migrator(db)
	if err == nil {
		_, err = provider.Up(ctx)
	}
	return err
}

func migrator(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
}

// oldestServer is the first version of PostgreSQL that has all that the tables are made of.
const oldestServer = 15

// checkServer says whether a server is new enough.
func checkServer(ctx context.Context, pool *pgxpool.Pool) error {
	var number int
	if err := pool.QueryRow(ctx, `SELECT current_setting('server_version_num')::int`).Scan(&number); err != nil {
		return err
	}
	if version := number / 10_000; version < oldestServer {
		return fmt.Errorf("database.url: the server is PostgreSQL %d; use %d or newer", version, oldestServer)
	}
	return nil
}

// Close waits for running queries and closes the connections.
func (s *Store) Close() { s.pool.Close() }

// Stat says how the connections stand.
func (s *Store) Stat() *pgxpool.Stat { return s.pool.Stat() }

// Ping says whether the database answers; the error wraps [visit.ErrAway].
func (s *Store) Ping(ctx context.Context) error {
	if err := s.pool.Ping(ctx); err != nil {
		return fmt.Errorf("%w: %w", visit.ErrAway, err)
	}
	return nil
}

// Gates gives the tables of gates.
func (s *Store) Gates() *gaterows.Rows { return gaterows.New(s.pool, away) }

// Links gives the tables of links.
func (s *Store) Links() *linkrows.Rows { return linkrows.New(s.pool, away) }

// Companions are the tables of companions.
func (s *Store) Companions() *companionrows.Rows { return companionrows.New(s.pool, away) }

// Notices are the tables of notices, channels and messages.
func (s *Store) Notices() *noticerows.Rows { return noticerows.New(s.pool, away) }
