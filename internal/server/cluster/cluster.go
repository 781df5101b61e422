// Package cluster runs a private PostgreSQL on loopback, from the server
// binaries that are installed, in a directory of its own.
//
// PostgreSQL refuses to run as root, so root starts it as the user postgres.
// The server is a child of this process in a process group of its own: Ctrl-C
// reaches us first, and the kernel stops it should we be killed.
package cluster

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Errors that callers tell apart.
var (
	ErrNoServer = errors.New("no PostgreSQL server is installed: run apt-get install postgresql")
	ErrInUse    = errors.New("another East Porch uses this data directory")
	// ErrOtherVersion means that the cluster was made by a version of PostgreSQL that is not
	// installed any more.
	ErrOtherVersion = errors.New("the private database needs another PostgreSQL")
)

// errRemains means that processes of a server that was killed have not ended yet,
// which they do by themselves.
var errRemains = errors.New("processes of a server that was killed are there still")

var remains = regexp.MustCompile(`Is another postmaster|old server processes`)

const (
	remainsTries = 50
	remainsAgain = 200 * time.Millisecond
)

// startWithin bounds how long a cluster may take to answer; recovery after a
// crash is the slow case.
const startWithin = 60 * time.Second

// A Cluster is a running private PostgreSQL.
type Cluster struct {
	dir    string
	url    string
	cmd    *exec.Cmd
	exited chan error
	gone   chan struct{} // closed when the server has ended
	port   int
	lock   *os.File
}

// Options says what a cluster is made of. Dir is required.
type Options struct {
	Dir  string // made where it is missing
	Log  *slog.Logger
	Port int // 0 takes that of the start before, or any that is free
	// Throwaway turns off what protects data from a crash of the machine; for
	// tests only.
	Throwaway bool
}

// Start starts the cluster of a directory, which it creates first where there
// is none, and waits until it answers. It wraps [ErrNoServer] or [ErrInUse].
func Start(ctx context.Context, opt Options) (*Cluster, error) {
	bin, err := binaries("/usr/lib/postgresql", opt.Dir)
	if err != nil {
		return nil, err
	}
	owner, err := databaseUser()
	if err != nil {
		return nil, err
	}
	c := &Cluster{dir: opt.Dir, exited: make(chan error, 1), gone: make(chan struct{})}
	if err := c.prepare(opt.Dir, owner); err != nil {
		return nil, err
	}
	password, err := initialise(ctx, bin, opt, owner)
	if err == nil {
		err = c.run(ctx, bin, password, owner, opt)
	}
	for tries := 0; errors.Is(err, errRemains) && tries < remainsTries && ctx.Err() == nil; tries++ {
		select {
		case <-ctx.Done():
		case <-time.After(remainsAgain):
		}
		c.exited, c.gone = make(chan error, 1), make(chan struct{})
		err = c.run(ctx, bin, password, owner, opt)
	}
	if err != nil {
		c.unlock()
		return nil, err
	}
	return c, nil
}

// URL is the address of the database, with its password.
func (c *Cluster) URL() string { return c.url }

// Gone is closed when the server has ended, by itself or because it was stopped.
func (c *Cluster) Gone() <-chan struct{} { return c.gone }

// Restart starts a cluster that has ended again, at its port.
func (c *Cluster) Restart(ctx context.Context, opt Options) (*Cluster, error) {
	c.unlock()
	opt.Port = c.port
	return Start(ctx, opt)
}

// Kill ends the server at once, as a crash of it does, for tests.
func (c *Cluster) Kill() {
	defer c.unlock()
	_ = c.cmd.Process.Kill() // an error means it is gone
	<-c.gone
}

// Stop stops the cluster: clients are disconnected, and what is written is
// kept. A cluster that has ended already is stopped. When ctx ends first, the server is told to quit at once.
func (c *Cluster) Stop(ctx context.Context) error {
	defer c.unlock()
	_ = c.cmd.Process.Signal(syscall.SIGINT) // fast shutdown; an error means it is gone
	select {
	case <-c.gone:
		return nil
	case <-ctx.Done():
		_ = c.cmd.Process.Signal(syscall.SIGQUIT)
		<-c.gone
		return fmt.Errorf("PostgreSQL did not stop in time: %w", ctx.Err())
	}
}

// prepare makes the directory, gives it to the database's user and locks it.
func (c *Cluster) prepare(dir string, owner *syscall.Credential) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return fmt.Errorf("%s: %w", dir, ErrInUse)
	}
	c.lock = lock
	if owner != nil {
		if err := os.Chown(dir, int(owner.Uid), int(owner.Gid)); err != nil {
			return fmt.Errorf("data directory: %w", err)
		}
	}
	return nil
}

