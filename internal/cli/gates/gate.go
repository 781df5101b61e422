// Package gates has the commands about gates and rehearsals.
package gates

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/gate"
)

// Command works with the rules of gates.
func Command(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "gate", Short: "Admit or refuse by country, area, label and network",
		Long: `The gates of a site: ordered rules at a path that admit or refuse by country, group,
region, area, label, kind of address and network. Every gate whose path fits is asked.`,
		Example: `  eastporch gate list --rules > gates.yaml      # change them in an editor,
  eastporch gate check gates.yaml               # see what is wrong,
  eastporch gate simulate gates.yaml --days 7   # what they would have refused,
  eastporch gate set gates.yaml                 # and put them in force`,
	}
	var site string
	cmd.PersistentFlags().StringVar(&site, "site", "", "the host of the site; the first configured one by default")
	o := &of{App: a, site: &site}
	cmd.AddCommand(o.list(), o.check(), o.set(), o.simulate(), o.history(), o.refusals())
	return cmd
}

// of is what the commands of a site share.
type of struct {
	*terminal.App
	site *string
}

// open gives the service and the site that a command is about.
func (o *of) open(cmd *cobra.Command) (*client.Client, string, error) {
	c, err := o.Client()
	if err != nil || *o.site != "" {
		return c, *o.site, err
	}
	site, err := o.FirstSite(cmd.Context(), c)
	return c, site, err
}

// read reads a file of rules; - is standard input.
func (o *of) read(file string) (gate.Rules, error) {
	in := o.In
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return gate.Rules{}, err
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, gate.MaxFile+1))
	if err != nil {
		return gate.Rules{}, err
	}
	return gate.ReadRules(text)
}

func (o *of) list() *cobra.Command {
	var rules, draft bool
	cmd := &cobra.Command{
		Use: "list", Short: "Show the rules, and what they did in the last 24 hours", Args: cobra.NoArgs,
		Example: "  eastporch gate list\n  eastporch gate list --rules > gates.yaml",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, site, err := o.open(cmd)
			if err != nil {
				return err
			}
			state, err := c.Gate(cmd.Context(), site)
			if err != nil {
				return err
			}
			shown := state.Live.Rules
			if draft {
				if state.Draft == nil {
					return errors.New("there is no draft")
				}
				shown = state.Draft.Rules
			}
			if rules {
				text, err := gate.WriteRules(shown)
				if err == nil {
					_, err = o.Out.Write(text)
				}
				return err
			}
			return terminal.Emit(o.App, []api.GateState{state}, true, func() { o.draw(&state, shown) })
		},
	}
	cmd.Flags().BoolVar(&rules, "rules", false, "write them as a file for gate set")
	cmd.Flags().BoolVar(&draft, "draft", false, "those of the draft")
	return cmd
}

func (o *of) draw(state *api.GateState, rules gate.Rules) {
	if len(rules.Gates) == 0 {
		fmt.Fprintf(o.Out, "%s has no gates: everybody is admitted.\n", state.Site)
		return
	}
	hits := map[string]int64{}
	for _, h := range state.Hits {
		hits[fmt.Sprintf("%s/%d", h.Gate, h.Rule)] += h.Requests
	}
	for i := range rules.Gates {
		g := &rules.Gates[i]
		if i > 0 {
			fmt.Fprintln(o.Out)
		}
		fmt.Fprintf(o.Out, "%s  %s  %s, %s list\n", g.Name, g.Path, g.Mode, g.List)
		t := terminal.NewTable(o.Out, table.Row{"", "Rule", "24 h"}, "24 h")
		for n := range g.Rules {
			t.AppendRow(table.Row{n + 1, g.Rules[n].Sentence(g.List), terminal.Thousands(hits[fmt.Sprintf("%s/%d", g.Name, n+1)])})
		}
		t.AppendRow(table.Row{"", g.End(), terminal.Thousands(hits[g.Name+"/0"])})
		t.Render()
	}
	fmt.Fprintln(o.Out)
	if e := rules.Exceptions; len(e.Labels)+len(e.Paths) > 0 {
		fmt.Fprintf(o.Out, "Always admitted: %s\n", strings.Join(append(append([]string{}, e.Labels...), e.Paths...), ", "))
	}
	of := map[string]string{gate.AskedRequest: "requests that a proxy or an application asked about", gate.AskedVisit: "visits that were reported"}[state.HitsOf]
	fmt.Fprintf(o.Out, "Revision %d by %s. The counts are of %s.\n", state.Live.Revision, state.Live.MadeBy, of)
	for _, alarm := range state.Alarms {
		fmt.Fprintf(o.Out, "Look: %s\n", alarm.Text)
	}
	o.drawFindings(state.Findings)
}

