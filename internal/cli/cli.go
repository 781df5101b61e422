// Package cli is the command line: one file a family of commands. Results go to
// standard output, progress and notes to standard error.
package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"eastporch/internal/cli/addresses"
	"eastporch/internal/cli/companions"
	"eastporch/internal/cli/documents"
	"eastporch/internal/cli/gates"
	"eastporch/internal/cli/links"
	"eastporch/internal/cli/notices"
	"eastporch/internal/cli/records"
	"eastporch/internal/cli/shelf"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
)

// Exit codes.
const (
	exitOK     = 0
	exitFailed = 1
	exitUsage  = 2
)

// A System is all that a command may touch outside its flags.
type System = terminal.System

// Run runs one command and gives its exit code: 0 for success, 1 where it
// failed, 2 for wrong use. It returns when ctx ends.
func Run(ctx context.Context, sys System) (exitCode int) {
	root := New(sys)
	root.SetArgs(sys.Args)
	root.SetIn(sys.In)
	root.SetOut(sys.Out)
	root.SetErr(sys.Err)
	err := root.ExecuteContext(ctx)
	stderr := terminal.ForPeople(sys.Err)
	var usage terminal.UsageError
	switch {
	case err == nil:
		return exitOK
	case errors.As(err, &usage), isCobraUsage(err):
		fmt.Fprintf(stderr, "eastporch: %v\nSee eastporch --help.\n", err)
		return exitUsage
	}
	fmt.Fprintf(stderr, "eastporch: %v\n", err)
	if errors.Is(err, client.ErrUnreachable) {
		fmt.Fprintln(stderr, "Start it with eastporch serve, name it with --server or EASTPORCH_SERVER, or work offline with --atlas.")
	}
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusUnauthorized {
		fmt.Fprintln(stderr, "Give a key with --key or EASTPORCH_KEY, or let eastporch login LINK keep one.")
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
	a := &terminal.App{System: sys}
	root := &cobra.Command{
		Use:   "eastporch",
		Short: "Find visitors behind proxies, locate them and record visits",
		Long: `East Porch finds the address of a visitor behind proxies, skips local
addresses, resolves the rest to country, city, coordinates and time zone, and keeps
enriched visits.`,
		Example: `  eastporch demo                            # the Heron Lake Regatta, at a printed address
  eastporch init                            # a first configuration, for your own site
  eastporch serve --config eastporch.yaml   # the service
  eastporch resolve 198.18.3.40             # where an address is, and why`,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			switch a.Output {
			case "table", "json", "ndjson", "csv", "yaml":
				return nil
			}
			return terminal.Usage(fmt.Errorf("--output %s is not known: give table, json, ndjson, csv or yaml", a.Output))
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return terminal.Usage(err) })
	server := sys.Getenv("EASTPORCH_SERVER")
	if server == "" {
		server = "http://127.0.0.1:8081"
	}
	root.PersistentFlags().StringVar(&a.Server, "server", server, "the admin address of the service (EASTPORCH_SERVER)")
	root.PersistentFlags().StringVar(&a.Key, "key", "", "the key to use (EASTPORCH_KEY); else the one that login kept for the server")
	root.PersistentFlags().StringVar(&a.Store, "profile", terminal.ProfilePath(sys.Getenv), "where login keeps keys, by server")
	root.PersistentFlags().StringVarP(&a.Output, "output", "o", "table", "table, json, ndjson, csv or yaml")
	root.AddCommand(initCommand(a), serveCommand(a), reloadCommand(a), demoCommand(a), addresses.ResolveCommand(a), addresses.KindCommand(a), addresses.FindCommand(a), addresses.TrailCommand(a), checkupCommand(a), databaseCommand(a), records.VisitsCommand(a), records.ReportCommand(a), gates.Command(a), gates.RehearseCommand(a), links.Command(a), companions.Command(a), notices.Command(a), documents.VariantsCommand(a), shelf.AtlasCommand(a), shelf.CorrectionsCommand(a), addresses.RangesCommand(a), addresses.NearCommand(a), addresses.AreasCommand(a), addresses.CountriesCommand(a), addresses.LocaleCommand(a), addresses.ConvertCommand(a), addresses.RatesCommand(a), standinCommand(a), keysCommand(a), auditLogCommand(a), loginCommand(a), versionCommand(a))
	return root
}

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
