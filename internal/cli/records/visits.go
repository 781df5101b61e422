// Package records has the commands about stored visits and reports.
package records

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
)

// VisitsCommand works with stored visits.
func VisitsCommand(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{Use: "visits", Short: "List, export, import, check and erase visits"}
	cmd.AddCommand(visitsReenrichCommand(a), visitsListCommand(a), visitsTailCommand(a), visitsStateCommand(a), visitsExportCommand(a), visitsImportCommand(a), visitsEraseCommand(a), visitsVerifyCommand(a), visitsQuarantineCommand(a))
	return cmd
}

func visitsReenrichCommand(a *terminal.App) *cobra.Command {
	var since string
	cmd := &cobra.Command{
		Use:   "reenrich",
		Short: "Locate stored visits again, with the edition in use",
		Long: `Makes the cards of stored visits anew from the edition in use. The old reading
stays with each visit. Visits whose address was truncated stay as they are, for
their neighbours may be elsewhere.`,
		Example: "  eastporch visits reenrich --since 2026-11-01T00:00:00Z",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var from time.Time
			if since != "" {
				var err error
				if from, err = time.Parse(time.RFC3339, since); err != nil {
					return terminal.Usage(errors.New("--since: write it like 2026-11-01T00:00:00Z"))
				}
			}
			c, err := a.Client()
			if err != nil {
				return err
			}
			answer, err := c.Reenrich(cmd.Context(), from)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Of %s, %s were read again with edition %s.\n", terminal.Visits(answer.Seen), terminal.Thousands(answer.Reenriched), answer.Edition)
			for _, why := range slices.Sorted(maps.Keys(answer.Kept)) {
				fmt.Fprintf(a.Out, "  %s stay as they are: %s.\n", terminal.Thousands(answer.Kept[why]), why)
			}
			if answer.Seen == 0 {
				fmt.Fprintln(a.Out, "  None came since then: give an earlier time with --since.")
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&since, "since", "", "visits from this time on (RFC 3339); 30 days ago by default")
	return cmd
}

func visitsListCommand(a *terminal.App) *cobra.Command {
	var limit int
	var aside, resolved bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List visits, the newest first",
		Example: `  eastporch visits list --limit 20
  eastporch visits list --country-code PT --from 2026-11-01T00:00:00Z --output ndjson`,
		Args: cobra.NoArgs,
	}
	q := asked{filter: visitFlags(cmd)}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if limit < 1 {
			return terminal.Usage(errors.New("--limit: give 1 or more"))
		}
		c, query, err := ask(a, cmd, &q)
		if err != nil {
			return err
		}
		if aside || resolved {
			query.Set("skipped", fmt.Sprint(aside))
		}
		visits, count, err := readVisits(cmd, c, query, limit)
		if err != nil {
			return err
		}
		cut, err := truncates(cmd, c, query.Get("site"))
		if err != nil {
			return err
		}
		return terminal.Emit(a, visits, false, func() { drawVisits(a, visits, count, cut) })
	}
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at the most")
	cmd.Flags().StringVar(&q.last, "last", "", "instead of --from: this long back, such as 24h or 30d")
	cmd.Flags().BoolVar(&aside, "skipped", false, "only those that were skipped")
	cmd.Flags().BoolVar(&resolved, "resolved", false, "only those that were looked up")
	cmd.MarkFlagsMutuallyExclusive("skipped", "resolved")
	return cmd
}

func firstSite(a *terminal.App, cmd *cobra.Command, c *client.Client, query url.Values) error {
	site, err := a.FirstSite(cmd.Context(), c)
	query.Set("site", site)
	return err
}

func readVisits(cmd *cobra.Command, c *client.Client, query url.Values, limit int) ([]visit.Visit, visit.Count, error) {
	const pageSize = 500
	var visits []visit.Visit
	var count visit.Count
	for cursor := ""; len(visits) < limit; {
		page, err := c.Visits(cmd.Context(), query, cursor, min(pageSize, limit-len(visits)))
		if err != nil {
			return nil, count, err
		}
		visits, count = append(visits, page.Visits...), page.Count
		if page.Next == nil {
			break
		}
		cursor = *page.Next
	}
	return visits, count, nil
}

func drawVisits(a *terminal.App, visits []visit.Visit, count visit.Count, cut bool) {
	if len(visits) == 0 {
		switch count.All {
		case 0:
			fmt.Fprintln(a.Out, "No visits yet.")
		case 1:
			fmt.Fprintln(a.Out, "No visits match these filters; 1 is excluded.")
		default:
			fmt.Fprintf(a.Out, "No visits match these filters; %s are excluded.\n", terminal.Thousands(count.All))
		}
		return
	}
	t := terminal.NewTable(a.Out, table.Row{"Time", "Address", "Place", "Country", "Level", "Within", "Path", "Marks"}, "Within")
	for _, v := range visits {
		w := v.Card.Location
		address, within := addressOf(v, cut), "–"
		if w.RadiusKm != nil {
			within = plain.Decimal(*w.RadiusKm) + " km"
		}
		t.AppendRow(table.Row{
			v.Time.Format(time.DateTime), address, terminal.Place(w), plain.Value(w.CountryCode), w.Level, within, terminal.Shorten(v.Path, 32), marks(v),
		})
	}
	t.Render()
	more := ""
	if count.More {
		more = "more than "
	}
	fmt.Fprintf(a.Out, "\n%s of %s%s matching visits; the site has %s.\n", terminal.Thousands(int64(len(visits))), more, terminal.Thousands(count.Matching), terminal.Thousands(count.All))
}

// truncates says whether a site keeps truncated addresses.
func truncates(cmd *cobra.Command, c *client.Client, host string) (bool, error) {
	sites, err := c.Sites(cmd.Context())
	return slices.ContainsFunc(sites, func(s api.Site) bool { return s.Host == host && s.Privacy == visit.Truncated.String() }), err
}

// addressOf is what is kept of an address: the prefix that is left of it where it was cut.
func addressOf(v visit.Visit, cut bool) string {
	switch a := v.Card.Address.Text; {
	case a.IsValid() && cut && addr.Truncate(a.Addr) == a.Addr:
		return addr.TruncatePrefix(netip.PrefixFrom(a.Addr, a.BitLen())).String()
	case a.IsValid():
		return a.String()
	case v.Card.Address.Placeholder != nil:
		return *v.Card.Address.Placeholder
	}
	return "none"
}

func marks(v visit.Visit) string {
	list := slices.Clone(v.Marks)
	if v.Card.Address.Skipped {
		list = append(list, v.Card.Address.Kind.String()+", skipped")
	}
	if !v.Trail.Visitor.IsValid() && v.Card.Address.Placeholder == nil {
		list = append(list, "not found")
	}
	if n := v.Trail.Unverified(); n > 0 {
		list = append(list, fmt.Sprintf("%d unverified", n))
	}
	return strings.Join(list, "; ")
}
