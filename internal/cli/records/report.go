package records

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

	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/atlas"
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
	{"agents", "Visits by the family of the user agent", "User agent"},
	{"bases", "Visits by what their country rests on", "Basis of the country"},
}

// ReportCommand answers questions about many visits.
func ReportCommand(a *terminal.App) *cobra.Command {
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
		cmd.AddCommand(reportByCommand(a, kind.name, kind.short, kind.head))
	}
	cmd.AddCommand(reportTimelineCommand(a), reportVisitorsCommand(a), reportHoursCommand(a), reportDistancesCommand(a))
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
func (q *asked) query(a *terminal.App, cmd *cobra.Command, c *client.Client) (url.Values, error) {
	query := url.Values{}
	for name, value := range q.filter {
		if *value != "" {
			query.Set(name, *value)
		}
	}
	if q.last != "" {
		if query.Get("from") != "" {
			return nil, terminal.Usage(errors.New("--last: --from is given too; give one of them"))
		}
		back, err := longDuration(q.last)
		if err != nil {
			return nil, terminal.Usage(fmt.Errorf("--last: %w", err))
		}
		query.Set("from", time.Now().Add(-back).UTC().Truncate(time.Minute).Format(time.RFC3339))
	}
	if query.Get("site") != "" {
		return query, nil
	}
	return query, firstSite(a, cmd, c, query)
}

// ask gives the service and the query of what a command was asked.
func ask(a *terminal.App, cmd *cobra.Command, q *asked) (*client.Client, url.Values, error) {
	c, err := a.Client()
	if err != nil {
		return nil, nil, err
	}
	query, err := q.query(a, cmd, c)
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

func reportByCommand(a *terminal.App, name, short, head string) *cobra.Command {
	var q asked
	var limit int
	var compare, fresh bool
	cmd := &cobra.Command{
		Use: name, Short: short, Args: cobra.NoArgs,
		Example: fmt.Sprintf("  eastporch report %s --last 7d --compare\n  eastporch report %s --limit 10 --output csv", name, name),
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, query, err := ask(a, cmd, &q)
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
				a.Note("The plot is in " + q.plot + ".")
			}
			return terminal.Emit(a, r.Rows, false, func() { drawTally(a, r, head, compare) })
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

func drawTally(a *terminal.App, r report.Report, head string, compare bool) {
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
	t := terminal.NewTable(a.Out, append(header, ""), "Visits", "Share", "Before")
	for _, row := range r.Rows {
		line := table.Row{terminal.Shorten(terminal.Join(", ", lineName(row), where(row)), 48), terminal.Thousands(row.Visits), terminal.SharePercent(row.Share)}
		if compare && row.Before != nil {
			line = append(line, terminal.Thousands(*row.Before))
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
			rest += fmt.Sprintf(" %s %s.", terminal.Thousands(one.visits), one.are)
		}
	}
	if n := r.ByRegistration; n != nil && *n > 0 {
		rest += fmt.Sprintf(" %s by registration only.", terminal.Percent(float64(*n), float64(r.Total)))
	}
	fmt.Fprintf(a.Out, "\n%s, %s.%s%s\n", terminal.Visits(r.Total), from(r.Answered), rest, withoutPlace(r.NoPoint)+ownLine(leftOut(r.Answered)))
}

// ownLine puts a sentence on a line of its own.
func ownLine(text string) string {
	if text = strings.TrimSpace(text); text != "" {
		return "\n" + text
	}
	return ""
}

// withoutPlace says which visits have no place, and why; "" where all have one.
func withoutPlace(n report.NoPoint) string {
	var parts []string
	for _, one := range []struct {
		visits int64
		words  string
	}{{n.Skipped, "skipped (visits list --skipped)"}, {n.NotFound, "whose visitor was not found"}, {n.Unknown, "unknown to the atlas"}} {
		if one.visits > 0 {
			parts = append(parts, terminal.Thousands(one.visits)+" "+one.words)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "\nWithout a place: " + strings.Join(parts, ", ") + "."
}

// leftOut says how many visits a report does not count, and how to see them.
func leftOut(c report.Answered) string {
	var parts []string
	for _, mark := range slices.Sorted(maps.Keys(c.LeftOut)) {
		parts = append(parts, fmt.Sprintf("%s marked %s", terminal.Thousands(c.LeftOut[mark]), mark))
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
		return fmt.Sprintf("from the newest %s; there are more, which were not read", terminal.Count(c.Scanned-1, "row"))
	}
	return "from " + terminal.Count(c.Scanned, "row")
}

// shades stand for how many, from few to many.
var shades = []rune(" ░▒▓█")

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
		{"basis", "whose country rests on this: " + atlas.BasesInWords()},
		{"path", "paths that begin so"},
		{"referrer", "referred by this host"},
		{"language", "with this language (BCP 47)"},
		{"time-zone", "from this time zone"},
		{"network", "from this network, as report networks has it"},
		{"label", "with this label"},
		{"link", "by this link"},
		{"mark", "with this mark: bot, monitor, preview, repeat, test or private"},
		{"prefix", "from this address or prefix, of what is kept"},
	} {
		filter[strings.ReplaceAll(f.flag, "-", "_")] = cmd.Flags().String(f.flag, "", f.usage)
	}
	return filter
}
