package cluster

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
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

// What tools are given reads everything and writes nothing, names a port that stays, and holds
// no password.
func TestToolsMayReadAndNoMore(t *testing.T) {
	opt := options(t)
	_, err := ToolURL(opt.Dir, false)
	require.ErrorIs(t, err, ErrNoCluster)
	c, err := Start(t.Context(), opt)
	require.NoError(t, err)
	query(t, c, "CREATE TABLE kept AS SELECT 7 AS n")
	read, err := ToolURL(opt.Dir, false)
	require.NoError(t, err)
	write, err := ToolURL(opt.Dir, true)
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(opt.Dir, "pgpass"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(filepath.Join(opt.Dir, "pgpass"))
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		parts := strings.Split(strings.TrimSpace(line), ":")
		assert.NotContains(t, read+write, parts[len(parts)-1])
	}
	asks := func(at, sql string) error {
		conn, err := pgx.Connect(t.Context(), at)
		require.NoError(t, err)
		defer conn.Close(t.Context())
		_, err = conn.Exec(t.Context(), sql)
		return err
	}
	require.NoError(t, asks(read, "SELECT n FROM kept"))
	for _, sql := range []string{
		"INSERT INTO kept VALUES (1)", "UPDATE kept SET n = 1", "CREATE TABLE mine (n int)", "DROP TABLE kept", "CREATE ROLE mine", "SET default_transaction_read_only = off; DELETE FROM kept",
		"SET ROLE eastporch", "COPY kept TO PROGRAM 'cat'", "SELECT pg_read_file('PG_VERSION')", "ALTER ROLE eastporch_read SUPERUSER",
	} {
		require.Error(t, asks(read, sql), sql)
	}
	require.NoError(t, asks(write, "INSERT INTO kept VALUES (1)"))

	require.NoError(t, c.Stop(t.Context()))
	again, err := Start(t.Context(), opt)
	require.NoError(t, err)
	same, err := ToolURL(opt.Dir, false)
	require.NoError(t, err)
	assert.Equal(t, read, same, "the port stays")
	require.NoError(t, asks(same, "SELECT n FROM kept"))
	require.NoError(t, again.Stop(t.Context()))

	taken, err := net.Listen("tcp", strings.TrimPrefix(strings.Split(read, "/postgres")[0], "postgres://eastporch_read@"))
	require.NoError(t, err)
	defer taken.Close()
	other, err := Start(t.Context(), opt)
	require.NoError(t, err)
	moved, err := ToolURL(opt.Dir, false)
	require.NoError(t, err)
	assert.NotEqual(t, read, moved, "somebody else has the port")
	require.NoError(t, asks(moved, "SELECT n FROM kept"))
	require.NoError(t, other.Stop(t.Context()))
}

func TestOnlyThrowawayClustersAreNotSynced(t *testing.T) {
	assert.NotContains(t, initArgs(Options{Dir: "x"}, "d", "password"), "--no-sync")
	assert.Contains(t, initArgs(Options{Dir: "x", Throwaway: true}, "d", "password"), "--no-sync")
}

// Told to stop at any moment of the first start, it stops soon and leaves nothing that the next
// start trips over.
func TestAFirstStartThatIsStoppedIsRepeated(t *testing.T) {
	opt := options(t)
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	for range 12 {
		ctx, cancel := context.WithTimeout(t.Context(), time.Duration(r.Int64N(int64(900*time.Millisecond))))
		c, err := Start(ctx, opt)
		if err == nil {
			require.NoError(t, c.Stop(t.Context()))
			if r.IntN(2) == 0 {
				require.NoError(t, os.RemoveAll(filepath.Join(opt.Dir, "data")))
			}
		} else {
			assert.ErrorIs(t, err, context.DeadlineExceeded)
		}
		cancel()
	}
	c, err := Start(t.Context(), opt)
	require.NoError(t, err)
	query(t, c, "CREATE TABLE kept (n int)")
	require.NoError(t, c.Stop(t.Context()))
}

// A cluster runs on the programs that made it, and on no others.
func TestAClusterKeepsItsVersion(t *testing.T) {
	installed, dir := t.TempDir(), t.TempDir()
	for _, version := range []string{"9", "15", "16"} {
		require.NoError(t, os.MkdirAll(filepath.Join(installed, version, "bin"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(installed, version, "bin", "postgres"), nil, 0o755))
	}
	newest, err := binaries(installed, dir)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(installed, "16", "bin"), newest)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "data"), 0o755))
	made := func(version string) (string, error) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "data", "PG_VERSION"), []byte(version+"\n"), 0o644))
		return binaries(installed, dir)
	}
	older, err := made("15")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(installed, "15", "bin"), older)
	_, err = made("14")
	require.ErrorIs(t, err, ErrOtherVersion)
	assert.ErrorContains(t, err, "run apt-get install postgresql-14")
	_, err = binaries(t.TempDir(), dir)
	require.ErrorIs(t, err, ErrNoServer)

	// And a real one is left as it is.
	opt := options(t)
	c, err := Start(t.Context(), opt)
	require.NoError(t, err)
	require.NoError(t, c.Stop(t.Context()))
	file := filepath.Join(opt.Dir, "data", "PG_VERSION")
	ours, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte("8\n"), 0o600))
	_, err = Start(t.Context(), opt)
	require.ErrorIs(t, err, ErrOtherVersion)
	require.NoError(t, os.WriteFile(file, ours, 0o600))
	c, err = Start(t.Context(), opt)
	require.NoError(t, err)
	require.NoError(t, c.Stop(t.Context()))
}

// The log keeps its newest lines while the server writes it.
func TestTheLogIsBounded(t *testing.T) {
	opt := options(t)
	c, err := Start(t.Context(), opt)
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), c.URL())
	require.NoError(t, err)
	defer conn.Close(context.Background())
	for n := range 200 {
		_, err := conn.Exec(t.Context(), fmt.Sprintf("SELECT no_such_column_%d", n))
		require.Error(t, err)
	}
	require.NoError(t, trimLog(opt.Dir, 4096))
	old, err := os.ReadFile(filepath.Join(opt.Dir, "log.1"))
	require.NoError(t, err)
	assert.Len(t, old, 4096)
	assert.Contains(t, string(old), "no_such_column_199")
	_, err = conn.Exec(t.Context(), "SELECT another_column")
	require.Error(t, err)
	now, err := os.ReadFile(filepath.Join(opt.Dir, "log"))
	require.NoError(t, err)
	assert.Contains(t, string(now), "another_column")
	assert.NotContains(t, string(now), "\x00", "it is written from the beginning on")
	assert.NotContains(t, string(now), "no_such_column")
	require.NoError(t, conn.Close(t.Context()))
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
