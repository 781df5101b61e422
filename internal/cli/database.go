package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/config"
	"eastporch/internal/server"
)

func databaseCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "database",
		Short: "Reach the database of the service with SQL",
		Long: `Reaches the database of the service on this machine: the private one in its data
directory while the service runs, or that of database.url. docs/sql.md lists the tables.`,
	}
	var file, dir string
	var write bool
	cmd.PersistentFlags().StringVar(&file, "config", "", "the configuration file (EASTPORCH_CONFIG)")
	cmd.PersistentFlags().StringVar(&dir, "data-dir", "", "the data directory of the service; else that of the configuration")
	cmd.PersistentFlags().BoolVar(&write, "write", false, "use a role that may change everything, not only read")
	address := func() (string, error) {
		in := config.Input{File: file, Getenv: a.Getenv, Flags: map[string]any{}}
		if in.File == "" {
			in.File = a.Getenv("EASTPORCH_CONFIG")
		}
		if dir != "" {
			in.Flags["data_dir"] = dir
		}
		cfg, err := config.Load(in)
		if err != nil {
			return "", err
		}
		if cfg.Database.URL != "" {
			return ownDatabase(cfg.Database.URL, write)
		}
		return server.DatabaseURL(cfg, write)
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "shell [-- ARGUMENT...]",
		Short: "Open psql, for reading unless --write is given",
		Example: `  eastporch database shell
  eastporch database shell -- -c 'SELECT city, count(*) FROM visit_fact GROUP BY city'
  eastporch database shell --data-dir ~/.local/share/eastporch-demo/data`,
		RunE: func(_ *cobra.Command, args []string) error {
			at, err := address()
			if err != nil {
				return err
			}
			psql, err := exec.LookPath("psql")
			if err != nil {
				return errors.New("psql is not installed: run apt-get install postgresql-client, or use another tool with eastporch database url")
			}
			args = append([]string{psql, "-d", at}, args...)
			if a.Out == os.Stdout { // psql takes our place, and Ctrl-C is its own
				return syscall.Exec(psql, args, os.Environ())
			}
			shell := exec.Command(psql, args[1:]...)
			shell.Stdin, shell.Stdout, shell.Stderr = a.In, a.Out, a.Err
			if err := shell.Run(); err != nil {
				return fmt.Errorf("psql: %w", err)
			}
			return nil
		},
	}, &cobra.Command{
		Use:   "url",
		Short: "Print the address of the database, for other tools",
		Long: `Prints the address of the database as PostgreSQL's own library reads it. It has no
password: passfile names the file that does, which only who runs the service may read.`,
		Example: `  eastporch database url
  psql "$(eastporch database url)"`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			at, err := address()
			if err == nil {
				fmt.Fprintln(a.Out, at)
			}
			return err
		},
	})
	return cmd
}

// ownDatabase is the address of a database of the owner's, whose sessions only read unless they
// are to write. Its password stays out of it where it is not in a file.
func ownDatabase(address string, write bool) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" && u.Query().Get("host") == "" {
		return "", errors.New("database.url is not an address that tools take: use it with them yourself")
	}
	if _, has := u.User.Password(); has {
		return "", errors.New("database.url holds a password, which is not printed or shown to other programs: put it into ~/.pgpass, and leave it out there")
	}
	if !write {
		query := u.Query()
		query.Set("options", "-c default_transaction_read_only=on")
		u.RawQuery = strings.ReplaceAll(query.Encode(), "+", "%20") // which libpq takes for a plus
	}
	return u.String(), nil
}
