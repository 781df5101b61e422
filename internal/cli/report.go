package cli

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/client"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/report"
	"eastporch/internal/plot"
)

// reportKinds are the reports whose lines are things that visits have in common.
var reportKinds = []struct{ name, short, head string }{
	{"countries", "Visits by country", "Country"},
	{"regions", "Visits by region", "Region"},
	{"towns", "Visits by town", "Town"},
	{"zones", "Visits by time zone", "Time zone"},
	{"places", "Visits by place with a point", "Place"},
	{"networks", "Visits by network", "Network"},
	{"paths", "Visits by path", "Path"},
	{"referrers", "Visits by the host that referred", "Referrer"},
	{"languages", "Visits by language", "Language"},
	{"labels", "Visits by label", "Label"},
	{"links", "Visits by link", "Link"},
}

func (a *app) report() *cobra.Command {
	cmd := &cobra.Command{
		Use: "report", Short: "Report on stored visits",
		Long: `Asks questions of stored visits. Visits of bots, monitors and tests are left out,
unless --mark asks for them. A site and times alone are answered from counts, at
once; other filters read rows, of which only so many are read, and it is said.`,
		Example: `  eastporch report countries --from 2026-11-01T00:00:00Z --compare
  eastporch report paths --country-code PT
  eastporch report timeline --unit day --zone Europe/Lisbon --last 30d --plot days.svg
  eastporch report distances --at geo:60.39,5.32`,
	}
	for _, kind := range reportKinds {
		cmd.AddCommand(a.reportBy(kind.name, kind.short, kind.head))
	}
	cmd.AddCommand(a.reportTimeline(), a.reportVisitors(), a.reportHours(), a.reportDistances())
	return cmd
}

// asked are the flags that pick visits.
type asked struct {
	filter map[string]*string
	last   string
	plot   string
}

func (q *asked) add(cmd *cobra.Command) {
	q.filter = visitFlags(cmd)
	cmd.Flags().StringVar(&q.last, "last", "", "instead of --from: this long back, such as 24h or 30d")
	cmd.Flags().StringVar(&q.plot, "plot", "", "draw it into a file too: NAME.png or NAME.svg")
}

// query gives the query of the service, with the first site where none is named.
func (q *asked) query(cmd *cobra.Command, c *client.Client) (url.Values, error) {
	query := url.Values{}
	for name, value := range q.filter {
		if *value != "" {
			query.Set(name, *value)
		}
	}
	if q.last != "" {
		if query.Get("from") != "" {
			return nil, usageError{errors.New("--last: --from is given too; give one of them")}
		}
		back, err := longDuration(q.last)
		if err != nil {
			return nil, usageError{fmt.Errorf("--last: %w", err)}
		}
		query.Set("from", time.Now().Add(-back).UTC().Truncate(time.Minute).Format(time.RFC3339))
	}
	if query.Get("site") != "" {
		return query, nil
	}
	return query, firstSite(cmd, c, query)
}

// ask gives the service and the query of what a command was asked.
func (a *app) ask(cmd *cobra.Command, q *asked) (*client.Client, url.Values, error) {
	c, err := a.client()
	if err != nil {
		return nil, nil, err
	}
	query, err := q.query(cmd, c)
	return c, query, err
}

// longDuration reads a duration, of which days may be the unit.
func longDuration(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		var n int
		if _, err := fmt.Sscanf(days, "%d", &n); err == nil && n > 0 && fmt.Sprint(n) == days {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("%.20q is not a length of time: write it like 90m, 24h or 30d", text)
	}
	return d, nil
}

