// Package cli is the command line: one file a family of commands. Results go to
// standard output, progress and notes to standard error.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"eastporch/internal/client"
)

// Exit codes.
const (
	exitOK     = 0
	exitFailed = 1
	exitUsage  = 2
)

// System is all that a command may touch outside its flags.
type System struct {
	Args     []string
	Getenv   func(string) string
	In       io.Reader
	Out, Err io.Writer
}

// usageError marks wrong use of a command.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

// app is what all commands share.
type app struct {
	System
	server string // --server
	key    string // --key
	store  string // --profile
	output string // --output
}

// Run runs one command and gives its exit code: 0 for success, 1 where it
// failed, 2 for wrong use. It returns when ctx ends.
func Run(ctx context.Context, sys System) (exitCode int) {
	root := New(sys)
	root.SetArgs(sys.Args)
	root.SetIn(sys.In)
	root.SetOut(sys.Out)
	root.SetErr(sys.Err)
	err := root.ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return exitOK
	case errors.As(err, &usage), isCobraUsage(err):
		fmt.Fprintf(sys.Err, "eastporch: %v\nSee eastporch --help.\n", err)
		return exitUsage
	}
	fmt.Fprintf(sys.Err, "eastporch: %v\n", err)
	if errors.Is(err, client.ErrUnreachable) {
		fmt.Fprintln(sys.Err, "Start it with eastporch serve, name it with --server or EASTPORCH_SERVER, or work offline with --atlas.")
	}
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusUnauthorized {
		fmt.Fprintln(sys.Err, "Give a key with --key or EASTPORCH_KEY, or let eastporch login LINK keep one.")
	}
	return exitFailed
}

// isCobraUsage recognises the errors that Cobra itself makes of wrong use; it
// has no type for them.
func isCobraUsage(err error) bool {
	text := err.Error()
	for _, prefix := range []string{"unknown command", "accepts ", "requires ", "required flag", "invalid argument"} {
		if strings.HasPrefix(text, prefix) {
			return true
		}
	}
	return false
}

// New makes the tree of commands.
func New(sys System) *cobra.Command {
	a := &app{System: sys}
	root := &cobra.Command{
		Use:   "eastporch",
		Short: "Find visitors behind proxies, locate them and record visits",
		Long: `East Porch finds the address of a visitor behind proxies, skips local
addresses, resolves the rest to country, city, coordinates and time zone, and keeps
enriched visits.`,
		Example: `  eastporch demo                            # the Heron Lake Regatta, at a printed address
  eastporch serve --config eastporch.yaml   # the service
  eastporch resolve 198.18.3.40             # where an address is, and why`,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			switch a.output {
			case "table", "json", "ndjson", "csv", "yaml":
				return nil
			}
			return usageError{fmt.Errorf("--output %s is not known: give table, json, ndjson, csv or yaml", a.output)}
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	server := sys.Getenv("EASTPORCH_SERVER")
	if server == "" {
		server = "http://127.0.0.1:8081"
	}
	root.PersistentFlags().StringVar(&a.server, "server", server, "the admin address of the service (EASTPORCH_SERVER)")
	root.PersistentFlags().StringVar(&a.key, "key", "", "the key to use (EASTPORCH_KEY); else the one that login kept for the server")
	root.PersistentFlags().StringVar(&a.store, "profile", profilePath(sys.Getenv), "where login keeps keys, by server")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table, json, ndjson, csv or yaml")
	root.AddCommand(a.serve(), a.demo(), a.resolve(), a.kind(), a.find(), a.trail(), a.checkup(), a.visits(), a.report(), a.atlas(), a.corrections(), a.ranges(), a.near(), a.areas(), a.countries(), a.locale(), a.convert(), a.rates(), a.standin(), a.keys(), a.auditLog(), a.login(), a.version())
	return root
}

func (a *app) client() (*client.Client, error) {
	key := a.key
	if key == "" {
		key = a.Getenv("EASTPORCH_KEY")
	}
	if key == "" {
		p, err := readProfile(a.store)
		if err != nil {
			return nil, err
		}
		key = p.Keys[strings.TrimSuffix(a.server, "/")]
	}
	c, err := client.New(a.server, key, nil)
	if err != nil {
		return nil, usageError{err}
	}
	return c, nil
}

// noteln writes a note for people to standard error.
func (a *app) noteln(args ...any) { fmt.Fprintln(a.Err, args...) }

// Version is the version of this binary: that of the module, or the commit it
// was built from.
func Version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 12 {
			return "0.1-" + s.Value[:12]
		}
	}
	return "0.1-development"
}
