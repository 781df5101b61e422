package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// binaries finds the programs for the cluster in dir: those of the version that made it, or
// the newest that are installed where there is none yet.
func binaries(installed, dir string) (string, error) {
	found, _ := filepath.Glob(filepath.Join(installed, "*", "bin", "postgres"))
	if len(found) == 0 {
		return "", ErrNoServer
	}
	version := func(path string) string { return filepath.Base(filepath.Dir(filepath.Dir(path))) }
	slices.SortFunc(found, func(a, b string) int {
		x, _ := strconv.Atoi(version(a))
		y, _ := strconv.Atoi(version(b))
		return y - x
	})
	text, err := os.ReadFile(filepath.Join(dir, "data", "PG_VERSION"))
	if errors.Is(err, fs.ErrNotExist) {
		return filepath.Dir(found[0]), nil
	}
	if err != nil {
		return "", fmt.Errorf("data directory: %w", err)
	}
	made := strings.TrimSpace(string(text))
	for _, path := range found {
		if version(path) == made {
			return filepath.Dir(path), nil
		}
	}
	return "", fmt.Errorf("%w: %s was made by PostgreSQL %s, and only %s is installed: run apt-get install postgresql-%s", ErrOtherVersion, dir, made, version(found[0]), made)
}

// databaseUser gives the credentials that the server runs with: nil for our
// own, those of postgres where we are root.
func databaseUser() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// initialise creates the cluster, or reads the password of an existing one.
func initialise(ctx context.Context, bin string, opt Options, owner *syscall.Credential) (string, error) {
	dir := opt.Dir
	secret := filepath.Join(dir, "password")
	if _, err := os.Stat(filepath.Join(dir, "data", "PG_VERSION")); err == nil {
		text, err := os.ReadFile(secret)
		if err != nil {
			return "", fmt.Errorf("password of the database: %w", err)
		}
		return strings.TrimSpace(string(text)), nil
	}
	password := rand.Text()
	if err := os.WriteFile(secret, []byte(password+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("password of the database: %w", err)
	}
	if owner != nil {
		if err := os.Chown(secret, int(owner.Uid), int(owner.Gid)); err != nil {
			return "", err
		}
	}
	// It gets its name when it is complete: one that was cut short holds nothing of worth.
	fresh := filepath.Join(dir, unfinished)
	if err := os.RemoveAll(fresh); err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), initArgs(opt, fresh, secret)...)
	as(cmd, dir, owner)
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) } // and what it has started
	cmd.WaitDelay = 5 * time.Second
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("initdb in %s: %w: %s", dir, errors.Join(err, ctx.Err()), lastLine(out))
	}
	if err := os.Rename(fresh, filepath.Join(dir, "data")); err != nil {
		return "", fmt.Errorf("data directory: %w", err)
	}
	return password, syncDir(dir)
}

// unfinished is the name of a cluster that is being made.
const unfinished = "data.new"

func syncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// initArgs has a new cluster on the disk before it is used, unless it is thrown away.
func initArgs(opt Options, dir, secret string) []string {
	args := []string{"-D", dir, "-U", "eastporch", "-A", "scram-sha-256", "--pwfile=" + secret, "-E", "UTF8", "--locale=C.UTF-8"}
	if opt.Throwaway {
		args = append(args, "--no-sync")
	}
	return args
}

func as(cmd *exec.Cmd, dir string, owner *syscall.Credential) {
	cmd.Dir = dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: owner, Pdeathsig: syscall.SIGINT}
}