func (a *app) reportBy(name, short, head string) *cobra.Command {
	var q asked
	var limit int
	var compare, fresh bool
	cmd := &cobra.Command{
		Use: name, Short: short, Args: cobra.NoArgs,
		Example: fmt.Sprintf("  eastporch report %s --last 7d --compare\n  eastporch report %s --limit 10 --output csv", name, name),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, query, err := a.ask(cmd, &q)
			if err != nil {
				return err
			}
			query.Set("limit", fmt.Sprint(limit))
			if compare {
				query.Set("compare", "before")
			}
			if fresh {
				query.Set("new", "true")
			}
			r, err := c.Report(cmd.Context(), name, query)
			if err != nil {
				return err
			}
			if q.plot != "" {
				var bars []plot.Bar
				for _, row := range r.Rows[:min(30, len(r.Rows))] {
					bars = append(bars, plot.Bar{Name: lineName(row), Value: float64(row.Visits)})
				}
				if err := plot.Bars(q.plot, short, bars); err != nil {
					return err
				}
				a.noteln("The plot is in " + q.plot + ".")
			}
			return emit(a, r.Rows, false, func() { a.drawTally(r, head, compare) })
		},
	}
	q.add(cmd)
	cmd.Flags().IntVar(&limit, "limit", 25, "how many lines at the most")
	cmd.Flags().BoolVar(&compare, "compare", false, "put the time before, as long as this one, beside it")
	if name == "countries" {
		cmd.Flags().BoolVar(&fresh, "new", false, "only countries that were first seen in this time")
	}
	return cmd
}

func lineName(r report.Row) string {
	if r.Name == nil {
		return "none"
	}
	return *r.Name
}

// barWidth is that of the longest bar, in characters.
const barWidth = 32

// barOf draws a share of the longest bar to an eighth of a character.
func barOf(value, most int64) string {
	if most <= 0 {
		return ""
	}
	eighths := int(float64(value) / float64(most) * barWidth * 8)
	if value > 0 && eighths == 0 {
		eighths = 1
	}
	bar := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		bar += string([]rune("▏▎▍▌▋▊▉")[rest-1])
	}
	return bar
}

func (a *app) drawTally(r report.Report, head string, compare bool) {
	if len(r.Rows) == 0 {
		fmt.Fprintln(a.Out, "No visit matches."+leftOut(r.Answered))
		return
	}
	most := int64(0)
	for _, row := range r.Rows {
		most = max(most, row.Visits)
	}
	header := table.Row{head, "Visits", "Share"}
	if compare {
		header = append(header, "Before")
	}
	t := newTable(a.Out, append(header, ""), "Visits", "Share", "Before")
	for _, row := range r.Rows {
		line := table.Row{shorten(join(", ", lineName(row), where(row)), 48), thousands(row.Visits), sharePercent(row.Share)}
		if compare && row.Before != nil {
			line = append(line, thousands(*row.Before))
		}
		t.AppendRow(append(line, barOf(row.Visits, most)))
	}
	t.Render()
	rest := ""
	for _, one := range []struct {
		visits int64
		are    string
	}{{r.Rest, "are in lines that are left out"}, {r.Others, "are of others, which are not counted by name"}, {r.Without, "have none"}} {
		if one.visits > 0 {
			rest += fmt.Sprintf(" %s %s.", thousands(one.visits), one.are)
		}
	}
	fmt.Fprintf(a.Out, "\n%s visits, %s.%s%s\n", thousands(r.Total), from(r.Answered), rest, leftOut(r.Answered))
}

// leftOut says how many visits a report does not count, and how to see them.
func leftOut(c report.Answered) string {
	var parts []string
	for _, mark := range slices.Sorted(maps.Keys(c.LeftOut)) {
		parts = append(parts, fmt.Sprintf("%s marked %s", thousands(c.LeftOut[mark]), mark))
	}
	if len(parts) == 0 {
		return ""
	}
	return fmt.Sprintf(" Not counted: %s (see them with --mark).", strings.Join(parts, ", "))
}

// where says in which region and country a town or region lies.
func where(r report.Row) string {
	if r.City != nil || r.RegionCode != nil {
		return plain.Value(r.CountryCode)
	}
	return ""
}

