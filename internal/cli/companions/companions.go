// Package companions has the commands about companions.
package companions

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/companion"
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
  eastporch companions save weather --file weather.yaml
  eastporch companions off weather`,
	}
	cmd.AddCommand(list(a), show(a), save(a), try(a), ask(a), turn(a, "on", true), turn(a, "off", false), drop(a))
	return cmd
}

// of is what most commands begin with: a client, and the site that they are about.
type of struct{ site string }

func (o *of) flag(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVar(&o.site, "site", "", "the host of the site; the first configured one by default")
	return cmd
}

func (o *of) open(ctx context.Context, a *terminal.App) (*client.Client, string, error) {
	c, err := a.Client()
	site := o.site
	if err == nil && site == "" {
		site, err = a.FirstSite(ctx, c)
	}
	return c, site, err
}

func list(a *terminal.App) *cobra.Command {
	var o of
	return o.flag(&cobra.Command{
		Use: "list", Short: "List companions and how they stand", Args: cobra.NoArgs,
		Example: `  eastporch companions list`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, site, err := o.open(cmd.Context(), a)
			if err != nil {
				return err
			}
			all, err := c.Companions(cmd.Context(), site)
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
		},
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

func show(a *terminal.App) *cobra.Command {
	var o of
	var file string
	cmd := &cobra.Command{
		Use: "show NAME", Short: "Show a companion, or write it into a file to edit", Args: cobra.ExactArgs(1),
		Example: `  eastporch companions show weather
  eastporch companions show weather --file weather.yaml`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, site, err := o.open(cmd.Context(), a)
			if err != nil {
				return err
			}
			s, err := c.Companion(cmd.Context(), site, args[0])
			if err != nil {
				return err
			}
			if file != "" {
				text, err := companion.WriteFile(s.Said)
				if err == nil && file != "-" {
					err = os.WriteFile(file, text, 0o644)
				} else if err == nil {
					_, err = a.Out.Write(text)
				}
				return err
			}
			return terminal.Emit(a, []companion.State{s}, true, func() { describe(a.Out, &s) })
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "write it as YAML here; - for standard output")
	return o.flag(cmd)
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

func read(a *terminal.App, file string) (said companion.Said, err error) {
	var text []byte
	if file == "-" {
		text, err = io.ReadAll(a.In)
	} else {
		text, err = os.ReadFile(file)
	}
	if err == nil {
		said, err = companion.ReadFile(text)
	}
	return said, err
}

func save(a *terminal.App) *cobra.Command {
	var o of
	var file string
	cmd := &cobra.Command{
		Use: "save NAME --file FILE", Short: "Make a companion, or change it", Args: cobra.ExactArgs(1),
		Long: `Takes a companion from a file of YAML or JSON; docs/companions.md says what stands there, and
eastporch companions show NAME --file - writes one that there is.`,
		Example: `  eastporch companions save weather --file weather.yaml
  eastporch companions show weather --file - | sed 's/a_day: 1000/a_day: 500/' | eastporch companions save weather --file -`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if file == "" {
				return terminal.Usage(fmt.Errorf("--file: give the file that says what the companion is, or -"))
			}
			said, err := read(a, file)
			if err != nil {
				return err
			}
			c, site, err := o.open(cmd.Context(), a)
			if err != nil {
				return err
			}
			s, err := c.SaveCompanion(cmd.Context(), site, args[0], companion.Save{Said: said})
			if err != nil {
				return err
			}
			return terminal.Emit(a, []companion.State{s}, true, func() { describe(a.Out, &s) })
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "YAML or JSON; - for standard input")
	return o.flag(cmd)
}

func try(a *terminal.App) *cobra.Command {
	var o of
	var visitors []string
	var file string
	var whole, kept bool
	cmd := &cobra.Command{
		Use: "try NAME", Short: "Ask a companion for made-up visitors, and show what they would see", Args: cobra.ExactArgs(1),
		Long: `Asks the service for up to four visitors: towns with their countries, or addresses, which are looked up by
East Porch and go no farther. The allowance counts it. With --file the companion need not be saved.`,
		Example: `  eastporch companions try weather --visitor "Lisbon, PT" --visitor "Oslo, NO"
  eastporch companions try weather --file weather.yaml --visitor 198.18.3.40 --whole`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, site, err := o.open(cmd.Context(), a)
			if err != nil {
				return err
			}
			var said companion.Said
			if file != "" {
				said, err = read(a, file)
			} else {
				var s companion.State
				s, err = c.Companion(cmd.Context(), site, args[0])
				said = s.Said
			}
			if err != nil {
				return err
			}
			tries, err := c.TryCompanion(cmd.Context(), site, companion.Try{Name: args[0], Said: said, Visitors: visitors, Ask: !kept})
			if err != nil {
				return err
			}
			return terminal.Emit(a, tries.Results, false, func() { results(a, said, tries.Results, whole) })
		},
	}
	cmd.Flags().StringArrayVar(&visitors, "visitor", []string{"Lisbon, PT", "Oslo, NO", "Mumbai, IN", "Auckland, NZ"}, "a town with its country, or an address; up to four times")
	cmd.Flags().StringVar(&file, "file", "", "what the companion is, instead of what is saved; - for standard input")
	cmd.Flags().BoolVar(&whole, "whole", false, "show the first answer whole, with the pointer to each value")
	cmd.Flags().BoolVar(&kept, "kept", false, "ask nothing: read answers that are kept")
	return o.flag(cmd)
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
	var o of
	return o.flag(&cobra.Command{
		Use: "ask NAME", Short: "Ask a companion that fails again, now", Args: cobra.ExactArgs(1),
		Example: `  eastporch companions ask weather`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, site, err := o.open(cmd.Context(), a)
			if err != nil {
				return err
			}
			s, err := c.AskCompanion(cmd.Context(), site, args[0])
			if err != nil {
				return err
			}
			return terminal.Emit(a, []companion.State{s}, true, func() { describe(a.Out, &s) })
		},
	})
}

func turn(a *terminal.App, word string, to bool) *cobra.Command {
	var o of
	return o.flag(&cobra.Command{
		Use: word + " NAME", Short: "Switch a companion " + word, Args: cobra.ExactArgs(1),
		Example: `  eastporch companions ` + word + ` weather`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, site, err := o.open(cmd.Context(), a)
			if err != nil {
				return err
			}
			s, err := c.Companion(cmd.Context(), site, args[0])
			if err == nil {
				s.Said.Enabled = to
				s, err = c.SaveCompanion(cmd.Context(), site, args[0], companion.Save{Said: s.Said, Revision: &s.Revision})
			}
			if err != nil {
				return err
			}
			return terminal.Emit(a, []companion.State{s}, true, func() { fmt.Fprintf(a.Out, "%s: %s\n", s.Name, stands(&s)) })
		},
	})
}

func drop(a *terminal.App) *cobra.Command {
	var o of
	return o.flag(&cobra.Command{
		Use: "drop NAME", Short: "Drop a companion", Args: cobra.ExactArgs(1),
		Example: `  eastporch companions drop weather`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, site, err := o.open(cmd.Context(), a)
			if err == nil {
				err = c.DropCompanion(cmd.Context(), site, args[0])
			}
			if err == nil {
				fmt.Fprintf(a.Out, "%s is gone.\n", args[0])
			}
			return err
		},
	})
}
