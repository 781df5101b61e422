package records

import (
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/plot"
)

func reportTimelineCommand(a *terminal.App) *cobra.Command {
	var q asked
	var unit, zone string
	cmd := &cobra.Command{
		Use: "timeline", Short: "Visits by units of time, in any zone", Args: cobra.NoArgs,
		Example: "  eastporch report timeline --unit hour --last 24h\n  eastporch report timeline --unit day --last 30d --zone Asia/Tokyo --plot days.png",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, query, err := askLately(a, cmd, &q)
			if err != nil {
				return err
			}
			query.Set("unit", unit)
			if zone != "" {
				query.Set("zone", zone)
			}
			t, err := c.Timeline(cmd.Context(), query)
			if err != nil {
				return err
			}
			if err := plotSteps(a, &q, cmd.Short, t.Rows); err != nil {
				return err
			}
			return terminal.Emit(a, t.Rows, false, func() {
				layout := time.DateOnly
				if t.Unit == "quarter" || t.Unit == "hour" {
					layout = "2006-01-02 15:04"
				}
				drawSteps(a, t.Rows, "Visits", layout)
				fmt.Fprintf(a.Out, "\n%s, %s; times are of %s.%s\n", terminal.Visits(t.Total), from(t.Answered), t.Zone, leftOut(t.Answered))
			})
		},
	}
	q.add(cmd)
	cmd.Flags().StringVar(&unit, "unit", "day", "quarter, hour, day, week or month")
	cmd.Flags().StringVar(&zone, "zone", "", "the time zone that units are of; the site's own by default")
	return cmd
}

func reportVisitorsCommand(a *terminal.App) *cobra.Command {
	var q asked
	cmd := &cobra.Command{
		Use: "visitors", Short: "Distinct visitors by day in UTC", Args: cobra.NoArgs,
		Long: `Distinct visitors by day in UTC, as far as what the site keeps of addresses tells
them apart: under truncation all of a household, and some neighbours, are one. Days
are counted whole. Visits whose visitor was not found are of no visitor.`,
		Example: "  eastporch report visitors --last 14d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, query, err := askLately(a, cmd, &q)
			if err != nil {
				return err
			}
			v, err := c.Visitors(cmd.Context(), query)
			if err != nil {
				return err
			}
			if err := plotSteps(a, &q, cmd.Short, v.Rows); err != nil {
				return err
			}
			return terminal.Emit(a, v.Rows, false, func() {
				drawSteps(a, v.Rows, "Visitors", time.DateOnly)
				whole := ""
				if v.From != nil && v.To != nil {
					whole = fmt.Sprintf("; %s to %s are counted whole", v.From.Format(time.DateOnly), v.To.Add(-1).Format(time.DateOnly))
				}
				fmt.Fprintf(a.Out, "\nDays are of UTC%s. A visitor of two days counts in both.%s\n", whole, leftOut(v.Answered))
			})
		},
	}
	q.add(cmd)
	return cmd
}

// askLately asks for the last 14 days where no time is given.
func askLately(a *terminal.App, cmd *cobra.Command, q *asked) (*client.Client, url.Values, error) {
	if *q.filter["from"] == "" && q.last == "" {
		q.last = "14d"
	}
	return ask(a, cmd, q)
}

func plotSteps(a *terminal.App, q *asked, title string, rows []visit.TimeCount) error {
	if q.plot == "" {
		return nil
	}
	var steps []plot.Step
	for _, r := range rows {
		steps = append(steps, plot.Step{At: r.From, Value: float64(r.Visits)})
	}
	if err := plot.Steps(q.plot, title, steps); err != nil {
		return err
	}
	a.Note("The plot is in " + q.plot + ".")
	return nil
}