// from says what figures come from.
func from(c report.Answered) string {
	switch {
	case c.Basis == "counts":
		return "from counts"
	case c.Partial:
		return fmt.Sprintf("from the newest %s rows; there are more, which were not read", thousands(c.Scanned-1))
	}
	return fmt.Sprintf("from %s rows", thousands(c.Scanned))
}

func sharePercent(share float64) string { return fmt.Sprintf("%.1f %%", 100*share) }

func (a *app) reportTimeline() *cobra.Command {
	var q asked
	var unit, zone string
	cmd := &cobra.Command{
		Use: "timeline", Short: "Visits by units of time, in any zone", Args: cobra.NoArgs,
		Example: "  eastporch report timeline --unit hour --last 24h\n  eastporch report timeline --unit day --last 30d --zone Asia/Tokyo --plot days.png",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.timeline(cmd, &q, "timeline", func(query url.Values) {
				query.Set("unit", unit)
				if zone != "" {
					query.Set("zone", zone)
				}
			})
		},
	}
	q.add(cmd)
	cmd.Flags().StringVar(&unit, "unit", "day", "quarter, hour, day, week or month")
	cmd.Flags().StringVar(&zone, "zone", "", "the time zone that units are of; the site's own by default")
	return cmd
}

func (a *app) reportVisitors() *cobra.Command {
	var q asked
	cmd := &cobra.Command{
		Use: "visitors", Short: "Distinct visitors by day in UTC", Args: cobra.NoArgs,
		Long: `Distinct visitors by day in UTC, as far as what the site keeps of addresses tells
them apart: under truncation all of a household, and some neighbours, are one.`,
		Example: "  eastporch report visitors --last 14d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.timeline(cmd, &q, "visitors", func(url.Values) {})
		},
	}
	q.add(cmd)
	return cmd
}

func (a *app) timeline(cmd *cobra.Command, q *asked, what string, more func(url.Values)) error {
	if *q.filter["from"] == "" && q.last == "" {
		q.last = "14d"
	}
	c, query, err := a.ask(cmd, q)
	if err != nil {
		return err
	}
	more(query)
	t, err := c.Timeline(cmd.Context(), what, query)
	if err != nil {
		return err
	}
	if q.plot != "" {
		var steps []plot.Step
		for _, r := range t.Rows {
			steps = append(steps, plot.Step{At: r.From, Value: float64(r.Visits)})
		}
		if err := plot.Steps(q.plot, cmd.Short, steps); err != nil {
			return err
		}
		a.noteln("The plot is in " + q.plot + ".")
	}
	return emit(a, t.Rows, false, func() {
		layout := time.DateOnly
		if t.Unit == "quarter" || t.Unit == "hour" {
			layout = "2006-01-02 15:04"
		}
		most := int64(0)
		for _, r := range t.Rows {
			most = max(most, r.Visits)
		}
		head := "Visits"
		if what == "visitors" {
			head = "Visitors"
		}
		w := newTable(a.Out, table.Row{"From", head, ""}, head)
		for _, r := range t.Rows {
			w.AppendRow(table.Row{r.From.Format(layout), thousands(r.Visits), barOf(r.Visits, most)})
		}
		w.Render()
		if what == "visitors" {
			fmt.Fprintln(a.Out, "\nDays are of UTC. A visitor of two days counts in both."+leftOut(t.Answered))
			return
		}
		fmt.Fprintf(a.Out, "\n%s visits, %s; times are of %s.%s\n", thousands(t.Total), from(t.Answered), t.Zone, leftOut(t.Answered))
	})
}

// shades stand for how many, from few to many.
var shades = []rune(" ░▒▓█")