func (c *Cluster) unlock() {
	if c.lock != nil {
		_ = c.lock.Close() // closing gives the lock back
	}
}

// run starts the server on a free port and waits until it answers.
func (c *Cluster) run(ctx context.Context, bin, password string, owner *syscall.Credential, opt Options) error {
	port := opt.Port
	if port == 0 {
		var err error
		if port, err = keptPort(opt.Dir); err != nil {
			return err
		}
	}
	c.port = port
	args := []string{
		"-D", filepath.Join(opt.Dir, "data"), "-c", "listen_addresses=127.0.0.1", "-p", strconv.Itoa(port),
		"-c", "unix_socket_directories=", "-c", "logging_collector=off",
	}
	if opt.Throwaway {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "max_connections=200")
	}
	log, err := os.OpenFile(filepath.Join(opt.Dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	before, err := log.Stat()
	if err != nil {
		return err
	}
	c.cmd = exec.Command(filepath.Join(bin, "postgres"), args...)
	as(c.cmd, opt.Dir, owner)
	c.cmd.Stdout, c.cmd.Stderr = log, log

	started := make(chan error, 1)
	exited, gone, cmd := c.exited, c.gone, c.cmd // those of this try: the next one has others
	go func() {
		// The kernel sends Pdeathsig when the thread that started the child
		// ends, so this one stays for as long as the child does.
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			exited <- cmd.Wait()
			close(gone)
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("PostgreSQL: %w", err)
	}
	address := url.URL{
		Scheme: "postgres", User: url.UserPassword("eastporch", password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: "postgres",
	}
	c.url = address.String()
	if err := c.await(ctx, opt.Dir, before.Size()); err != nil {
		return err
	}
	if err := c.admitTools(ctx, opt.Dir, password, owner); err != nil {
		stopped, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer stop()
		return errors.Join(err, c.Stop(stopped))
	}
	opt.Log.Info("database started", "port", port, "dir", opt.Dir)
	return nil
}

// await waits until the server answers. What it says of its end stands in the log behind
// a place; a server that is about to end may write there too.
func (c *Cluster) await(ctx context.Context, dir string, behind int64) error {
	ctx, cancel := context.WithTimeout(ctx, startWithin)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		conn, err := pgx.Connect(ctx, c.url)
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-tick.C:
		case exit := <-c.exited:
			out, _ := os.ReadFile(filepath.Join(dir, "log"))
			out = out[min(behind, int64(len(out))):]
			if remains.Match(out) {
				return errRemains
			}
			return fmt.Errorf("PostgreSQL ended while starting (%v): %s", exit, lastLine(out))
		case <-ctx.Done():
			stopped, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer stop()
			return errors.Join(fmt.Errorf("PostgreSQL does not answer: %w: %w", ctx.Err(), err), c.Stop(stopped))
		}
	}
}

// logMost bounds the log of the server, in bytes; what is older stands in log.1.
const logMost = 8 << 20

// TrimLog moves the log of the server aside where it has grown long, while it is written.
func (c *Cluster) TrimLog() error { return trimLog(c.dir, logMost) }

func trimLog(dir string, most int64) error {
	log, err := os.OpenFile(filepath.Join(dir, "log"), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer log.Close()
	info, err := log.Stat()
	if err != nil || info.Size() <= most {
		return err
	}
	if _, err := log.Seek(-most, io.SeekEnd); err != nil {
		return err
	}
	old, err := os.OpenFile(filepath.Join(dir, "log.1"), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.CopyN(old, log, most)
	return errors.Join(err, old.Close(), log.Truncate(0)) // the server appends, so it goes on at the beginning
}

// keptPort gives the port of the start before, where it is free still, or another that is.
func keptPort(dir string) (int, error) {
	text, _ := os.ReadFile(filepath.Join(dir, portFile)) // none at first
	before, _ := strconv.ParseUint(strings.TrimSpace(string(text)), 10, 16)
	for _, port := range []uint64{before, 0} {
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.FormatUint(port, 10)))
		if err == nil {
			defer l.Close()
			return l.Addr().(*net.TCPAddr).Port, nil
		}
		if port == 0 {
			return 0, fmt.Errorf("a free port for the database: %w", err)
		}
	}
	return 0, nil // which is not reached
}

func lastLine(out []byte) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	return lines[len(lines)-1]
}
