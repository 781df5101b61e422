package cli

import (
	"context"
	"fmt"
	"net"
	"net/http"
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
			l, err := net.Listen("tcp", address)
			if err != nil {
				return fmt.Errorf("%w; give another with --address", err)
			}
			fmt.Fprintf(a.Out, "Invented rates at http://%[1]s/rates.json and http://%[1]s/rates.csv. Ctrl-C stops.\n", l.Addr())
			server := &http.Server{Handler: standin.Rates(time.Now), ReadHeaderTimeout: 5 * time.Second}
			done := make(chan error, 1)
			go func() { done <- server.Serve(l) }()
			select {
			case err := <-done:
				return err
			case <-cmd.Context().Done():
				stop, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), time.Second)
				defer cancel()
				err := server.Shutdown(stop)
				<-done
				return err
			}
		},
	}
	rates.Flags().StringVar(&address, "address", "127.0.0.1:8090", "where to listen")
	cmd.AddCommand(rates)
	return cmd
}
