package shelf

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas/compare"
	"eastporch/internal/plot"
)

func atlasAccuracyCommand(a *terminal.App) *cobra.Command {
	var file, png string
	var expect bool
	cmd := &cobra.Command{
		Use:   "accuracy POINTS",
		Short: "Measure the accuracy of an edition against test points",
		Long: `POINTS is a CSV with the columns address, country_code, region_code, city,
latitude and longitude, of which address must be there. Says how often the country
and the town are right, how far off the points are, and how many lie within the
radius that was stated.

With --expect, POINTS has lines of address,country_code (NONE for no country), for
your own checks: the exit code is 1 where one fails.`,
		Example: `  eastporch atlas accuracy test-points.csv
  eastporch atlas accuracy test-points.csv --atlas atlas.edition --plot accuracy.png
  eastporch atlas accuracy expected.csv --expect --atlas atlas.edition`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			if expect {
				return expectAll(a, cmd, f, file)
			}
			var accuracy compare.Accuracy
			if file != "" {
				edition, err := terminal.OpenAtlas(a, file)
				if err != nil {
					return err
				}
				points, rejects, err := compare.ReadTestPoints(f)
				if err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				for _, n := range rejects {
					a.Note(fmt.Sprintf("%s line %d: %s", args[0], n.Line, n.Reason))
				}
				accuracy = compare.Measure(edition, points)
			} else {
				c, err := a.Client()
				if err != nil {
					return err
				}
				if accuracy, err = c.Accuracy(cmd.Context(), "", f); err != nil {
					return err
				}
			}
			if png != "" {
				if err := plot.Accuracy(png, []compare.Accuracy{accuracy}); err != nil {
					return err
				}
				a.Note("The plot is in " + png + ".")
			}
			return terminal.Emit(a, []compare.Accuracy{accuracy}, true, func() { drawAccuracy(a, accuracy) })
		},
	}
	cmd.Flags().StringVar(&file, "atlas", "", "work offline on this edition or source")
	cmd.Flags().StringVar(&png, "plot", "", "draw the share within a distance as a PNG")
	cmd.Flags().BoolVar(&expect, "expect", false, "POINTS has expectations: address,country_code")
	return cmd
}

func expectAll(a *terminal.App, cmd *cobra.Command, f *os.File, file string) error {
	list, err := compare.ReadExpectations(f)
	if err != nil {
		return fmt.Errorf("%s: %w", f.Name(), err)
	}
	var failures []compare.Failure
	if file != "" {
		edition, err := terminal.OpenAtlas(a, file)
		if err != nil {
			return err
		}
		failures = compare.Check(edition, list)
	} else if failures, err = checkAtService(a, cmd, list); err != nil {
		return err
	}
	err = terminal.Emit(a, failures, false, func() {
		if len(failures) == 0 {
			fmt.Fprintf(a.Out, "All %s expectations are met.\n", terminal.Thousands(len(list)))
			return
		}
		t := terminal.NewTable(a.Out, table.Row{"Line", "Address", "Expected", "Found", "Source"}, "Line")
		for _, x := range failures {
			t.AppendRow(table.Row{x.Line, x.Address, x.Expected, x.Found, x.Source})
		}
		t.Render()
	})
	if err == nil && len(failures) > 0 {
		err = fmt.Errorf("%d of %d expectations failed", len(failures), len(list))
	}
	return err
}

func checkAtService(a *terminal.App, cmd *cobra.Command, list []compare.Expectation) ([]compare.Failure, error) {
	c, err := a.Client()
	if err != nil {
		return nil, err
	}
	failures := []compare.Failure{}
	for _, e := range list {
		card, err := c.Address(cmd.Context(), e.Address)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("line %d", e.Line), err)
		}
		found, source := "NONE", ""
		if code := card.Location.CountryCode; code != nil {
			found, source = *code, card.Evidence[0].Source
		}
		if found != e.CountryCode {
			failures = append(failures, compare.Failure{Line: e.Line, Address: e.Address, Expected: e.CountryCode, Found: found, Source: source})
		}
	}
	return failures, nil
}

func drawAccuracy(a *terminal.App, accuracy compare.Accuracy) {
	s := accuracy.All
	fmt.Fprintf(a.Out, "Edition %s against %s test points, of which it locates %s.\n\n", accuracy.Edition, terminal.Thousands(s.Points), terminal.Thousands(s.Located))
	columns := table.Row{"", "Points", "Country right", "Town right", "Median", "90th percentile", "99th", "≤ 10 km", "≤ 50 km", "≤ 250 km", "Inside radius"}
	var figures []string
	for _, c := range columns[1:] {
		figures = append(figures, c.(string))
	}
	t := terminal.NewTable(a.Out, columns, figures...)
	row := func(name string, s compare.Score) {
		t.AppendRow(table.Row{
			name, terminal.Thousands(s.Points), terminal.Share(s.CountryRight), terminal.Share(s.CityRight), terminal.Km(s.Km.P50), terminal.Km(s.Km.P90), terminal.Km(s.Km.P99),
			terminal.Share(s.Within10Km), terminal.Share(s.Within50Km), terminal.Share(s.Within250Km), terminal.Share(s.InsideRadius),
		})
	}
	row("All", s)
	t.AppendRow(table.Row{""})
	for i, c := range accuracy.Countries {
		if i == 12 {
			t.AppendRow(table.Row{fmt.Sprintf("and %d more", len(accuracy.Countries)-i)})
			break
		}
		name := c.Name
		if known, ok := almanac.ByCode(c.Name); ok {
			name = known.Name
		} else if name == "" {
			name = "not said"
		}
		row(name, c)
	}
	t.AppendRow(table.Row{""})
	for _, c := range accuracy.Sources {
		row(c.Name, c)
	}
	t.Render()
	if len(accuracy.Wrong) > 0 {
		fmt.Fprintln(a.Out, "\nThe worst:")
		t := terminal.NewTable(a.Out, table.Row{"Address", "Is in", "Was put into", "Off by", "Source"}, "Off by")
		for _, m := range accuracy.Wrong[:min(len(accuracy.Wrong), 10)] {
			t.AppendRow(table.Row{m.Address, m.True, m.Given, strings.TrimSpace(terminal.Km(m.Km)), m.Source})
		}
		t.Render()
	}
}
