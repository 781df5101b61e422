package shelf

import (
	"errors"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/plain"
)

func atlasVisitsCommand(a *terminal.App) *cobra.Command {
	var edition string
	var letter uint32
	cmd := &cobra.Command{
		Use:   "visits",
		Short: "Show how well the addresses of your visits are known",
		Long: `Of the visits of the last 30 days: to which level they are known and on what basis, by country and by
operator; the operators that would help most if they published a geofeed; and the ranges where sources
disagree. --letter AS prints a text to send to one of those operators. Visits whose address was not kept are
counted apart.`,
		Example: `  eastporch atlas visits
  eastporch atlas visits --letter 64500
  eastporch atlas visits --edition 2026-11-01-5f3a2c1d --output json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			v, err := c.VisitCoverage(cmd.Context(), edition)
			if err != nil {
				return err
			}
			if letter != 0 {
				for _, o := range v.Operators {
					if o.ASNumber != nil && uint32(*o.ASNumber) == letter && o.Letter != "" {
						fmt.Fprint(a.Out, o.Letter)
						return nil
					}
				}
				return fmt.Errorf("AS%d is none of the operators whose geofeed would help most", letter)
			}
			return terminal.Emit(a, []api.VisitCoverage{v}, true, func() { drawVisits(a, v) })
		},
	}
	cmd.Flags().StringVar(&edition, "edition", "", "of this edition; by default the one in use")
	cmd.Flags().Uint32Var(&letter, "letter", 0, "print a text to the operator of this AS number")
	return cmd
}

const visitRows = 12

func drawVisits(a *terminal.App, v api.VisitCoverage) {
	share := func(n int) string { return terminal.Percent(float64(n), float64(v.Visits)) }
	fmt.Fprintf(a.Out, "Edition %s, the visits of the last %s: %s with an address", v.Edition, terminal.Count(v.Days, "day"), terminal.Thousands(v.Visits))
	if v.WithoutAddress > 0 {
		fmt.Fprintf(a.Out, ", and %s whose address was not kept", terminal.Thousands(v.WithoutAddress))
	}
	if v.Skipped > 0 {
		fmt.Fprintf(a.Out, "; %s were skipped", terminal.Thousands(v.Skipped))
	}
	fmt.Fprintln(a.Out, ".")
	if v.Visits == 0 {
		return
	}
	fmt.Fprintf(a.Out, "The country of %s is known by registration only.\n\n", share(v.ByRegistration))
	t := terminal.NewTable(a.Out, table.Row{"Known to", "Basis", "Visits", "Share"}, "Visits", "Share")
	for _, l := range v.Levels {
		t.AppendRow(table.Row{l.Level, plain.Value(l.Basis), terminal.Thousands(l.Visits), share(l.Visits)})
	}
	t.Render()
	fmt.Fprintln(a.Out)
	known := func(k api.KnownTo) []any {
		of := func(n int) string { return terminal.Percent(float64(n), float64(k.Visits)) }
		return []any{terminal.Thousands(k.Visits), of(k.City), of(k.ByRegistration), of(k.Unknown)}
	}
	t = terminal.NewTable(a.Out, table.Row{"Country", "Visits", "to a town", "by registration", "unknown"}, "Visits", "to a town", "by registration", "unknown")
	for i, c := range v.Countries {
		if i == visitRows {
			t.AppendRow(table.Row{fmt.Sprintf("and %d more", len(v.Countries)-i)})
			break
		}
		name := "not known"
		if c.CountryCode != nil {
			name = *c.CountryCode
			if country, ok := almanac.ByCode(name); ok {
				name = country.Name + " " + name
			}
		}
		t.AppendRow(append(table.Row{name}, known(c.KnownTo)...))
	}
	t.Render()
	fmt.Fprintln(a.Out)
	t = terminal.NewTable(a.Out, table.Row{"Operator", "Visits", "to a town", "by registration", "unknown", "a geofeed would help"}, "Visits", "to a town", "by registration", "unknown", "a geofeed would help")
	for i, o := range v.Operators {
		if i == visitRows {
			t.AppendRow(table.Row{fmt.Sprintf("and %d more", len(v.Operators)-i)})
			break
		}
		t.AppendRow(append(append(table.Row{operatorName(o)}, known(o.KnownTo)...), terminal.Thousands(o.Gain)))
	}
	t.Render()
	if len(v.Disagreements) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t = terminal.NewTable(a.Out, table.Row{"Sources disagree on", "Visits", "Believed", "Against it"}, "Visits")
	for i, d := range v.Disagreements {
		if i == visitRows {
			t.AppendRow(table.Row{fmt.Sprintf("and %d more", len(v.Disagreements)-i)})
			break
		}
		t.AppendRow(table.Row{d.Range, terminal.Thousands(d.Visits), d.Says + " · " + d.Source, d.Instead + " · " + d.Against})
	}
	t.Render()
}

func operatorName(o api.OperatorKnown) string {
	number := ""
	if o.ASNumber != nil {
		number = fmt.Sprint("AS", *o.ASNumber)
	}
	if name := terminal.Join(" ", terminal.Cut(plain.Value(o.Operator), 40), number); name != "" {
		return name
	}
	return "not known"
}

func atlasFeedsCommand(a *terminal.App) *cobra.Command {
	var state, address string
	cmd := &cobra.Command{
		Use:   "feeds",
		Short: "Show the geofeeds that are gathered",
		Long: `Lists the geofeeds that registries' objects and the configuration name: who names each, how many of its
entries count, how many lie outside of what names it, and when it is asked for again. --address picks the one
that speaks for an address.`,
		Example: `  eastporch atlas feeds
  eastporch atlas feeds --state refused
  eastporch atlas feeds --address 198.18.3.40`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			list, err := c.Feeds(cmd.Context(), state, address)
			if err != nil {
				return err
			}
			if address != "" && len(list.Feeds) == 0 {
				return errors.New("no geofeed speaks for " + address)
			}
			_, job, err := c.Editions(cmd.Context())
			if err != nil {
				return err
			}
			if job.Failed != "" {
				a.Note("The last build failed, so that this may be older, or nothing: " + job.Failed)
			}
			return terminal.Emit(a, list.Feeds, false, func() { drawFeeds(a, list) })
		},
	}
	cmd.Flags().StringVar(&state, "state", "", "only those that are used, failing, lapsed, refused or waiting")
	cmd.Flags().StringVar(&address, "address", "", "only the one that speaks for this address")
	return cmd
}

func drawFeeds(a *terminal.App, list api.FeedList) {
	if len(list.Feeds) == 0 {
		fmt.Fprintln(a.Out, "No geofeeds are gathered: a source with format: gather does it, beside one with format: rpsl.")
		return
	}
	t := terminal.NewTable(a.Out, table.Row{"Feed", "State", "Entries", "Outside", "Rejected", "Named by", "Last good", "Asked again"}, "Entries", "Outside", "Rejected")
	for _, f := range list.Feeds {
		named := ""
		for i, n := range f.Named {
			if i == 1 {
				named += fmt.Sprintf(" and %d more", f.NamedBy-1)
				break
			}
			named = terminal.Join(" ", n.Range, n.Network)
		}
		good, again := "–", "–"
		if f.Good != nil {
			good = f.Good.Format("2006-01-02 15:04")
		}
		if f.Retry != nil {
			again = f.Retry.Format("2006-01-02 15:04")
		}
		t.AppendRow(table.Row{terminal.Cut(f.URL, 60), f.State, terminal.Thousands(f.Entries), terminal.Thousands(f.Outside), terminal.Thousands(f.Rejected), named, good, again})
	}
	t.Render()
	for _, f := range list.Feeds {
		if f.Failed != "" {
			fmt.Fprintf(a.Out, "\n%s: %s\n", f.URL, f.Failed)
		}
		for i, n := range f.Notes {
			if i == 0 {
				fmt.Fprintf(a.Out, "\n%s, what does not count:\n", f.URL)
			}
			fmt.Fprintf(a.Out, "  line %d  %s  %s\n", n.Line, terminal.Cut(n.Text, 50), n.Reason)
		}
	}
}