func (a *app) reportHours() *cobra.Command {
	var q asked
	cmd := &cobra.Command{
		Use: "hours", Short: "Visits by the hour of the week where the visitors are", Args: cobra.NoArgs,
		Example: "  eastporch report hours --last 30d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, query, err := a.ask(cmd, &q)
			if err != nil {
				return err
			}
			h, err := c.Hours(cmd.Context(), query)
			if err != nil {
				return err
			}
			return emit(a, h.Rows, false, func() {
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
					fmt.Fprintf(a.Out, " %8s\n", thousands(sum))
				}
				fmt.Fprintf(a.Out, "\n%s visits at their visitors' own time, %s; the busiest hour has %s.%s\n", thousands(h.Total), from(h.Answered), thousands(most), leftOut(h.Answered))
			})
		},
	}
	q.add(cmd)
	_ = cmd.Flags().MarkHidden("plot")
	return cmd
}

func (a *app) reportDistances() *cobra.Command {
	var q asked
	var at string
	cmd := &cobra.Command{
		Use: "distances", Short: "How far from a point visits come", Args: cobra.NoArgs,
		Example: "  eastporch report distances --at geo:60.39,5.32 --last 30d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if at == "" {
				return usageError{errors.New("--at: give the point as a geo URI, such as geo:60.39,5.32")}
			}
			c, query, err := a.ask(cmd, &q)
			if err != nil {
				return err
			}
			query.Set("at", at)
			d, err := c.Distances(cmd.Context(), query)
			if err != nil {
				return err
			}
			return emit(a, d.Rows, false, func() {
				most := int64(0)
				for _, r := range d.Rows {
					most = max(most, r.Visits)
				}
				t := newTable(a.Out, table.Row{"Kilometres", "Visits", "Share", ""}, "Kilometres", "Visits", "Share")
				for _, r := range d.Rows {
					t.AppendRow(table.Row{fmt.Sprintf("%s to %s", thousands(int64(r.FromKm)), thousands(int64(r.ToKm))), thousands(r.Visits), sharePercent(r.Share), barOf(r.Visits, most)})
				}
				t.Render()
				if d.MedianKm != nil && d.FarthestKm != nil {
					fmt.Fprintf(a.Out, "\nHalf of %s visits come from within %s km; the farthest from %s, %s km away.\n",
						thousands(d.Total), thousands(int64(*d.MedianKm)), plain.Value(d.Farthest), thousands(int64(*d.FarthestKm)))
				}
				if n := d.NoPoint.Skipped + d.NoPoint.Unknown; n > 0 {
					fmt.Fprintf(a.Out, "%s more have no point.", thousands(n))
				}
				fmt.Fprintln(a.Out, leftOut(d.Answered))
			})
		},
	}
	q.add(cmd)
	cmd.Flags().StringVar(&at, "at", "", "the point, as a geo URI (RFC 5870)")
	_ = cmd.Flags().MarkHidden("plot")
	return cmd
}

// visitFlags adds the flags that pick visits, by their keys in the API.
func visitFlags(cmd *cobra.Command) map[string]*string {
	filter := map[string]*string{}
	for _, f := range []struct{ flag, usage string }{
		{"site", "the host of the site; the first configured one by default"},
		{"from", "at or after this time (RFC 3339)"},
		{"to", "before this time (RFC 3339)"},
		{"country-code", "from this country (ISO 3166-1)"},
		{"region-code", "from this region (ISO 3166-2)"},
		{"city", "from this town"},
		{"level", "city, region, country, continent or none"},
		{"path", "paths that begin so"},
		{"referrer", "referred by this host"},
		{"language", "with this language (BCP 47)"},
		{"time-zone", "from this time zone"},
		{"network", "from this network, as report networks has it"},
		{"label", "with this label"},
		{"link", "by this link"},
		{"mark", "with this mark: bot, monitor, test or private"},
		{"prefix", "from this address or prefix, of what is kept"},
	} {
		filter[strings.ReplaceAll(f.flag, "-", "_")] = cmd.Flags().String(f.flag, "", f.usage)
	}
	return filter
}
