package shelf

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas/compare"
	"eastporch/internal/core/atlas/source"
	editionfile "eastporch/internal/files/edition"
)

func atlasSampleCommand(a *terminal.App) *cobra.Command {
	var file, city string
	var count int
	var seed uint64
	cmd := &cobra.Command{
		Use:   "sample COUNTRY",
		Short: "Print sample addresses of a country or town",
		Example: `  eastporch atlas sample PT --city Lisbon --count 5
  eastporch atlas sample NO --atlas atlas.edition --seed 7`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			country := strings.ToUpper(args[0])
			if err := almanac.CheckCode(country); err != nil {
				return terminal.Usage(err)
			}
			if count < 1 || count > 1000 {
				return terminal.Usage(errors.New("--count: give 1 to 1000"))
			}
			var list []string
			if file != "" {
				edition, err := terminal.OpenAtlas(a, file)
				if err != nil {
					return err
				}
				for _, ip := range edition.Sample(country, city, count, seed) {
					list = append(list, ip.String())
				}
			} else {
				c, err := a.Client()
				if err != nil {
					return err
				}
				if list, err = c.Samples(cmd.Context(), country, city, count, seed); err != nil {
					return err
				}
			}
			if len(list) == 0 {
				return fmt.Errorf("the edition puts no address into %s", terminal.Join(", ", city, country))
			}
			return terminal.Emit(a, list, false, func() {
				for _, s := range list {
					fmt.Fprintln(a.Out, s)
				}
			})
		},
	}
	cmd.Flags().StringVar(&file, "atlas", "", "work offline on this edition or source")
	cmd.Flags().StringVar(&city, "city", "", "only of this town")
	cmd.Flags().IntVar(&count, "count", 10, "how many")
	cmd.Flags().Uint64Var(&seed, "seed", 1, "another seed gives other addresses")
	return cmd
}

func atlasDiffCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "diff THEN | NOW THEN",
		Short: "Compare two editions",
		Long: `With two files, offline: how many ranges and addresses of the first read
differently in the second, how far they move, and the largest of them. With the
name of an edition of the service: the same against the edition in use, and which
visits of the last 30 days would read differently.`,
		Example: `  eastporch atlas diff october.edition november.edition
  eastporch atlas diff 2026-11-14-c81e90b7`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			var changes api.Changes
			if _, err := os.Stat(args[len(args)-1]); len(args) == 2 && err == nil {
				now, err := terminal.OpenAtlas(a, args[0])
				if err != nil {
					return err
				}
				then, err := terminal.OpenAtlas(a, args[1])
				if err != nil {
					return err
				}
				bar := a.ShareBar("Comparing")
				changes.Changes = compare.Diff(now, then, func(share float64) bool {
					bar.Share(share)
					return cmd.Context().Err() == nil
				})
				bar.Done()
				if err := cmd.Context().Err(); err != nil {
					return err
				}
			} else {
				c, err := a.Client()
				if err != nil {
					return err
				}
				now := ""
				if len(args) == 2 {
					now = args[0]
				}
				if changes, err = c.Changes(cmd.Context(), now, args[len(args)-1]); err != nil {
					return err
				}
			}
			return terminal.Emit(a, []api.Changes{changes}, true, func() { drawChanges(a, changes) })
		},
	}
	return cmd
}

func drawChanges(a *terminal.App, c api.Changes) {
	if c.Ranges == 0 {
		fmt.Fprintf(a.Out, "%s and %s say the same everywhere.\n", c.Now, c.Then)
		return
	}
	fmt.Fprintf(a.Out, "From %s to %s, %s would read differently: %s of the located IPv4 addresses, %s of IPv6.\n",
		c.Now, c.Then, terminal.Count(c.Ranges, "range"), terminal.Fine(c.Share4), terminal.Fine(c.Share6))
	if v := c.Visits; v.Days > 0 { // of a service
		fmt.Fprintf(a.Out, "Of %s in the last %s, %s would, from %s.\n", terminal.Visits(v.Visits), terminal.Count(v.Days, "day"), terminal.Thousands(v.Differently.Visits), terminal.Count(v.Differently.Addresses, "address"))
	}
	if c.Km.P50 != nil {
		fmt.Fprintf(a.Out, "Half of the ranges move by less than %.0f km, nine in ten by less than %.0f km.\n", *c.Km.P50, *c.Km.P90)
	}
	fmt.Fprintln(a.Out)
	t := terminal.NewTable(a.Out, table.Row{"Another", "Ranges", "IPv4 addresses", "IPv6 /48s"}, "Ranges", "IPv4 addresses", "IPv6 /48s")
	for _, d := range compare.ChangeKinds {
		if n := c.Counts[d]; n.Ranges > 0 {
			t.AppendRow(table.Row{map[compare.ChangeKind]string{compare.Moved: "point"}[d] + strings.TrimPrefix(string(d), "moved"), terminal.Thousands(n.Ranges), terminal.Amount(n.IPv4), terminal.Amount(n.IPv6)})
		}
	}
	t.Render()
	fmt.Fprintln(a.Out)
	t = terminal.NewTable(a.Out, table.Row{"Largest", "Now", "Then", "Moves"}, "Moves")
	for _, l := range c.Largest[:min(len(c.Largest), 20)] {
		km := ""
		if l.Km != nil {
			km = fmt.Sprintf("%.0f km", *l.Km)
		}
		t.AppendRow(table.Row{l.Range, l.Now, l.Then, km})
	}
	t.Render()
}

func atlasExportCommand(a *terminal.App) *cobra.Command {
	var file, format string
	var raw bool
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Export an edition as one merged table, or as a geofeed",
		Long: `Writes an edition as one merged table, or as a geofeed. Texts that a spreadsheet
would take for formulas get an apostrophe in front, unless --raw. It exits with 1
where it breaks off: what was written until then is not whole.`,
		Example: `  eastporch atlas export --atlas atlas.edition > merged.csv
  eastporch atlas export --format geofeed > feed.csv`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if format != string(source.CSV) && format != string(source.Geofeed) {
				return terminal.Usage(fmt.Errorf("--format %s is not known: give csv or geofeed", format))
			}
			if file == "" {
				c, err := a.Client()
				if err != nil {
					return err
				}
				return c.ExportEdition(cmd.Context(), format, raw, a.Out)
			}
			edition, err := terminal.OpenAtlas(a, file)
			if err != nil {
				return err
			}
			bar := a.ShareBar("Exporting")
			defer bar.Done()
			return editionfile.Export(edition, a.Out, source.Format(format), raw, bar.Share)
		},
	}
	cmd.Flags().StringVar(&file, "atlas", "", "work offline on this edition or source")
	cmd.Flags().StringVar(&format, "format", "csv", "csv, with every fact, or geofeed")
	cmd.Flags().BoolVar(&raw, "raw", false, "leave texts that look like formulas as they are")
	return cmd
}
