package cluster

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func options(t *testing.T) Options {
	t.Helper()
	dir, err := os.MkdirTemp("", "eastporch-cluster-") // t.TempDir has mode 700 above it
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return Options{Dir: filepath.Join(dir, "c"), Log: slog.New(slog.DiscardHandler), Throwaway: true}
}

func query(t *testing.T, c *Cluster, sql string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), c.URL())
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), sql)
	require.NoError(t, err)
}

func TestAClusterKeepsItsDataAndItsDirectory(t *testing.T) {
	opt := options(t)
	c, err := Start(t.Context(), opt)
	require.NoError(t, err)
	query(t, c, "CREATE TABLE kept (n int)")

	_, err = Start(t.Context(), opt)
	require.ErrorIs(t, err, ErrInUse)

	info, err := os.Stat(filepath.Join(opt.Dir, "password"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, err = pgx.Connect(t.Context(), "postgres://eastporch:wrong@"+c.URL()[len(c.URL())-len("127.0.0.1:00000/postgres"):])
	require.Error(t, err, "a wrong password opens nothing")

	pid := c.cmd.Process.Pid
	require.NoError(t, c.Stop(t.Context()))
	assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "no process is left")

	again, err := Start(t.Context(), opt)
	require.NoError(t, err)
	query(t, again, "INSERT INTO kept VALUES (1)")
	require.NoError(t, again.Stop(t.Context()))
}

func TestOnlyThrowawayClustersAreNotSynced(t *testing.T) {
	assert.NotContains(t, initArgs(Options{Dir: "x"}, "password"), "--no-sync")
	assert.Contains(t, initArgs(Options{Dir: "x", Throwaway: true}, "password"), "--no-sync")
}

func TestAnInitdbThatWasCutShortIsRepeated(t *testing.T) {
	opt := options(t)
	require.NoError(t, os.MkdirAll(filepath.Join(opt.Dir, "data", "base"), 0o700))
	c, err := Start(t.Context(), opt)
	require.NoError(t, err)
	require.NoError(t, c.Stop(t.Context()))
}

func TestAClusterThatWasKilledStartsAgainWhereItWas(t *testing.T) {
	opt := options(t)
	opt.Throwaway = false
	c, err := Start(t.Context(), opt)
	require.NoError(t, err)
	query(t, c, "CREATE TABLE kept (n int)")
	url := c.URL()
	c.Kill()
	<-c.Gone()
	again, err := c.Restart(t.Context(), opt) // its children end a moment later
	require.NoError(t, err)
	assert.Equal(t, url, again.URL())
	query(t, again, "INSERT INTO kept VALUES (1)")
	require.NoError(t, again.Stop(t.Context()))
}

func TestStopKeepsItsDeadline(t *testing.T) {
	c, err := Start(t.Context(), options(t))
	require.NoError(t, err)
	ended, cancel := context.WithTimeout(t.Context(), time.Nanosecond)
	defer cancel()
	<-ended.Done()
	_ = c.Stop(ended) // which may still be in time
	assert.ErrorIs(t, syscall.Kill(c.cmd.Process.Pid, 0), syscall.ESRCH)
}

// After a kill -9 of the service the server that it had may need a moment to end, as it does
// by itself: the next start waits for it.
func TestAStartWaitsForTheServerOfBefore(t *testing.T) {
	opt := options(t)
	before, err := Start(t.Context(), opt)
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), before.URL())
	require.NoError(t, err)
	before.unlock() // as if the service were gone
	require.NoError(t, before.cmd.Process.Signal(syscall.SIGTERM), "it ends once nobody is connected")
	var early atomic.Bool
	time.AfterFunc(time.Second, func() {
		early.Store(true)
		_ = conn.Close(context.Background())
	})
	after, err := Start(t.Context(), opt)
	require.NoError(t, err)
	assert.True(t, early.Load(), "two servers had one directory")
	<-before.Gone()
	query(t, after, "CREATE TABLE kept (n int)")
	require.NoError(t, after.Stop(t.Context()))
}
