package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/core/checkup"
)

func checkupCommand(a *terminal.App) *cobra.Command {
	return &cobra.Command{
		Use:   "checkup",
		Short: "Check the proxy set-up, and show how to fix it",
		Long: `The service watches which peers send which forwarding headers. This prints its
verdict with the evidence, and the configuration lines that mend what is wrong.`,
		Example: `  eastporch checkup
  eastporch checkup --output json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.Client()
			if err != nil {
				return err
			}
			report, err := c.Checkup(cmd.Context())
			if err != nil {
				return err
			}
			return terminal.Emit(a, []checkup.Result{report}, true, func() { drawCheckup(a, report) })
		},
	}
}

func drawCheckup(a *terminal.App, r checkup.Result) {
	fmt.Fprintf(a.Out, "%s\nFrom %s since %s.\n", r.Title, terminal.Count(r.Requests, "request"), r.Since.Format("2006-01-02 15:04:05 UTC"))
	for _, f := range r.Findings {
		mark := "ok "
		if f.State == checkup.Attention {
			mark = "attention"
		}
		into := "Add to the configuration:"
		if f.Where == checkup.InProxy {
			into = "In the configuration of the proxy:"
		}
		if f.Where == checkup.InShell {
			into = "At the command line:"
		}
		fmt.Fprintf(a.Out, "\n[%s] %s\n", mark, f.Title)
		if f.Text != "" {
			fmt.Fprintf(a.Out, "      %s\n", f.Text)
		}
		if len(f.Lines) > 0 {
			fmt.Fprintf(a.Out, "      %s\n        %s\n", into, strings.Join(f.Lines, "\n        "))
		}
	}
	if len(r.Peers) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	t := terminal.NewTable(a.Out, table.Row{"Peer", "Kind", "Trusted", "Requests", "Visitors", "Headers"}, "Requests", "Visitors")
	for _, p := range r.Peers {
		kind, trusted, headers := "–", "no", []string{}
		if p.Kind != nil {
			kind = p.Kind.String()
		}
		if p.Trusted {
			trusted = "yes"
		}
		for name, n := range p.Headers {
			headers = append(headers, fmt.Sprintf("%s in %d", name, n))
		}
		slices.Sort(headers)
		t.AppendRow(table.Row{p.Peer, kind, trusted, p.Requests, p.Visitors, strings.Join(headers, ", ")})
	}
	t.Render()
}
