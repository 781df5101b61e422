// Package gates has the commands about gates and rehearsals.
package gates

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"eastporch/api"
	"eastporch/internal/cli/documents"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/client"
	"eastporch/internal/core/document"
	"eastporch/internal/core/gate"
)

// Command works with the rules of gates.
func Command(a *terminal.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "gate", Short: "Admit or refuse by country, area, label and network",
		Long: `The gates of a site: ordered rules at a path that admit or refuse by country, group,
region, area, label, kind of address and network. Every gate whose path fits is asked.`,
		Example: `  eastporch gate show --file gates.yaml         # change them in an editor,
  eastporch gate check gates.yaml               # see what is wrong,
  eastporch gate simulate gates.yaml --days 7   # what they would have refused,
  eastporch gate save gates.yaml                # and put them in force`,
	}
	o := &of{documents.Of{App: a}}
	kind := o.kind()
	history := kind.History(a)
	history.Short = "List earlier rules, or go back to them"
	cmd.AddCommand(o.list(), o.show(kind), o.check(), o.save(), o.simulate(), history, o.refusals())
	return cmd
}

// of is what the commands of a site share.
type of struct{ documents.Of }

// kind is how the rules of a site are worked with.
func (o *of) kind() *documents.Kind[gate.Rules, api.GateState] {
	return &documents.Kind[gate.Rules, api.GateState]{
		Kind: document.Gate, Noun: "gate", Command: "gate", Read: gate.ReadRules, Write: gate.WriteRules,
		Get: func(ctx context.Context, c *client.Client, site, _ string) (api.GateState, error) {
			return c.Gate(ctx, site)
		},
		Said: func(s *api.GateState) gate.Rules { return s.Live.Rules },
		Draw: func(_ io.Writer, s *api.GateState) { o.draw(s, s.Live.Rules) },
	}
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
	return o.Flag(&cobra.Command{
		Use: "list", Short: "Show the rules, and what they did in the last 24 hours", Args: cobra.NoArgs,
		Example: "  eastporch gate list",
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, _ []string) error {
			state, err := c.Gate(ctx, site)
			if err != nil {
				return err
			}
			return terminal.Emit(o.App, []api.GateState{state}, true, func() { o.draw(&state, state.Live.Rules) })
		}),
	})
}

// show is the command show, which has the draft too.
func (o *of) show(kind *documents.Kind[gate.Rules, api.GateState]) *cobra.Command {
	var draft bool
	get := kind.Get
	kind.Get = func(ctx context.Context, c *client.Client, site, name string) (api.GateState, error) {
		s, err := get(ctx, c, site, name)
		if err == nil && draft {
			if s.Draft == nil {
				return s, errors.New("there is no draft")
			}
			s.Live.Rules = s.Draft.Rules
		}
		return s, err
	}
	cmd := kind.Shows(o.App)
	cmd.Short = "Show the rules, or write them into a file to edit"
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
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			rules, err := o.read(args[0])
			if err != nil {
				return err
			}
			found, err := c.CheckGate(ctx, site, api.GateCheckRequest{Rules: rules, RefuseEverybody: refuseAll})
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
		}),
	}
	cmd.Flags().BoolVar(&refuseAll, "refuse-everybody", false, "allow lists that admit nobody are meant so")
	return o.Flag(cmd)
}

func (o *of) save() *cobra.Command {
	var refuseAll, draft bool
	cmd := &cobra.Command{
		Use: "save FILE", Short: "Put rules in force", Args: cobra.ExactArgs(1),
		Long: `Replaces all rules of the site by those of a file, as the next revision. gate history
lists revisions and goes back to one.`,
		Example: "  eastporch gate save gates.yaml\n  eastporch gate save gates.yaml --draft   # only for simulations and rehearsals",
		RunE: o.With(func(ctx context.Context, c *client.Client, site string, args []string) error {
			rules, err := o.read(args[0])
			if err != nil {
				return err
			}
			if draft {
				if err := c.SaveGateDraft(ctx, site, rules); err != nil {
					return err
				}
				fmt.Fprintf(o.Out, "The draft of %s is kept; eastporch gate simulate tries it.\n", site)
				return nil
			}
			state, err := c.Gate(ctx, site)
			if err != nil {
				return err
			}
			rev, err := c.SaveGate(ctx, site, api.GateSave{Rules: rules, Revision: state.Live.Revision, RefuseEverybody: refuseAll})
			if err != nil {
				return err
			}
			if state, err = c.Gate(ctx, site); err != nil {
				return err
			}
			return terminal.Emit(o.App, []gate.Revision{rev}, true, func() {
				o.said(rev)
				o.drawFindings(state.Findings)
			})
		}),
	}
	cmd.Flags().BoolVar(&refuseAll, "refuse-everybody", false, "confirm allow lists that admit nobody")
	cmd.Flags().BoolVar(&draft, "draft", false, "keep them as the draft, and leave what is in force")
	return o.Flag(cmd)
}

func (o *of) said(rev gate.Revision) {
	fmt.Fprintf(o.Out, "Revision %d is in force.\n", rev.Revision)
	for _, change := range rev.Changes {
		fmt.Fprintf(o.Out, "  %s\n", change)
	}
}
