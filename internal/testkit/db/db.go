// Package db gives tests a real PostgreSQL. Each test binary starts a
// cluster of its own; each test gets a database of its own in it.
package db

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/server/cluster"
)

var running *cluster.Cluster

// Run runs the tests of a package with a cluster, for TestMain.
func Run(m *testing.M) (exitCode int) {
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
	return m.Run()
}

var databases atomic.Int64

// New makes an empty database and gives its URL; it is dropped after the test.
func New(t testing.TB) string {
	t.Helper()
	if running == nil {
		t.Fatal(errors.New("dbtest: TestMain does not call dbtest.Run"))
	}
	name := fmt.Sprintf("test_%d", databases.Add(1))
	exec(t, "CREATE DATABASE "+name)
	t.Cleanup(func() { exec(t, "DROP DATABASE "+name+" WITH (FORCE)") })
	u, err := url.Parse(running.URL())
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSuffix(u.String(), "/postgres") + "/" + name
}

func exec(t testing.TB, sql string) {
	t.Helper()
	ctx := context.Background() // the test's own has ended when it cleans up
	conn, err := pgx.Connect(ctx, running.URL())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, sql); err != nil {
		t.Fatal(err)
	}
}
