package cli

import (
	"context"
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
	cmd.AddCommand(rates, weatherCommand(a))
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
