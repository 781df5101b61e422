package links

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/documents"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/link"
	"eastporch/internal/core/plain"
)

func show(a *terminal.App) *cobra.Command {
	var days, rows int
	var zone, compare, file string
	cmd := &cobra.Command{
		Use: "show CODE", Short: "Say who followed a link, or write it into a file to edit", Args: cobra.ExactArgs(1),
		Long: `Shows a link with its clicks and distinct visitors by day, and clicks by place, country, referrer, user
agent and destination. Days are those of UTC, by which visitors are told apart, unless --zone names another.`,
		Example: "  eastporch links show tickets\n  eastporch links show tickets --days 30 --compare programme --output json\n  eastporch links show tickets --file tickets.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			if days < 1 || days > 400 {
				return terminal.Usage(errors.New("--days: give 1 to 400"))
			}
			c, err := a.Client()
			if err != nil {
				return err
			}
			if file != "" {
				l, err := c.Link(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return documents.Write(a, file, l.Said)
			}
			query := url.Values{"days": {strconv.Itoa(days)}}
			if zone != "" {
				query.Set("zone", zone)
			}
			if compare != "" {
				query.Set("compare", compare)
			}
			r, err := c.Clicks(cmd.Context(), args[0], query)
			if err != nil {
				return err
			}
			if a.Output == "csv" || a.Output == "ndjson" {
				return terminal.Emit(a, r.Of.Days, false, nil)
			}
			return terminal.Emit(a, []link.Report{r}, true, func() { drawReport(a.Out, &r, rows) })
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "write what is said of it as YAML here; - for standard output")
	cmd.Flags().IntVar(&days, "days", 7, "how many days back, with today")
	cmd.Flags().IntVar(&rows, "rows", 10, "how many rows of each table")
	cmd.Flags().StringVar(&zone, "zone", "", "the zone that days are of, an IANA name; UTC by default")
	cmd.Flags().StringVar(&compare, "compare", "", "the code of another link to put beside it")
	return cmd
}

func drawReport(out io.Writer, r *link.Report, most int) {
	of, other := &r.Of, r.Compared
	describe(out, &of.Link)
	fmt.Fprintf(out, "\n%s by %s since %s, days of %s.\n\n", terminal.Count(of.Clicks, "click"), terminal.Count(of.Visitors, "visitor"), r.From.Format("2006-01-02 15:04"), r.Zone)
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		zone = time.UTC
	}
	visitors := func(d link.Day) string {
		if d.Visitors == nil {
			return ""
		}
		return terminal.Thousands(*d.Visitors)
	}
	header, figures := table.Row{"Day", "Clicks", "Visitors"}, []string{"Clicks", "Visitors"}
	if other != nil {
		header = append(header, "Clicks of "+other.Link.Code, "Visitors of "+other.Link.Code)
		figures = append(figures, "Clicks of "+other.Link.Code, "Visitors of "+other.Link.Code)
	}
	t := terminal.NewTable(out, header, figures...)
	for i, d := range of.Days {
		row := table.Row{d.From.In(zone).Format("Mon 02 Jan"), terminal.Thousands(d.Clicks), visitors(d)}
		if other != nil {
			row = append(row, terminal.Thousands(other.Days[i].Clicks), visitors(other.Days[i]))
		}
		t.AppendRow(row)
	}
	t.Render()
	drawPlaces(out, of, most)
	for _, one := range []struct {
		head string
		list []link.Count
	}{{"Country", of.Countries}, {"Referrer", of.Referrers}, {"User agent", of.Agents}, {"Destination", of.Destinations}} {
		drawCounts(out, one.head, one.list, other, most)
	}
	fmt.Fprintln(out)
	fmt.Fprintln(out, leftOut(of))
	if of.Partial {
		fmt.Fprintln(out, "There were more rows than are read.")
	}
}

func drawPlaces(out io.Writer, of *link.Figures, most int) {
	if len(of.Places) == 0 {
		return
	}
	fmt.Fprintln(out)
	t := terminal.NewTable(out, table.Row{"Location", "Level", "Within", "Clicks"}, "Within", "Clicks")
	for _, p := range of.Places[:min(most, len(of.Places))] {
		name, level := cmp.Or(plain.Value(p.Placeholder), plain.Value(p.Name), "none"), p.Place.Level
		if p.Placeholder != nil {
			level = "your word"
		}
		t.AppendRow(table.Row{terminal.Shorten(name, 30), level, terminal.Km(p.Place.RadiusKm), terminal.Thousands(p.Clicks)})
	}
	if more := len(of.Places) - most; more > 0 {
		t.AppendRow(table.Row{fmt.Sprintf("%d more", more), "", "", ""})
	}
	t.Render()
}

func drawCounts(out io.Writer, head string, list []link.Count, other *link.Figures, most int) {
	if len(list) == 0 {
		return
	}
	fmt.Fprintln(out)
	header, figures := table.Row{head, "Clicks"}, []string{"Clicks"}
	beside := map[string]int64{}
	if head == "Country" && other != nil {
		header, figures = append(header, "Of "+other.Link.Code), append(figures, "Of "+other.Link.Code)
		for _, one := range other.Countries {
			beside[one.Key] = one.Clicks
		}
	}
	t := terminal.NewTable(out, header, figures...)
	for _, one := range list[:min(most, len(list))] {
		row := table.Row{terminal.Shorten(cmp.Or(one.Name, "none"), 40), terminal.Thousands(one.Clicks)}
		if len(header) > 2 {
			row = append(row, terminal.Thousands(beside[one.Key]))
		}
		t.AppendRow(row)
	}
	if more := len(list) - most; more > 0 {
		t.AppendRow(table.Row{fmt.Sprintf("%d more", more), ""})
	}
	t.Render()
}

// leftOut says what is not in the figures.
func leftOut(of *link.Figures) string {
	var parts []string
	for _, mark := range slices.Sorted(maps.Keys(of.LeftOut)) {
		word := mark
		if of.LeftOut[mark] != 1 {
			word += "s"
		}
		parts = append(parts, fmt.Sprintf("%s %s", terminal.Thousands(of.LeftOut[mark]), word))
	}
	text := "Left out: nothing."
	if len(parts) > 0 {
		text = "Left out: " + strings.Join(parts, ", ") + "."
	}
	if n := of.Link.ClicksNotRecorded; n > 0 {
		text += fmt.Sprintf(" Not recorded, in all its time: %s.", terminal.Count(n, "click"))
	}
	return text
}
