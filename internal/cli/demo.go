package cli

import (
	"context"
	"fmt"
	"net/url"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/config"
	"eastporch/internal/core/report"
	"eastporch/internal/demo"
	"eastporch/internal/server"
	"eastporch/internal/server/access"
	"eastporch/internal/server/httpapi"
)

func demoCommand(a *terminal.App) *cobra.Command {
	var dir string
	var visits int
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with the Heron Lake Regatta, an invented scenario",
		Long: `Runs the service with invented networks, and sends it about a thousand invented
visits of the 30 days before its first start through its HTTP interface, once. Everything stands
in one directory, which may be deleted. Takes free ports where the usual ones
are in use. Ctrl-C stops everything.`,
		Example: `  eastporch demo
  eastporch demo --dir /tmp/regatta --visits 200`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if visits < 0 || visits > 100_000 {
				return terminal.Usage(fmt.Errorf("--visits %d: give 0 to 100000", visits))
			}
			file, err := demo.Write(dir)
			if err != nil {
				return err
			}
			in := config.Input{File: file, Getenv: a.Getenv, Flags: map[string]any{"data_dir": filepath.Join(dir, "data")}}
			cfg, err := config.Load(in)
			if err != nil {
				return err
			}
			return runServer(a, cmd.Context(), cfg, in, true, func(ctx context.Context, s *server.Server) error {
				return fillDemo(a, ctx, s, file, visits)
			})
		},
	}
	cmd.Flags().StringVar(&dir, "dir", config.DefaultDataDir(a.Getenv, "eastporch-demo"), "where everything is kept")
	cmd.Flags().IntVar(&visits, "visits", 1000, "how many visits to send, where there are not as many yet")
	return cmd
}

// openSite serves the regatta's own page.
func openSite(a *terminal.App, ctx context.Context, s *server.Server, c *client.Client) (string, error) {
	page, err := demo.NewPage(func(ctx context.Context) (report.Report, error) {
		return c.Report(ctx, "countries", url.Values{"site": {demo.Site}})
	})
	if err != nil {
		return "", err
	}
	key, err := s.Key(ctx, "the regatta's page", access.Server)
	if err != nil {
		return "", err
	}
	at, _, err := demo.StartSite(ctx, demo.SiteAddress, s.URL(httpapi.PublicListener), key, page) // it ends with ctx
	return at, err
}

// fillDemo signs this machine's command line in, sends the invented visits,
// once, and says where to look.
func fillDemo(a *terminal.App, ctx context.Context, s *server.Server, file string, visits int) error {
	admin := s.URL(httpapi.AdminListener)
	key, err := s.Key(ctx, "the demo's command line", access.Admin)
	if err != nil {
		return err
	}
	if err := terminal.KeepKey(a.Store, admin, key); err != nil {
		return err
	}
	c, err := client.New(admin, key, nil)
	if err != nil {
		return err
	}
	progress := func(done, all int) {
		if done%100 == 0 || done == all {
			a.Note(fmt.Sprintf("visits sent: %d of %d", done, all))
		}
	}
	until, err := demo.Until(filepath.Dir(file), time.Now())
	if err != nil {
		return err
	}
	if err := demo.Send(ctx, c, demo.Visits(demo.Seed, visits, until), progress); err != nil {
		return err
	}
	if err := demo.Gates(ctx, c); err != nil {
		return err
	}
	if err := demo.Links(ctx, c); err != nil {
		return err
	}
	if err := demo.SendClicks(ctx, c, demo.Clicks(demo.Seed, visits*2/5, until), func(int, int) {}); err != nil {
		return err
	}
	demo.Follow(ctx, s.URL(httpapi.PublicListener), demo.Seed)
	secret, err := demo.WeatherKey(filepath.Dir(file))
	if err != nil {
		return err
	}
	weather, _, err := demo.StartWeather(ctx, demo.WeatherAddress, secret) // it ends with ctx
	if err == nil {
		err = demo.Companions(ctx, c, weather)
	}
	if err != nil {
		return err
	}
	mailAt, mailPage, sink, err := demo.StartMail(ctx) // it ends with ctx
	if err == nil {
		err = demo.Notices(ctx, c, mailAt, mailPage, sink.Password)
	}
	if err != nil {
		return err
	}
	// Two weeks later: a newer feed, whose edition waits to be looked at.
	if err := demo.WriteNext(filepath.Dir(file)); err != nil {
		return err
	}
	if err := c.BuildEdition(ctx); err != nil {
		return err
	}
	site, err := openSite(a, ctx, s, c)
	if err != nil {
		return err
	}
	link, err := s.Link(ctx)
	if err != nil {
		return err
	}
	elsewhere := ""
	if admin != "http://127.0.0.1:8081" {
		elsewhere = " --server " + admin
	}
	fmt.Fprintf(a.Out, `Settings  %s
Key       kept in %s for this machine's command line

Open the console, signed in; the link is good once, within an hour:
  %s

The regatta's own page, in the visitor's language, time and money:
  %s

The invented weather of its companions fails when it is told to: slow, 503, html, none, ...
  curl -X POST "http://%[6]s/failure?kind=503"

The mails of its notices, which go nowhere else:
  http://%[7]s/

In another terminal:
  bin/eastporch visits tail%[5]s
  bin/eastporch report countries%[5]s
  bin/eastporch links show tickets%[5]s
  bin/eastporch notices ask where-is 198.18.3.40 --to ida@crew.example%[5]s
  bin/eastporch resolve 198.18.3.40%[5]s
Ctrl-C stops everything.
`, file, a.Store, link, site, elsewhere, weather, mailPage)
	go demo.SendVisits(ctx, c, s.URL(httpapi.PublicListener), uint64(time.Now().UnixNano())) // it ends with ctx, and nothing waits for it
	return nil
}
