// Package companions has the commands about companions.
package companions

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/documents"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/companion"
	"eastporch/internal/core/document"
	"eastporch/internal/core/plain"
)

// Command works with companions.
func Command(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "companions", Short: "Ask services outside with the place of a visitor, never with the address",
		Long: `A companion is a service outside, such as a weather service, that is asked with coarse facts of a visitor:
the place, rounded to a grid, country, time zone, language or currency. Its answer is kept by place, stands
on the card, and may give the page a class. Secrets are files or variables of the service, and never shown.`,
		Example: `  eastporch companions list
  eastporch companions try weather --visitor "Lisbon, PT" --visitor "Oslo, NO"
  eastporch companions show weather --file weather.yaml
  eastporch companions save weather weather.yaml
  eastporch companions off weather`,
	}
	cmd.AddCommand(list(a), try(a), ask(a))
	cmd.AddCommand(kind.Commands(a)...)
	return cmd
}

// kind is how companions are worked with.
var kind = documents.Kind[companion.Said, companion.State]{
	Kind: document.Companion, Noun: "companion", Command: "companions", Example: "weather", Read: companion.ReadFile,
	Get: func(ctx context.Context, c *client.Client, site, name string) (companion.State, error) {
		return c.Companion(ctx, site, name)
	},
	Said: func(s *companion.State) companion.Said { return s.Said },
	Save: func(ctx context.Context, c *client.Client, site, name string, said companion.Said) (companion.State, error) {
		return c.SaveCompanion(ctx, site, name, companion.Save{Said: said})
	},
	Drop: func(ctx context.Context, c *client.Client, site, name string) error {
		return c.DropCompanion(ctx, site, name)
	},
	Draw: describe,
	Turn: func(ctx context.Context, c *client.Client, site string, s companion.State, on bool) (companion.State, error) {
		s.Said.Enabled = on
		return c.SaveCompanion(ctx, site, s.Name, companion.Save{Said: s.Said, Revision: &s.Revision})
	},
}

func list(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	return o.Flag(&cobra.Command{
		Use: "list", Short: "List companions and how they stand", Args: cobra.NoArgs,
		Example: `  eastporch companions list`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, _ []string) error {
			all, err := c.Companions(ctx, site)
			if err != nil {
				return err
			}
			return terminal.Emit(a, all.Companions, false, func() {
				if len(all.Companions) == 0 {
					fmt.Fprintf(a.Out, "%s has no companions. eastporch companions save --help says how to make one.\n", site)
					return
				}
				t := terminal.NewTable(a.Out, table.Row{"Name", "Title", "Stands", "Asked today", "Sends"}, "Asked today")
				for _, s := range all.Companions {
					t.AppendRow(table.Row{s.Name, s.Said.Title, stands(&s), fmt.Sprintf("%s of %s", terminal.Thousands(s.UsedToday), terminal.Thousands(int64(s.Said.ADay))), strings.Join(s.Sends, ", ")})
				}
				t.Render()
			})
		}),
	})
}

// stands says how a companion stands.
func stands(s *companion.State) string {
	out := string(s.Standing)
	if s.Since != nil {
		out += " since " + s.Since.Format("2006-01-02 15:04")
	}
	if s.Reason != nil {
		out += ": " + *s.Reason
	}
	return out
}

// describe says what a companion is, and how it stands.
func describe(out io.Writer, s *companion.State) {
	fmt.Fprintf(out, "%s (%s), %s\n", s.Said.Title, s.Name, stands(s))
	fmt.Fprintf(out, "  asks %s %s\n", s.Said.Method, s.Said.URL)
	fmt.Fprintf(out, "  sends %s; never the visitor's address\n", strings.Join(s.Sends, ", "))
	for _, v := range s.Said.Values {
		fmt.Fprintf(out, "  %s: %s %s\n", v.Name, v.Pointer, v.Unit)
	}
	for _, one := range s.Said.Categories {
		fmt.Fprintf(out, "  %s where %s\n", one.Name, one.When)
	}
	if s.Said.Default != "" {
		fmt.Fprintf(out, "  %s else\n", s.Said.Default)
	}
	fmt.Fprintf(out, "  asked %s of %s today, %d of %d this minute; %d answers are kept\n", terminal.Thousands(s.UsedToday), terminal.Thousands(int64(s.Said.ADay)), s.UsedThisMinute, s.Said.AMinute, s.Places)
	if s.NextTry != nil {
		fmt.Fprintf(out, "  next question at %s\n", s.NextTry.Format("15:04 UTC"))
	}
	if s.Last != nil {
		fmt.Fprintf(out, "The last question, whole: %s\n", s.Last.Describe())
		for line := range strings.Lines(s.Last.Text) {
			fmt.Fprintf(out, "  %s", line)
		}
		fmt.Fprintln(out)
	}
	fmt.Fprintf(out, "On your page: %s\n", s.Snippet)
}