func drawSteps(a *terminal.App, rows []visit.TimeCount, head, layout string) {
	most := int64(0)
	for _, r := range rows {
		most = max(most, r.Visits)
	}
	w := terminal.NewTable(a.Out, table.Row{"From", head, ""}, head)
	for _, r := range rows {
		w.AppendRow(table.Row{r.From.Format(layout), terminal.Thousands(r.Visits), barOf(r.Visits, most)})
	}
	w.Render()
}

func reportHoursCommand(a *terminal.App) *cobra.Command {
	var q asked
	cmd := &cobra.Command{
		Use: "hours", Short: "Visits by the hour of the week where the visitors are", Args: cobra.NoArgs,
		Example: "  eastporch report hours --last 30d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, query, err := ask(a, cmd, &q)
			if err != nil {
				return err
			}
			h, err := c.Hours(cmd.Context(), query)
			if err != nil {
				return err
			}
			return terminal.Emit(a, h.Rows, false, func() {
				most := int64(0)
				for _, r := range h.Rows {
					most = max(most, r.Visits)
				}
				fmt.Fprintln(a.Out, "           0     3     6     9     12    15    18    21")
				for day := range 7 {
					sum := int64(0)
					fmt.Fprintf(a.Out, "%-10s ", time.Weekday((day+1)%7))
					for _, r := range h.Rows[day*24 : day*24+24] {
						shade := shades[0]
						if r.Visits > 0 {
							shade = shades[1+int(r.Visits*3/max(1, most))]
						}
						fmt.Fprint(a.Out, strings.Repeat(string(shade), 2))
						sum += r.Visits
					}
					fmt.Fprintf(a.Out, " %8s\n", terminal.Thousands(sum))
				}
				fmt.Fprintf(a.Out, "\n%s at the visitors' own time, %s; the busiest hour has %s.%s\n", terminal.Visits(h.Total), from(h.Answered), terminal.Thousands(most), leftOut(h.Answered))
			})
		},
	}
	q.add(cmd)
	_ = cmd.Flags().MarkHidden("plot")
	return cmd
}

func reportDistancesCommand(a *terminal.App) *cobra.Command {
	var q asked
	var at string
	cmd := &cobra.Command{
		Use: "distances", Short: "How far from a point visits come", Args: cobra.NoArgs,
		Example: "  eastporch report distances --at geo:60.39,5.32 --last 30d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if at == "" {
				return terminal.Usage(errors.New("--at: give the point as a geo URI, such as geo:60.39,5.32"))
			}
			c, query, err := ask(a, cmd, &q)
			if err != nil {
				return err
			}
			query.Set("at", at)
			d, err := c.Distances(cmd.Context(), query)
			if err != nil {
				return err
			}
			return terminal.Emit(a, d.Rows, false, func() {
				most := int64(0)
				for _, r := range d.Rows {
					most = max(most, r.Visits)
				}
				t := terminal.NewTable(a.Out, table.Row{"Kilometres", "Visits", "Share", ""}, "Kilometres", "Visits", "Share")
				for _, r := range d.Rows {
					t.AppendRow(table.Row{fmt.Sprintf("%s to %s", terminal.Thousands(int64(r.FromKm)), terminal.Thousands(int64(r.ToKm))), terminal.Thousands(r.Visits), terminal.SharePercent(r.Share), barOf(r.Visits, most)})
				}
				t.Render()
				if d.MedianKm != nil && d.FarthestKm != nil {
					fmt.Fprintf(a.Out, "\nHalf of %s come from within %s km; the farthest from %s, %s km away.\n",
						terminal.Visits(d.Total), terminal.Thousands(int64(*d.MedianKm)), plain.Value(d.Farthest), terminal.Thousands(int64(*d.FarthestKm)))
				}
				fmt.Fprintln(a.Out, strings.TrimSpace(withoutPlace(d.NoPoint)+leftOut(d.Answered)))
			})
		},
	}
	q.add(cmd)
	cmd.Flags().StringVar(&at, "at", "", "the point, as a geo URI (RFC 5870)")
	_ = cmd.Flags().MarkHidden("plot")
	return cmd
}
