// Package shelf has the commands about editions of the atlas and corrections.
package shelf

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compare"
)

// AtlasCommand works with editions of the atlas.
func AtlasCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "atlas",
		Short: "Build, inspect, compare and activate editions of range data",
		Long: `An atlas is all sources of range data compiled into one file, an edition, which
is used in place. These commands look at sources, build editions, and compare
them; with --atlas FILE they work offline, else they ask the service.`,
	}
	cmd.AddCommand(atlasDescribeCommand(a), atlasStarterCommand(a), atlasBuildCommand(a), atlasRefreshCommand(a), atlasShowCommand(a), atlasListCommand(a), atlasSampleCommand(a), atlasDiffCommand(a), atlasAccuracyCommand(a), atlasVisitsCommand(a), atlasFeedsCommand(a),
		atlasExportCommand(a), atlasActivateCommand(a), atlasBackCommand(a), atlasPublishCommand(a))
	return cmd
}

func atlasShowCommand(a *terminal.App) *cobra.Command {
	var verify bool
	cmd := &cobra.Command{
		Use:   "show FILE",
		Short: "Show the sources, dates and coverage of an edition file",
		Example: `  eastporch atlas show atlas.edition
  eastporch atlas show atlas.edition --output yaml`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			edition, err := terminal.OpenAtlas(a, args[0])
			if err != nil {
				return err
			}
			checked := ""
			if verify {
				if err := edition.Verify(); err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				checked = "checksums hold"
			}
			coverage := compare.Cover(edition)
			view := showView{Name: edition.Name(), Built: edition.Built(), Coverage: coverage, Credits: edition.Credits(), Checked: checked}
			for _, s := range edition.Sources() {
				view.Sources = append(view.Sources, showSource{s.About, s.Counts})
			}
			return terminal.Emit(a, []showView{view}, true, func() { drawShow(a, view) })
		},
	}
	cmd.Flags().BoolVar(&verify, "verify", true, "compare the checksums")
	return cmd
}

type showView struct {
	Name     string         `json:"name"`
	Built    time.Time      `json:"built"`
	Checked  string         `json:"checked"`
	Sources  []showSource   `json:"sources"`
	Coverage atlas.Coverage `json:"coverage"`
	Credits  []string       `json:"credits"`
}

type showSource struct {
	atlas.About
	atlas.Counts
}

func drawShow(a *terminal.App, v showView) {
	fmt.Fprintf(a.Out, "%s\n\n", terminal.Join(", ", "Edition "+v.Name, "built "+v.Built.Format(time.RFC3339), v.Checked))
	t := terminal.NewTable(a.Out, table.Row{"Rank", "Source", "Basis", "Dated", "IPv4 ranges", "IPv6 ranges", "Licence, credit"}, "Rank", "IPv4 ranges", "IPv6 ranges")
	for _, s := range v.Sources {
		t.AppendRow(table.Row{s.Rank, s.Name, s.Basis, s.Dated, terminal.Thousands(s.Ranges4), terminal.Thousands(s.Ranges6), terminal.Join(" · ", s.Licence, s.Credit)})
	}
	t.Render()
	total := v.Coverage.Total()
	fmt.Fprintf(a.Out, "\nIt locates %s addresses of IPv4 and %s /48s of IPv6.\n\n", terminal.Amount(total.IPv4), terminal.Amount(total.IPv6))
	t = terminal.NewTable(a.Out, table.Row{"Country", "IPv4 addresses", "with a town", "IPv6 /48s", "with a town"}, "IPv4 addresses", "with a town", "IPv6 /48s")
	codes := []string{}
	for code := range v.Coverage.Countries {
		codes = append(codes, code)
	}
	slices.SortFunc(codes, func(x, y string) int {
		p, q := v.Coverage.Countries[x], v.Coverage.Countries[y]
		if p.IPv4+p.IPv6 != q.IPv4+q.IPv6 {
			return map[bool]int{true: -1, false: 1}[p.IPv4+p.IPv6 > q.IPv4+q.IPv6]
		}
		return strings.Compare(x, y)
	})
	for i, code := range codes {
		if i == 15 {
			t.AppendRow(table.Row{fmt.Sprintf("and %d more", len(codes)-i)})
			break
		}
		c, name := v.Coverage.Countries[code], code
		if known, ok := almanac.ByCode(code); ok {
			name = known.Name + " " + code
		}
		t.AppendRow(table.Row{name, terminal.Amount(c.IPv4), terminal.Percent(c.IPv4City, c.IPv4), terminal.Amount(c.IPv6), terminal.Percent(c.IPv6City, c.IPv6)})
	}
	t.Render()
}

func atlasListCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the editions of the service, the newest first",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			list, job, err := c.Editions(cmd.Context())
			if err != nil {
				return err
			}
			return terminal.Emit(a, list, false, func() {
				t := terminal.NewTable(a.Out, table.Row{"Edition", "State", "Built", "IPv4 ranges", "IPv6 ranges", "MB"}, "IPv4 ranges", "IPv6 ranges", "MB")
				for _, e := range list {
					t.AppendRow(table.Row{e.Name, terminal.Join(", ", e.State, e.Unusable), e.Built.Format(time.DateTime), terminal.Thousands(e.Ranges4), terminal.Thousands(e.Ranges6), fmt.Sprintf("%.1f", float64(e.Bytes)/1e6)})
				}
				t.Render()
				if job.Running {
					fmt.Fprintf(a.Out, "\nAnother is being built: %s.\n", job.Doing)
				} else if job.Failed != "" {
					fmt.Fprintf(a.Out, "\nThe last build: %s.\n", job.Failed)
				}
			})
		},
	}
}

// buildPoll is how often a build is looked at.
const buildPoll = 300 * time.Millisecond

func atlasActivateCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "activate EDITION",
		Short: "Activate an edition on the service",
		Long: `Activates an edition of the service: from then on it answers, without a request
failing in between. atlas back goes back to the one before.`,
		Example: "  eastporch atlas activate 2026-11-19-35087e19",
		Args:    cobra.ExactArgs(1),
		RunE:    func(cmd *cobra.Command, args []string) error { return activate(a, cmd.Context(), args[0]) },
	}
}

func atlasBackCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:     "back",
		Short:   "Go back to the edition that was active before",
		Example: "  eastporch atlas back",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return activate(a, cmd.Context(), "") },
	}
}

func activate(a *terminal.App, ctx context.Context, name string) error {
	c, err := a.Client()
	if err != nil {
		return err
	}
	active, err := c.ActivateEdition(ctx, name)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "Edition %s is in use.\n", active)
	return nil
}

func atlasPublishCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "publish",
		Short: "Publish the edition in use to SQL, for the function locate",
		Long: `Fills a table of the service's database with every range of the edition in use, so
that the SQL function locate(inet) answers as the service does, and rows
elsewhere in the database can be enriched by a join. docs/sql.md has examples. It
takes a minute or more for millions of ranges; do it again after a new edition.`,
		Example: "  eastporch atlas publish",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			edition, ranges, err := c.Publish(cmd.Context())
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edition %s answers in SQL: %s ranges. Try SELECT * FROM locate('198.18.3.40').\n", edition, terminal.Thousands(ranges))
			return nil
		},
	}
}
