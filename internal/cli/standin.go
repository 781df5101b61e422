package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/demo/standin"
)

func standinCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "standin",
		Short: "Run a small stand-in for a service outside",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	var address string
	rates := &cobra.Command{
		Use:   "rates",
		Short: "Serve invented daily exchange rates, as JSON and CSV",
		Long: `Serves invented exchange rates of the day at /rates.json and /rates.csv, in the forms
of docs/formats/rates.md, until Ctrl-C. Other days: /rates.csv?date=2026-11-25. Name it
under rates.url in the configuration, with rates.fetch_inside: true.`,
		Example: `  eastporch standin rates
  curl http://127.0.0.1:8090/rates.csv`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return serveStandin(cmd.Context(), address, standin.Rates(time.Now), func(at string) {
				fmt.Fprintf(a.Out, "Invented rates at http://%[1]s/rates.json and http://%[1]s/rates.csv. Ctrl-C stops.\n", at)
			})
		},
	}
	rates.Flags().StringVar(&address, "address", "127.0.0.1:8090", "where to listen")
	cmd.AddCommand(rates, weatherCommand(a), mailCommand(a), registryCommand(a))
	return cmd
}

func weatherCommand(a *terminal.App) *cobra.Command {
	var address, key, failure string
	cmd := &cobra.Command{
		Use:   "weather",
		Short: "Serve invented weather, for companions",
		Long: `Serves the invented sky of any place at /v1/now?lat=38.7&lon=-9.1, and wind and waves at Heron Lake at
/v1/lake, as JSON, until Ctrl-C. With --key it wants ?key=KEY. It fails as it is told, to see what a page does
then: ` + strings.Join(standin.Failures, ", ") + `.`,
		Example: `  eastporch standin weather --key made-up-key
  curl "http://127.0.0.1:8091/v1/now?lat=38.7&lon=-9.1&key=made-up-key"
  curl -X POST "http://127.0.0.1:8091/failure?kind=503"`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			weather := &standin.Weather{Key: key, Now: time.Now}
			if err := weather.Fail(failure); err != nil {
				return terminal.Usage(fmt.Errorf("--fail: %w", err))
			}
			return serveStandin(cmd.Context(), address, weather, func(at string) {
				fmt.Fprintf(a.Out, "Invented weather at http://%[1]s/v1/now?lat=38.7&lon=-9.1 and http://%[1]s/v1/lake. Ctrl-C stops.\n", at)
			})
		},
	}
	cmd.Flags().StringVar(&address, "address", "127.0.0.1:8091", "where to listen")
	cmd.Flags().StringVar(&key, "key", "", "what it wants as ?key=; none by default")
	cmd.Flags().StringVar(&failure, "fail", "none", "how it fails")
	return cmd
}

func registryCommand(a *terminal.App) *cobra.Command {
	var address string
	cmd := &cobra.Command{
		Use:   "registry",
		Short: "Serve invented open range data: statistics, RPSL, a routing table, geofeeds",
		Long: `Serves what registries and networks publish, invented and small, until Ctrl-C: statistics, a database in RPSL, a
routing table, and geofeeds, good and bad; / lists the files, /open-sources.csv is what atlas starter reads.`,
		Example: `  eastporch standin registry
  eastporch atlas starter --catalog http://127.0.0.1:8093/open-sources.csv`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return serveStandin(cmd.Context(), address, standin.Registry{}, func(at string) {
				fmt.Fprintf(a.Out, "Invented range data is listed at http://%s/. Ctrl-C stops.\n", at)
			})
		},
	}
	cmd.Flags().StringVar(&address, "address", "127.0.0.1:8093", "where to listen")
	return cmd
}

func mailCommand(a *terminal.App) *cobra.Command {
	var address, web, login, failure string
	cmd := &cobra.Command{
		Use:   "mail",
		Short: "Take mails and show them, for notices",
		Long: `Speaks SMTP until Ctrl-C, keeps every mail that it takes, and shows them on a page: a list at /, one at /mails/1,
all of them at /mails.json. No mail leaves it. With --login NAME:PASSWORD it wants that. It fails as it is told: ` + strings.Join(standin.MailFailures, ", ") + `.`,
		Example: `  eastporch standin mail
  eastporch standin mail --login porch:made-up-password
  curl -X POST "http://127.0.0.1:8092/failure?kind=greylist"`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			sink := &standin.Mail{}
			sink.Login, sink.Password, _ = strings.Cut(login, ":")
			if err := sink.Fail(failure); err != nil {
				return terminal.Usage(fmt.Errorf("--fail: %w", err))
			}
			l, err := net.Listen("tcp", address)
			if err != nil {
				return fmt.Errorf("%w; give another with --address", err)
			}
			served := make(chan error, 1)
			go func() { served <- sink.Serve(l) }()
			err = serveStandin(cmd.Context(), web, sink, func(at string) {
				fmt.Fprintf(a.Out, "Mails are taken at %s and shown at http://%s/. Ctrl-C stops.\n", l.Addr(), at)
			})
			sink.Stop()
			return errors.Join(err, l.Close(), <-served)
		},
	}
	cmd.Flags().StringVar(&address, "address", "127.0.0.1:2525", "where to take mails")
	cmd.Flags().StringVar(&web, "web", "127.0.0.1:8092", "where to show them")
	cmd.Flags().StringVar(&login, "login", "", "NAME:PASSWORD that it wants; none by default")
	cmd.Flags().StringVar(&failure, "fail", "none", "how it fails")
	return cmd
}

// serveStandin serves a stand-in until ctx ends.
func serveStandin(ctx context.Context, address string, handler http.Handler, ready func(at string)) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("%w; give another with --address", err)
	}
	ready(l.Addr().String())
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 5 * time.Second}
	done := make(chan error, 1)
	go func() { done <- server.Serve(l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		err := server.Shutdown(stop)
		<-done
		return err
	}
}
