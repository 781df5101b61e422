package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"
)

// Files of a cluster's directory for tools of its owner: the port, and the passwords as libpq
// reads them.
const (
	portFile = "port"
	passFile = "pgpass"
)

// The roles that tools sign in with.
const (
	readRole  = "eastporch_read" // may read everything, and write nothing
	writeRole = "eastporch"
)

// ErrNoCluster means that a directory holds no private database that was started.
var ErrNoCluster = errors.New("there is no private database")

// ToolURL is the address of the private database in dir as libpq takes it, without a password:
// it names the file that has it, which only the owner of the service may read. With write it
// is for a role that may change everything. The error wraps [ErrNoCluster].
func ToolURL(dir string, write bool) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	port, err := os.ReadFile(filepath.Join(dir, portFile))
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%w in %s: it is made when the service starts without a database.url", ErrNoCluster, dir)
	}
	if err != nil {
		return "", err
	}
	role := readRole
	if write {
		role = writeRole
	}
	address := url.URL{
		Scheme: "postgres", User: url.User(role), Host: net.JoinHostPort("127.0.0.1", strings.TrimSpace(string(port))), Path: "postgres",
		RawQuery: url.Values{"passfile": {filepath.Join(dir, passFile)}}.Encode(),
	}
	return address.String(), nil
}

// admitTools makes the role that may only read, and writes where tools find the database.
func (c *Cluster) admitTools(ctx context.Context, dir, password string, owner *syscall.Credential) error {
	conn, err := pgx.Connect(ctx, c.url)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	secret := rand.Text()
	for _, statement := range []string{
		`DO $$ BEGIN CREATE ROLE ` + readRole + ` LOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $$`,
		`ALTER ROLE ` + readRole + ` PASSWORD '` + secret + `'`, // letters and digits alone
		`GRANT pg_read_all_data TO ` + readRole,
		`ALTER ROLE ` + readRole + ` SET default_transaction_read_only = on`,
	} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return fmt.Errorf("database: the role %s: %w", readRole, err)
		}
	}
	lines := ""
	for _, role := range [][2]string{{readRole, secret}, {writeRole, password}} {
		lines += fmt.Sprintf("127.0.0.1:%d:postgres:%s:%s\n", c.port, role[0], role[1])
	}
	return errors.Join(
		replace(filepath.Join(dir, passFile), lines, owner),
		replace(filepath.Join(dir, portFile), strconv.Itoa(c.port)+"\n", owner),
	)
}

// replace puts a file with mode 600 in place of another, at once.
func replace(file, text string, owner *syscall.Credential) error {
	next := file + ".new"
	if err := os.WriteFile(next, []byte(text), 0o600); err != nil {
		return err
	}
	if owner != nil {
		if err := os.Chown(next, int(owner.Uid), int(owner.Gid)); err != nil {
			return err
		}
	}
	return os.Rename(next, file)
}