func (o *of) drawFindings(findings []gate.Finding) {
	for _, f := range findings {
		text := f.Text
		if !strings.HasSuffix(text, "?") {
			text += "."
		}
		fmt.Fprintf(o.Out, "%s: %s: %s %s\n", f.Severity, f.Field, text, f.Hint)
	}
}

func (o *of) check() *cobra.Command {
	var refuseAll bool
	cmd := &cobra.Command{
		Use: "check FILE", Short: "Say what is wrong with rules", Args: cobra.ExactArgs(1),
		Example: "  eastporch gate check gates.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			rules, err := o.read(args[0])
			if err != nil {
				return err
			}
			c, site, err := o.open(cmd)
			if err != nil {
				return err
			}
			found, err := c.CheckGate(cmd.Context(), site, api.GateCheckRequest{Rules: rules, RefuseEverybody: refuseAll})
			if err != nil {
				return err
			}
			err = terminal.Emit(o.App, []api.GateChecked{found}, true, func() {
				o.drawFindings(found.Findings)
				if len(found.Findings) == 0 {
					fmt.Fprintln(o.Out, "Nothing is wrong: no contradiction, no rule that never decides.")
				}
			})
			if err == nil && !found.Usable {
				err = errors.New("these rules cannot be put in force")
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&refuseAll, "refuse-everybody", false, "allow lists that admit nobody are meant so")
	return cmd
}

func (o *of) set() *cobra.Command {
	var refuseAll, draft bool
	cmd := &cobra.Command{
		Use: "set FILE", Short: "Put rules in force", Args: cobra.ExactArgs(1),
		Long: `Replaces all rules of the site by those of a file, as the next revision. gate history
lists revisions and goes back to one.`,
		Example: "  eastporch gate set gates.yaml\n  eastporch gate set gates.yaml --draft   # only for simulations and rehearsals",
		RunE: func(cmd *cobra.Command, args []string) error {
			rules, err := o.read(args[0])
			if err != nil {
				return err
			}
			c, site, err := o.open(cmd)
			if err != nil {
				return err
			}
			if draft {
				if err := c.SaveGateDraft(cmd.Context(), site, rules); err != nil {
					return err
				}
				fmt.Fprintf(o.Out, "The draft of %s is kept; eastporch gate simulate tries it.\n", site)
				return nil
			}
			state, err := c.Gate(cmd.Context(), site)
			if err != nil {
				return err
			}
			rev, err := c.SaveGate(cmd.Context(), site, api.GateSave{Rules: rules, Revision: state.Live.Revision, RefuseEverybody: refuseAll})
			if err != nil {
				return err
			}
			if state, err = c.Gate(cmd.Context(), site); err != nil {
				return err
			}
			return terminal.Emit(o.App, []gate.Revision{rev}, true, func() {
				o.said(rev)
				o.drawFindings(state.Findings)
			})
		},
	}
	cmd.Flags().BoolVar(&refuseAll, "refuse-everybody", false, "confirm allow lists that admit nobody")
	cmd.Flags().BoolVar(&draft, "draft", false, "keep them as the draft, and leave what is in force")
	return cmd
}

func (o *of) said(rev gate.Revision) {
	fmt.Fprintf(o.Out, "Revision %d is in force.\n", rev.Revision)
	for _, change := range rev.Changes {
		fmt.Fprintf(o.Out, "  %s\n", change)
	}
}

func (o *of) history() *cobra.Command {
	var back int64
	var limit int
	cmd := &cobra.Command{
		Use: "history", Short: "List earlier rules, or go back to them", Args: cobra.NoArgs,
		Example: "  eastporch gate history\n  eastporch gate history --return 4",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, site, err := o.open(cmd)
			if err != nil {
				return err
			}
			if cmd.Flags().Changed("return") {
				rev, err := c.ReturnGate(cmd.Context(), site, back)
				if err != nil {
					return err
				}
				return terminal.Emit(o.App, []gate.Revision{rev}, true, func() { o.said(rev) })
			}
			list, err := c.GateHistory(cmd.Context(), site, limit)
			if err != nil {
				return err
			}
			return terminal.Emit(o.App, list, false, func() {
				t := terminal.NewTable(o.Out, table.Row{"Revision", "When", "Who", "What"}, "Revision")
				for _, rev := range list {
					t.AppendRow(table.Row{rev.Revision, rev.MadeAt.Format(time.DateTime), rev.MadeBy, strings.Join(rev.Changes, "\n")})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().Int64Var(&back, "return", 0, "put this revision in force again")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at the most")
	return cmd
}