func try(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	var visitors []string
	var file string
	var whole, kept bool
	cmd := &cobra.Command{
		Use: "try NAME", Short: "Ask a companion for made-up visitors, and show what they would see", Args: cobra.ExactArgs(1),
		Long: `Asks the service for up to four visitors: towns with their countries, or addresses, which are looked up by
East Porch and go no farther. The allowance counts it. With --file the companion need not be saved.`,
		Example: `  eastporch companions try weather --visitor "Lisbon, PT" --visitor "Oslo, NO"
  eastporch companions try weather --file weather.yaml --visitor 198.18.3.40 --whole`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			said, err := kind.SaidOf(ctx, a, c, site, args[0], file)
			if err != nil {
				return err
			}
			tries, err := c.TryCompanion(ctx, site, companion.Try{Name: args[0], Said: said, Visitors: visitors, Ask: !kept})
			if err != nil {
				return err
			}
			return terminal.Emit(a, tries.Results, false, func() { results(a, said, tries.Results, whole) })
		}),
	}
	cmd.Flags().StringArrayVar(&visitors, "visitor", []string{"Lisbon, PT", "Oslo, NO", "Mumbai, IN", "Auckland, NZ"}, "a town with its country, or an address; up to four times")
	cmd.Flags().StringVar(&file, "file", "", "what the companion is, instead of what is saved; - for standard input")
	cmd.Flags().BoolVar(&whole, "whole", false, "show the first answer whole, with the pointer to each value")
	cmd.Flags().BoolVar(&kept, "kept", false, "ask nothing: read answers that are kept")
	return o.Flag(cmd)
}

func results(a *terminal.App, said companion.Said, list []companion.Tried, whole bool) {
	head, figures := table.Row{"Visitor", "Category"}, []string{}
	for _, v := range said.Values {
		head, figures = append(head, plain.UpperFirst(v.Name)), append(figures, plain.UpperFirst(v.Name))
	}
	t := terminal.NewTable(a.Out, append(head, "Missing"), figures...)
	for _, r := range list {
		row := table.Row{r.Place, plain.Value(r.Answer.Category)}
		for _, v := range said.Values {
			row = append(row, r.Answer.Human[v.Name])
		}
		t.AppendRow(append(row, why(r.Answer.Missing, said.Values)))
	}
	t.Render()
	if len(list) > 0 && list[0].Question != nil {
		q := list[0].Question
		fmt.Fprintf(a.Out, "The first question, whole: %s\n", q.Describe())
		for line := range strings.Lines(q.Text) {
			fmt.Fprintf(a.Out, "  %s", line)
		}
		fmt.Fprintln(a.Out)
		if whole {
			fmt.Fprintln(a.Out, "Its answer:")
			for _, l := range list[0].Lines {
				fmt.Fprintln(a.Out, strings.TrimRight(fmt.Sprintf("  %-44s %s", strings.Repeat("  ", l.Depth)+l.Before+l.Text+l.After, plain.Value(l.Pointer)), " "))
			}
			if list[0].LinesCut > 0 {
				fmt.Fprintf(a.Out, "  and %d more lines\n", list[0].LinesCut)
			}
		}
	}
	if said.Credit != "" {
		fmt.Fprintf(a.Out, "Show beside it: %s\n", said.Credit)
	}
}

// why gives the reasons for what is missing, each once.
func why(missing map[string]string, values []companion.Pick) string {
	var parts []string
	seen := map[string]bool{}
	add := func(name string) {
		if reason := missing[name]; reason != "" && !seen[reason] {
			seen[reason] = true
			parts = append(parts, reason)
		}
	}
	for _, v := range values {
		add(v.Name)
	}
	add("category")
	return strings.Join(parts, "; ")
}

func ask(a *terminal.App) *cobra.Command {
	o := documents.Of{App: a}
	return o.Flag(&cobra.Command{
		Use: "ask NAME", Short: "Ask a companion that fails again, now", Args: cobra.ExactArgs(1),
		Example: `  eastporch companions ask weather`,
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			s, err := c.AskCompanion(ctx, site, args[0])
			if err != nil {
				return err
			}
			return terminal.Emit(a, []companion.State{s}, true, func() { describe(a.Out, &s) })
		}),
	})
}
