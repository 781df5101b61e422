package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/config"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/visit"
	"eastporch/internal/server"
	"eastporch/internal/server/httpapi"
)

func serveCommand(a *terminal.App) *cobra.Command {
	in := config.Input{Getenv: a.Getenv, Flags: map[string]any{}}
	flags := map[string]*string{}
	var check, always bool
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service and its console",
		Long: `Runs the service: the public listener for pages and proxies, the admin listener
for the console and the whole API. Without a database.url it starts a private
PostgreSQL in its data directory. Ctrl-C stops everything in order, within
shutdown_grace; pressed again it ends the service at once.

The configuration is read from the file, then from EASTPORCH_… variables, then
from flags; docs/configuration.md lists every key.`,
		Example: `  eastporch serve
  eastporch serve --config eastporch.yaml --admin-address 127.0.0.1:9091
  eastporch serve --config eastporch.yaml --check`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			for key, value := range flags {
				if name := config.FlagName(key); cmd.Flags().Changed(name) {
					in.Flags[key] = *value
				}
			}
			if in.File == "" {
				in.File = a.Getenv("EASTPORCH_CONFIG")
			}
			cfg, err := config.Load(in)
			if err != nil {
				return err
			}
			if check {
				if err := server.CheckSources(cfg, in); err != nil {
					return fmt.Errorf("the configuration is not usable:\n  %s", strings.ReplaceAll(err.Error(), "\n", "\n  "))
				}
				fmt.Fprintln(a.Out, "The configuration is usable.")
				return nil
			}
			return runServer(a, cmd.Context(), cfg, in, false, func(ctx context.Context, s *server.Server) error {
				newLink := s.FirstLink
				if always {
					newLink = s.Link
				}
				link, err := newLink(ctx)
				if errors.Is(err, visit.ErrAway) { // visits are accepted all the same
					a.Note("No sign-in link was made: " + err.Error())
					return nil
				}
				if err == nil && link != "" {
					fmt.Fprintf(a.Out, "\nThis link opens the console, once and within an hour:\n  %s\nOr use it with eastporch login LINK, for the command line.\n", link)
				}
				return err
			})
		},
	}
	cmd.Flags().StringVar(&in.File, "config", "", "the configuration file (EASTPORCH_CONFIG)")
	cmd.Flags().BoolVar(&check, "check", false, "check the configuration and stop")
	cmd.Flags().BoolVar(&always, "sign-in-link", false, "print a one-time link although somebody signed in before")
	for _, key := range config.Keys() {
		flags[key] = cmd.Flags().String(config.FlagName(key), "", "sets "+key)
	}
	return cmd
}

// runServer opens a server, calls ready once it listens, and runs it until ctx
// ends.
func runServer(a *terminal.App, ctx context.Context, cfg *config.Config, in config.Input, freePort bool, ready func(context.Context, *server.Server) error) error {
	fmt.Fprintf(a.Out, "Data      %s\n", cfg.DataDir)
	s, err := server.Open(ctx, server.Options{
		Config: cfg, Input: in, Log: logger(a, cfg), Version: Version(), FreePort: freePort,
	})
	if err != nil {
		if ctx.Err() != nil && errors.Is(err, context.Canceled) {
			a.Note("Stopped before the service was up.")
			return nil
		}
		return err
	}
	defer context.AfterFunc(ctx, func() { a.Note("Stopping. A second signal ends it at once.") })()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	hangUps := make(chan os.Signal, 1)
	signal.Notify(hangUps, syscall.SIGHUP)
	defer signal.Stop(hangUps)
	go reloadOn(ctx, hangUps, s, a)
	fmt.Fprintf(a.Out, "Public    %s\nAdmin     %s\n", s.URL(httpapi.PublicListener), s.URL(httpapi.AdminListener))
	if ready != nil {
		if err := ready(ctx, s); err != nil && ctx.Err() == nil { // else it was told to stop
			stop()
			return errors.Join(err, <-done)
		}
	}
	return <-done
}

// reloadOn puts the configuration into use again at each signal, until ctx ends.
func reloadOn(ctx context.Context, signals <-chan os.Signal, s *server.Server, a *terminal.App) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-signals:
			if _, err := s.Reload(ctx, false); err != nil {
				a.Note("Not reloaded: " + err.Error())
			}
		}
	}
}

func reloadCommand(a *terminal.App) *cobra.Command {
	var force bool
	cmd := &cobra.Command{
		Use:   "reload",
		Short: "Put a changed configuration into use, without a restart",
		Long: `Has the running service read its configuration again and apply sites, sources, proxies,
labels, policy, areas, groups, marks and links: all of it or, where anything is wrong,
nothing. No request is dropped. What only counts after a restart is listed. A site or a
trusted proxy is dropped with --force only. The signal SIGHUP does the same, and never
drops one.`,
		Example: `  eastporch reload
  eastporch reload --force
  kill -HUP $(pidof eastporch)`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			answer, err := c.Reload(cmd.Context(), force)
			if err != nil {
				return err
			}
			return terminal.Emit(a, []api.Reloaded{answer}, true, func() {
				if len(answer.Changed) == 0 {
					fmt.Fprintln(a.Out, "Nothing that can be applied has changed.")
				} else {
					fmt.Fprintf(a.Out, "In use now: %s.\n", strings.Join(answer.Changed, ", "))
				}
				if answer.Building {
					fmt.Fprintln(a.Out, "An edition of the sources is being built; eastporch atlas list shows it.")
				}
				if len(answer.Restart) > 0 {
					fmt.Fprintf(a.Out, "After a restart only: %s.\n", strings.Join(answer.Restart, ", "))
				}
			})
		},
	}
	cmd.Flags().BoolVar(&force, "force", false, "drop sites and proxies that the configuration has no more")
	return cmd
}

func logger(a *terminal.App, cfg *config.Config) *slog.Logger {
	var level slog.Level
	_ = level.UnmarshalText([]byte(cfg.Log.Level)) // config has checked it
	opt := &slog.HandlerOptions{Level: level}
	if cfg.Log.Format == "json" {
		return slog.New(slog.NewJSONHandler(a.Err, opt))
	}
	return slog.New(slog.NewTextHandler(a.Err, opt))
}

func versionCommand(a *terminal.App) *cobra.Command {
	type versions struct {
		Version   string `json:"version"`
		Almanac   string `json:"almanac"`
		Gazetteer string `json:"gazetteer"`
	}
	return &cobra.Command{
		Use:   "version",
		Short: "Print the versions of the binary and of its data",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v := versions{Version(), almanac.DataVersion, gazetteer.DataVersion}
			return terminal.Emit(a, []versions{v}, true, func() {
				fmt.Fprintf(a.Out, "eastporch  %s\nalmanac    %s\ngazetteer  %s\n", v.Version, v.Almanac, v.Gazetteer)
			})
		},
	}
}
