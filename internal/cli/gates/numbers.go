package gates

import (
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
)

func (o *of) simulate() *cobra.Command {
	var days int
	cmd := &cobra.Command{
		Use: "simulate [FILE]", Short: "Try rules on stored visits", Args: cobra.MaximumNArgs(1),
		Long: `Decides again about the stored visits of the last days: by the rules of a file, or else
by the draft, and by those in force.`,
		Example: "  eastporch gate simulate gates.yaml --days 30",
		RunE: func(cmd *cobra.Command, args []string) error {
			if days < 1 || days > 92 {
				return terminal.Usage(errors.New("--days: give 1 to 92"))
			}
			req := api.GateSimulationRequest{Days: days}
			if len(args) == 1 {
				rules, err := o.read(args[0])
				if err != nil {
					return err
				}
				req.Rules = &rules
			}
			c, site, err := o.Open(cmd.Context())
			if err != nil {
				return err
			}
			s, err := c.SimulateGate(cmd.Context(), site, req)
			if err != nil {
				return err
			}
			return terminal.Emit(o.App, []api.GateSimulation{s}, true, func() { o.drawSimulation(&s, days) })
		},
	}
	cmd.Flags().IntVar(&days, "days", 7, "how many days back")
	return o.Flag(cmd)
}

func (o *of) drawSimulation(s *api.GateSimulation, days int) {
	fmt.Fprintf(o.Out, "Last %s: %s of %s would be refused; the rules in force would refuse %s.\n", terminal.Count(days, "day"), terminal.Thousands(s.Draft), terminal.Visits(s.Visits), terminal.Thousands(s.Live))
	fmt.Fprintf(o.Out, "The two decide otherwise about %s.\n\n", terminal.Visits(s.Changed))
	if len(s.Countries) > 0 || s.Missing.Draft+s.Missing.Live > 0 {
		t := terminal.NewTable(o.Out, table.Row{"Refused from", "In force", "These", "Of"}, "In force", "These", "Of")
		for _, one := range append(append([]api.GateSimulated{}, s.Countries...), s.Missing) {
			if one.Draft+one.Live > 0 {
				t.AppendRow(table.Row{one.Name, terminal.Thousands(one.Live), terminal.Thousands(one.Draft), terminal.Thousands(one.Visits)})
			}
		}
		t.Render()
		fmt.Fprintln(o.Out)
		t = terminal.NewTable(o.Out, table.Row{"Path", "In force", "These", "Of"}, "In force", "These", "Of")
		for _, one := range s.Paths {
			t.AppendRow(table.Row{terminal.Shorten(one.Name, 50), terminal.Thousands(one.Live), terminal.Thousands(one.Draft), terminal.Thousands(one.Visits)})
		}
		t.Render()
	}
	for _, note := range s.Notes {
		fmt.Fprintln(o.Out, note)
	}
	if s.RefusedRequests > 0 {
		fmt.Fprintf(o.Out, "Really refused in that time: %s.\n", terminal.Count(s.RefusedRequests, "request"))
	}
	if s.LeftOut > 0 {
		fmt.Fprintf(o.Out, "Left out: %s of bots, monitors and tests.\n", terminal.Visits(s.LeftOut))
	}
	if s.Partial {
		fmt.Fprintf(o.Out, "There were more; the newest %s were read.\n", terminal.Thousands(s.Read))
	}
}

func (o *of) refusals() *cobra.Command {
	var days int
	var reference string
	cmd := &cobra.Command{
		Use: "refusals", Short: "Count what was refused, by country, rule and path", Args: cobra.NoArgs,
		Example: "  eastporch gate refusals --days 30\n  eastporch gate refusals --reference 5F2K-81QD   # what somebody who was refused read",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if days < 1 || days > 3660 {
				return terminal.Usage(errors.New("--days: give 1 or more"))
			}
			c, site, err := o.Open(cmd.Context())
			if err != nil {
				return err
			}
			query := url.Values{"site": {site}, "from": {time.Now().AddDate(0, 0, -days).UTC().Format(time.RFC3339)}}
			if reference != "" {
				query.Set("reference", strings.ToUpper(reference))
			}
			r, err := c.GateRefusals(cmd.Context(), query)
			if err != nil {
				return err
			}
			return terminal.Emit(o.App, []api.GateRefusals{r}, true, func() { o.drawRefusals(&r, reference) })
		},
	}
	cmd.Flags().IntVar(&days, "days", 7, "how many days back")
	cmd.Flags().StringVar(&reference, "reference", "", "the refusals that were shown this")
	return o.Flag(cmd)
}

func (o *of) drawRefusals(r *api.GateRefusals, reference string) {
	if reference != "" {
		for _, f := range r.References {
			fmt.Fprintf(o.Out, "%s  %s  %s  %s\n", f.Time.Format(time.DateTime), f.Reference, f.Path, f.Reason)
		}
		if len(r.References) == 0 {
			fmt.Fprintf(o.Out, "No refusal of the last 30 days has the reference %s.\n", strings.ToUpper(reference))
		}
		return
	}
	fmt.Fprintf(o.Out, "%s refused, %s admitted; gates that watch would have refused %s.\n", terminal.Thousands(r.Refused), terminal.Thousands(r.Admitted), terminal.Thousands(r.WouldRefuse))
	for _, part := range []struct {
		head string
		list []api.GateCounted
	}{{"Refused from", r.Countries}, {"By", r.Rules}, {"Path", r.Paths}, {"Without a location", r.Missing}} {
		if len(part.list) == 0 {
			continue
		}
		fmt.Fprintln(o.Out)
		t := terminal.NewTable(o.Out, table.Row{part.head, "Requests"}, "Requests")
		for _, one := range part.list[:min(len(part.list), 20)] {
			t.AppendRow(table.Row{terminal.Shorten(one.Name, 60), terminal.Thousands(one.Requests)})
		}
		t.Render()
	}
}

// status writes the status of a page; a dash where it was not asked.
func status(page *api.RehearsedPage) string {
	if page == nil {
		return "-"
	}
	return strconv.Itoa(page.Status)
}
