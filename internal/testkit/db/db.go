// Package db gives tests a real PostgreSQL. Each test binary starts a
// cluster of its own; each test gets a database of its own in it, a copy of
// one whose tables were made once.
package db

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/server/cluster"
)

var running *cluster.Cluster

// model is the database that those of the tests are copies of.
const model = "model"

// A Model is what databases of tests begin as. The zero Model has no tables.
type Model struct {
	Tables func(ctx context.Context, url string) error // makes them, once
	Each   string                                      // is run in every copy
}

var each string

// Run runs the tests of a package with a cluster, for TestMain.
func Run(m *testing.M, of Model) (exitCode int) {
	each = of.Each
	dir, err := os.MkdirTemp("", "eastporch-db-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // the database may run as another user
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	running, err = cluster.Start(ctx, cluster.Options{
		Dir: dir + "/cluster", Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Throwaway: true,
	})
	if err != nil {
		fmt.Fprintln(os.Stderr, "dbtest:", err)
		return 1
	}
	defer func() {
		stop, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		if err := running.Stop(stop); err != nil {
			fmt.Fprintln(os.Stderr, "dbtest:", err)
		}
	}()
	if err := makeModel(ctx, of.Tables); err != nil {
		fmt.Fprintln(os.Stderr, "dbtest:", err)
		return 1
	}
	return m.Run()
}

func makeModel(ctx context.Context, tables func(ctx context.Context, url string) error) error {
	if err := run(ctx, running.URL(), "CREATE DATABASE "+model); err != nil || tables == nil {
		return err
	}
	return tables(ctx, urlOf(model))
}

var databases atomic.Int64

// New makes a database with the tables of the test binary and gives its URL; it is dropped after
// the test.
func New(t testing.TB) string {
	t.Helper()
	url := fromTemplate(t, model)
	if each != "" {
		if err := run(context.Background(), url, each); err != nil {
			t.Fatal(err)
		}
	}
	return url
}

// NewEmpty is [New] without any table.
func NewEmpty(t testing.TB) string { return fromTemplate(t, "template1") }

func fromTemplate(t testing.TB, template string) string {
	t.Helper()
	if running == nil {
		t.Fatal(errors.New("dbtest: TestMain does not call db.Run"))
	}
	name := fmt.Sprintf("test_%d", databases.Add(1))
	ctx := context.Background() // the test's own has ended when it cleans up
	if err := run(ctx, running.URL(), "CREATE DATABASE "+name+" TEMPLATE "+template+" STRATEGY file_copy"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := run(ctx, running.URL(), "DROP DATABASE "+name+" WITH (FORCE)"); err != nil {
			t.Error(err)
		}
	})
	return urlOf(name)
}

func urlOf(database string) string {
	return strings.TrimSuffix(running.URL(), "/postgres") + "/" + database
}

func run(ctx context.Context, url, sql string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return err
}
